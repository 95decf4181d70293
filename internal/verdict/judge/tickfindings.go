package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/explain"
	"zitherwheel/internal/verdict/rulebook"
)

// closeAll ends every difference, because the view is out of the match or the match over.
func (v *tickView) closeAll(t time.Duration, how string) {
	for _, c := range v.open {
		switch {
		case !c.run.certain:
			c.run.count = 0
		case c.run.apart:
			v.close(c, how, how == stillSo)
		default:
			v.close(c, fmt.Sprintf("both agreeing at tick %d", c.run.healed.tick), false)
		}
	}
	v.open = v.open[:0]
}

const stillSo = "still so at the end"

// close makes a finding of a difference.
func (v *tickView) close(c *tickCheck, how string, open bool) {
	j, run := v.ticks.judge, c.run
	kind := v.kindOf(c)
	f := &Finding{Kind: kind, Why: v.why(c, kind), View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}, Own: c.pair.entity == v.own, Ticks: true, Tick: run.first.tick, LastTick: run.last.tick, TicksApart: run.count,
		BeganAt: Seconds(run.from), EndedAt: Seconds(run.until), Open: open, Ended: how, Apart: Seconds(run.until - run.from), rule: c.rule, settle: c.rule.MinDuration}
	if c.rule.Compare != rulebook.Exact && run.worst > 0 {
		gap := math.Round(run.worst*1e3) / 1e3
		f.Gap = &gap
	}
	f.Evidence = j.circumstances(j.views[v.number], run.said, run.said)
	if run.agreed {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, run.before))
	}
	rows := run.early
	if last := run.seen[len(run.seen)-1]; last.tick > rows[len(rows)-1].tick {
		rows = append(slices.Clone(rows), last)
	}
	for _, s := range rows {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, s))
	}
	j.add(f)
	run.count, run.certain, run.apart = 0, false, false
}

// finish judges what is left, and looks for views that stopped telling ticks.
func (k *ticks) finish(end time.Duration) {
	k.reference.complete = true
	for _, v := range k.views {
		v.log.guess()
		v.log.complete = true
		v.compare()
		v.closeAll(end, stillSo)
		v.stopped(end)
		v.report.Rollbacks, v.report.Deepest, v.report.PerSecond, v.report.Pause = v.log.revised, v.log.deepest, v.log.rate(), Seconds(v.log.pause)
		if span := v.log.said - v.log.since; span > 0 {
			v.report.PerMinute = float64(v.log.revised) / span.Minutes()
		}
	}
	k.tellTogether()
}

// Silence of a view is a finding if it is longer than stopsFor, and than the longest
// pauses before it.
const (
	stopsFor    = 3 * time.Second
	stopsPauses = 5
)

// stopped finds a view that was in the match, told no tick any more, and did not leave,
// while others went on.
func (v *tickView) stopped(end time.Duration) {
	quiet := end - v.lastT
	if !v.in || !v.log.began || quiet < max(stopsFor, stopsPauses*v.log.pause) {
		return
	}
	reference := &v.ticks.reference
	goesOn := reference.last.compare(v.log.last) > 0
	if others := len(v.ticks.views) - 1; goesOn && others > 0 {
		goesOn = slices.ContainsFunc(v.ticks.views, func(o *tickView) bool { return o != v && o.lastT-v.lastT >= stopsFor })
	}
	side := v.ticks.judge.views[v.number]
	if !goesOn || side.down.known && side.down.newest(end) < v.lastT+stopsFor { // it could hear nothing
		return
	}
	v.ticks.judge.add(&Finding{Kind: Frozen, View: v.name, Subject: Subject{About: AboutTicks}, BeganAt: Seconds(v.lastT), EndedAt: Seconds(end), Open: true, Ticks: true, Tick: v.log.last.tick,
		Ended: stillSo, Why: fmt.Sprintf("the view tells of no tick after %d, while others go on", v.log.last.tick), Evidence: Evidence{Values: []ValueRow{}}})
}

// kindOf names a difference.
func (v *tickView) kindOf(c *tickCheck) Kind {
	run := c.run
	last := run.seen[len(run.seen)-1]
	switch {
	case c.fields == nil && last.view == (point{1}):
		return Ghost
	case c.fields == nil:
		return Missing
	case c.rule.Checksum():
		return ChecksumDiffers
	}
	if kind, _ := v.ticks.judge.roleOf(c.rule, v.name, last); kind != "" {
		return kind
	}
	stands := func(of func(sighting) point) bool {
		for _, s := range run.seen {
			if of(s) != of(run.seen[0]) {
				return false
			}
		}
		return true
	}
	view := func(s sighting) point { return s.view }
	there := func(s sighting) point { return s.there }
	flags := trace.Kind(last.view[1]) == trace.KindBool && trace.Kind(last.there[1]) == trace.KindBool
	switch {
	case c.rule.Compare == rulebook.Exact && flags && !(stands(view) && stands(there)):
		return Inverted
	case len(run.seen) > 1 && stands(view) && run.agreed && run.before.view == last.view:
		return Frozen
	case len(run.seen) > 1 && stands(there) && run.agreed && run.before.there == last.there:
		return NeverSent
	}
	if kind, _ := run.related(c.rule); kind != "" {
		return kind
	}
	return Offset
}

// related finds the simplest relation between the numbers of the two sides.
func (run *tickRun) related(rule *rulebook.Rule) (Kind, string) {
	if rule.Compare == rulebook.Exact {
		return "", ""
	}
	s := seriesOf(rule, run.from)
	list := run.seen
	if run.agreed {
		list = append([]sighting{run.before}, run.seen...)
	}
	for _, seen := range list {
		if numbers(seen.view) != allNumbers || numbers(seen.there) != allNumbers {
			return "", ""
		}
		if n := len(s.Reference.T); n == 0 || seen.t.Seconds() > s.Reference.T[n-1] {
			s.Reference.T, s.Reference.V = append(s.Reference.T, seen.t.Seconds()), append(s.Reference.V, seen.there)
		}
		if !seen.ok {
			s.Samples = append(s.Samples, explain.Sample{T: seen.t.Seconds(), View: seen.view})
		}
	}
	if found := explain.Fit(s); len(found) > 0 {
		return kindsOfRelations[found[0].Name], found[0].Why
	}
	return "", ""
}

// why says what the kind was told by.
func (v *tickView) why(c *tickCheck, kind Kind) string {
	j, run := v.ticks.judge, c.run
	first := run.early[0]
	switch kind {
	case Ghost:
		return "the view has it at that tick and the reference does not"
	case Missing:
		return "the reference has it at that tick and the view does not"
	case ChecksumDiffers:
		return fmt.Sprintf("the checksum is %s and the reference's %s", j.format(c.rule, first.view), j.format(c.rule, first.there))
	case Frozen:
		return "the view keeps the value that both had before"
	case NeverSent:
		return "the view's value changed and the reference's did not"
	}
	text := fmt.Sprintf("the view has %s and the reference %s", j.format(c.rule, first.view), j.format(c.rule, first.there))
	if related, why := run.related(c.rule); related == kind && kind != Offset {
		text += "; " + why
	}
	return text
}

// tellTogether says in each view's first finding what else differed at that tick, and what
// followed.
func (k *ticks) tellTogether() {
	for _, v := range k.views {
		list := slices.DeleteFunc(slices.Clone(k.judge.findings), func(f *Finding) bool { return f.View != v.name || f.rule == nil || !f.Ticks })
		slices.SortStableFunc(list, func(a, b *Finding) int {
			return cmp.Or(cmp.Compare(a.BeganAt, b.BeganAt), a.tells(b), cmp.Compare(a.Entity, b.Entity), cmp.Compare(a.Subject.Name, b.Subject.Name))
		})
		var same, later []string
		for i, f := range list {
			switch what := fmt.Sprintf("%s of %s", f.Subject, f.Entity); {
			case i == 0:
			case f.BeganAt == list[0].BeganAt:
				same = append(same, what)
			default:
				later = append(later, fmt.Sprintf("%s from tick %d on", what, f.Tick))
			}
		}
		if len(same) > 0 {
			list[0].Why += "; at the same tick also " + few(same)
		}
		if len(later) > 0 {
			list[0].Why += "; later " + few(later)
		}
	}
}

// few lists a few and counts the rest.
func few(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// sumUp adds to the report of a view what was compared by ticks.
func (k *ticks) sumUp(r *ViewReport, number int, fits map[*rulebook.Rule]int) {
	v := k.views[number-1]
	r.Comparisons, r.Ticks, r.Entities = v.comparison, &v.report, len(v.known)
	for _, p := range v.known {
		for _, c := range p.checks {
			if c.agreed || c.run.first != (stamp{}) {
				fits[c.rule]++
			}
		}
	}
}

// fewTicks is the share of a view's ticks below which too few could be compared.
const fewTicks = 0.5

// warnings say where ticks could not be compared.
func (k *ticks) warnings() []Warning {
	list := []Warning{}
	add := func(v *tickView, grave bool, format string, args ...any) {
		list = append(list, Warning{View: v.name, Text: fmt.Sprintf(format, args...), Grave: grave})
	}
	for _, v := range k.views {
		r, reference := &v.report, &k.reference
		switch {
		case !v.log.began && v.been:
			add(v, true, "%s told no tick, so nothing of it could be compared", v.name)
		case r.Told == 0:
		case r.Compared == 0:
			add(v, true, "%s and the reference have no tick in common: it told %d to %d, the reference up to %d", v.name, r.First, r.Last, reference.last.tick)
		case float64(r.Compared) < fewTicks*float64(r.Told):
			add(v, false, "only %d of %d ticks of %s could be compared; the reference did not tell %d of them, and %d lie after its last", r.Compared, r.Told, v.name, r.Untold, r.Beyond)
		}
	}
	return list
}
