package judge

import (
	"fmt"
	"slices"

	"zitherwheel/internal/verdict/rulebook"
)

// AmongPeers makes one verdict of those that each had another view for their
// reference: verdicts[i] is held against peers[i]. A finding counts for the view
// that most others disagree with; where one disagrees with one, it cannot be told
// who is right, and both are named.
func AmongPeers(peers []string, verdicts []*Verdict) *Verdict {
	d := &Verdict{Outcome: InSync, Alignment: "shared", Reference: rulebook.NoReference, Incidents: []Incident{}, Findings: []*Finding{}, Events: []*EventReport{}}
	type disputed struct {
		finding *Finding
		against []string
	}
	var disputes []*disputed
	for i, v := range verdicts {
		d.From, d.To = v.From, max(d.To, v.To)
		d.Comparisons += v.Comparisons
		d.Excused += v.Excused
		d.Doubtful += v.Doubtful
		for _, f := range v.Findings {
			k := slices.IndexFunc(disputes, func(o *disputed) bool {
				g := o.finding
				return g.View == f.View && g.Entity == f.Entity && g.Subject == f.Subject && f.BeganAt <= g.EndedAt+Seconds(g.settle) && g.BeganAt <= f.EndedAt+Seconds(f.settle)
			})
			if k < 0 {
				disputes = append(disputes, &disputed{f, []string{peers[i]}})
			} else if !slices.Contains(disputes[k].against, peers[i]) {
				disputes[k].against = append(disputes[k].against, peers[i])
			}
		}
	}
	for _, o := range disputes {
		if o.finding.Kind == Crashed || o.finding.overall() == 1 { // nobody disputes that
			d.Findings = append(d.Findings, o.finding)
			continue
		}
		if others := len(peers) - 1; 2*len(o.against) > others {
			o.finding.Why = fmt.Sprintf("%s; %d of the %d other views disagree with it", o.finding.Why, len(o.against), others)
			d.Findings = append(d.Findings, o.finding)
		}
	}
	for i, name := range peers {
		merged := ViewReport{Name: name}
		for k, v := range verdicts {
			for _, r := range v.Views {
				if r.Name != name || k == i {
					continue
				}
				merged.Records, merged.From, merged.To, merged.Judged, merged.Entities = r.Records, r.From, r.To, r.Judged, max(merged.Entities, r.Entities)
				merged.Comparisons += r.Comparisons
				merged.Excused += r.Excused
			}
		}
		d.Views = append(d.Views, merged)
	}
	if len(verdicts) > 0 {
		for i, r := range verdicts[0].Rules {
			for _, v := range verdicts[1:] {
				r.Fits += v.Rules[i].Fits
			}
			r.Findings = 0
			for _, f := range d.Findings {
				if f.rule != nil && f.Subject == (Subject{Name: r.Fields}) && f.rule.Entities == r.Entities {
					r.Findings++
				}
			}
			d.Rules = append(d.Rules, r)
		}
	}
	if len(verdicts) > 0 {
		d.Ending, d.Strict, d.Packets = verdicts[0].Ending, verdicts[0].Strict, verdicts[0].Packets
	}
	d.number(func() { d.warnAmongPeers(verdicts) })
	return d
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
