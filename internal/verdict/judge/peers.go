package judge

import (
	"fmt"
	"slices"

	"zitherwheel/internal/verdict/rulebook"
)

// AmongPeers makes one verdict of those that each had another view for their
// reference: verdicts[i] is held against peers[i]. A finding counts for the view
// that most others disagree with; where one disagrees with one, it cannot be told
// who is right, and both are named. The server may be among them: it is asked, no finding
// is about it, and whoever agrees with it is not the odd one out.
func AmongPeers(peers []string, verdicts []*Verdict) *Verdict {
	d := &Verdict{Outcome: InSync, Alignment: "shared", Reference: rulebook.NoReference, Incidents: []Incident{}, Findings: []*Finding{}, Events: []*EventReport{}}
	for _, v := range verdicts {
		d.From, d.To = v.From, max(d.To, v.To)
		d.Comparisons += v.Comparisons
		d.Excused += v.Excused
		d.Doubtful += v.Doubtful
	}
	for _, dispute := range disputes(peers, verdicts) {
		if f := dispute.settled(peers); f != nil {
			d.Findings = append(d.Findings, f)
		}
	}
	for i, name := range peers {
		if name == rulebook.Server {
			continue
		}
		d.Views = append(d.Views, peerReport(name, i, verdicts))
	}
	if len(verdicts) > 0 {
		d.Rules = peerRules(verdicts, d.Findings)
		d.Alignment, d.Ending, d.Strict, d.Packets = verdicts[0].Alignment, verdicts[0].Ending, verdicts[0].Strict, verdicts[0].Packets
	}
	d.number(func() { d.warnAmongPeers(verdicts) })
	return d
}

// dispute is a finding about a view, with the views that it was found against.
type dispute struct {
	finding *Finding
	against []string
}

// disputes puts together what the verdicts say about the same entity in the same view at
// the same time.
func disputes(peers []string, verdicts []*Verdict) (list []*dispute) {
	for i, v := range verdicts {
		for _, f := range v.Findings {
			k := slices.IndexFunc(list, func(o *dispute) bool {
				g := o.finding
				return g.View == f.View && g.Entity == f.Entity && g.Subject == f.Subject && f.BeganAt <= g.EndedAt+Seconds(g.settle) && g.BeganAt <= f.EndedAt+Seconds(f.settle)
			})
			if k < 0 {
				list = append(list, &dispute{f, []string{peers[i]}})
			} else if !slices.Contains(list[k].against, peers[i]) {
				list[k].against = append(list[k].against, peers[i])
			}
		}
	}
	return list
}

// settled is the finding if more than half of the other views disagree with it, or if it
// is one that nobody disputes; otherwise nil.
func (o *dispute) settled(peers []string) *Finding {
	f, others := o.finding, len(peers)-1
	switch {
	case f.Kind == Crashed || f.Kind == LogBroken || f.overall() == 1:
		return f
	case 2*len(o.against) <= others:
		return nil
	case slices.Contains(peers, rulebook.Server) && !slices.Contains(o.against, rulebook.Server):
		return nil
	}
	f.Why = fmt.Sprintf("%s; %d of the %d other views disagree with it", f.Why, len(o.against), others)
	return f
}

// peerReport is what all verdicts but its own say of a view.
func peerReport(name string, own int, verdicts []*Verdict) ViewReport {
	merged := ViewReport{Name: name}
	for i, v := range verdicts {
		for _, r := range v.Views {
			if r.Name != name || i == own {
				continue
			}
			merged.Records, merged.From, merged.To, merged.Judged, merged.Stays, merged.Entities = r.Records, r.From, r.To, r.Judged, r.Stays, max(merged.Entities, r.Entities)
			merged.Comparisons += r.Comparisons
			if r.Ticks != nil && (merged.Ticks == nil || r.Ticks.Compared > merged.Ticks.Compared) {
				merged.Ticks = r.Ticks // beside the view with which it has most in common
			}
			merged.Excused += r.Excused
		}
	}
	return merged
}

// peerRules adds up what the verdicts say of each rule.
func peerRules(verdicts []*Verdict, findings []*Finding) (list []RuleReport) {
	for i, r := range verdicts[0].Rules {
		for _, v := range verdicts[1:] {
			r.Fits += v.Rules[i].Fits
		}
		r.Findings = 0
		for _, f := range findings {
			if f.rule != nil && f.Subject == (Subject{Name: r.Fields}) && f.rule.Entities == r.Entities {
				r.Findings++
			}
		}
		list = append(list, r)
	}
	return list
}

// warnAmongPeers keeps the warnings that no verdict contradicts: each view is left out
// of one, as its reference.
func (d *Verdict) warnAmongPeers(verdicts []*Verdict) {
	d.Warnings = []Warning{}
	if len(verdicts) == 0 {
		return
	}
	said := map[Warning]int{}
	for _, v := range verdicts {
		for _, w := range v.Warnings {
			by := len(verdicts) // whose verdicts say so, if it is right
			if w.View != "" {
				by-- // in one it is the reference
			}
			if said[w]++; said[w] == by {
				d.Warnings = append(d.Warnings, w)
			}
		}
	}
}
