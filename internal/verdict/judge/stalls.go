package judge

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"time"

	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Programs that are given no processor fall behind, and what they show is then late, jumps or
// is gone for a moment. That says something of the machine and nothing of the game. So what a
// stall explains is set aside: it is no finding, and it is told. A match with much of it is
// no pass either, because what else went wrong in it cannot be told from it.

// ofStalls are what a stall can bring about, if it heals when the machine has had time to
// recover. What never heals, and what no delay makes, stays a finding.
var ofStalls = []Kind{
	Missing, Ghost, Frozen, NeverSent, Skipped, OutOfOrder, Inverted, Rate, Late, ClockShift, Creeping, Clamped, Noisy, Drift, Quantised,
	SplitOwner, NoOwner, Teleports, Offset, NoRelation, EventLate, EventMisorder, Broken,
}

const (
	asideTold     = 5    // findings set aside that are told one by one
	asideAtMost   = 2    // more than so many, and the match is no pass
	stoodAtMost   = 0.05 // of the match: likewise, if anything is set aside
	stoodTooLong  = 0.2  // of the match: it is no pass, whatever came of it
	stoodMeasured = 0.01 // of the match: from here on a figure over all of it tells of the machine
)

// SetAside takes from the findings what stalls of the machine explain. The rules are those by
// which the match was judged.
func (d *Verdict) SetAside(t *metrics.Timing, rules *rulebook.Rules) {
	if t == nil || len(t.Moments) == 0 {
		return
	}
	length := time.Duration(d.To - d.From)
	d.Findings = slices.DeleteFunc(d.Findings, func(f *Finding) bool {
		stall, explains := f.stalled(t, rules, length)
		if explains {
			f.Stall = &stall
			d.Aside = append(d.Aside, f)
		}
		return explains
	})
	tooLong := t.Stood("") > time.Duration(stoodTooLong*float64(length))
	if d.Aside == nil && !tooLong {
		return
	}
	for i, f := range d.Aside {
		f.ID = "S" + strconv.Itoa(i+1)
	}
	for i := range d.Rules {
		r := &d.Rules[i]
		for _, f := range d.Aside {
			if f.rule != nil && f.rule.Name() == r.Name() {
				r.Findings--
			}
		}
	}
	d.number(func() {
		list := d.asideWarnings(t, length)
		if tooLong {
			list = append([]Warning{{Grave: true, Text: fmt.Sprintf("%s of %s, so what was compared says little", t.StoodFor(""), Seconds(length))}}, list...)
		}
		d.Warnings = append(list, d.Warnings...)
	})
}

func (d *Verdict) asideWarnings(t *metrics.Timing, length time.Duration) (list []Warning) {
	much := len(d.Aside) > asideAtMost || t.Stood("") > time.Duration(stoodAtMost*float64(length))
	for i, f := range d.Aside {
		if i == asideTold {
			return append(list, Warning{Grave: true, Text: fmt.Sprintf("set aside: %d more of the kind, told in findings.json", len(d.Aside)-i)})
		}
		w := Warning{View: f.View, Grave: much}
		if f.Subject.About == AboutMeasure { // nobody knows whether the limit was kept
			w.Grave = true
			w.Text = fmt.Sprintf("set aside: in %s %s; but %s of %s", f.View, f.Why, t.StoodFor(f.View), Seconds(length))
		} else {
			what := string(f.Kind)
			if f.Entity != "" {
				what += " " + f.Entity
			}
			w.Text = fmt.Sprintf("set aside: %s (%s) in %s, %s to %s; but %s", what, f.Subject, f.View, f.BeganAt, f.EndedAt, f.Stall)
		}
		list = append(list, w)
	}
	return list
}

// stalled finds the stall that explains a finding, the longest if there are several.
func (f *Finding) stalled(t *metrics.Timing, rules *rulebook.Rules, length time.Duration) (longest metrics.Stall, explains bool) {
	measured := f.Subject.About == AboutMeasure
	if !measured && (!slices.Contains(ofStalls, f.Kind) || f.Open) {
		return longest, false
	}
	allowed := f.allowed(rules)
	var felt []metrics.Stall
	for _, s := range t.Moments {
		until := s.To + s.Stood + Seconds(allowed+metrics.Recovery)
		if s.Concerns(f.View) && f.BeganAt <= until && f.EndedAt >= s.From-Seconds(allowed) {
			felt = append(felt, s)
		}
	}
	if len(felt) == 0 {
		return longest, false
	}
	longest = slices.MaxFunc(felt, func(a, b metrics.Stall) int { return cmp.Compare(a.Stood, b.Stood) })
	if measured {
		return longest, metrics.Stallable(f.Subject.Name) && t.Stood(f.View) >= time.Duration(stoodMeasured*float64(length))
	}
	var stood time.Duration
	for _, s := range felt {
		stood += time.Duration(s.Stood)
	}
	return longest, time.Duration(f.EndedAt-f.BeganAt) <= stood+allowed+metrics.Recovery
}

// allowed is how late the rule lets be what the finding is about.
func (f *Finding) allowed(rules *rulebook.Rules) time.Duration {
	if f.rule != nil {
		return f.rule.MaxDelay + f.rule.MaxAhead
	}
	if f.Subject.About == AboutEvent {
		if r := rulebook.FindEvent(rules.Events, f.Subject.Name); r != nil {
			return r.MaxDelay + r.MaxAhead
		}
	}
	return 0
}
