package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// closeAll ends every difference, because the view is out of the match or the match over.
func (v *tickView) closeAll(t time.Duration, how string) {
	for _, c := range v.open {
		switch {
		case !c.run.certain:
			c.run.whole.count = 0
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
	e := &run.whole
	named := v.nameAll(c, open)
	f := &Finding{Kind: named.kind, Why: named.why, Next: named.next, Like: named.like, View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}, Own: c.pair.entity == v.own, Ticks: true, Tick: run.first.tick, LastTick: run.last.tick, TicksApart: e.count,
		BeganAt: Seconds(run.from), EndedAt: Seconds(run.until), Open: open, Ended: how, Apart: Seconds(run.until - run.from), rule: c.rule, settle: c.rule.MinDuration}
	if c.rule.Compare != rulebook.Exact && e.worst > 0 {
		gap := math.Round(e.worst*1e3) / 1e3
		f.Gap = &gap
	}
	f.Evidence = j.circumstances(j.views[v.number], run.said, run.said)
	if e.before.ok {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, e.before))
	}
	rows := e.early
	if last := e.seen[len(e.seen)-1]; last.tick > rows[len(rows)-1].tick {
		rows = append(slices.Clone(rows), last)
	}
	for _, s := range rows {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, s))
	}
	j.add(f)
	e.count, run.certain, run.apart = 0, false, false
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

// nameAll names a difference. Of values that are no numbers every stretch has a name of its own;
// what most of them are, it is.
func (v *tickView) nameAll(c *tickCheck, open bool) naming {
	run := c.run
	if c.rule.Compare != rulebook.Exact || len(run.named) == 0 {
		n := v.nameOf(c, &run.whole, open)
		if run.leaps >= teleportsFrom && 4*run.right >= run.whole.count && n.kind.mayTeleport() { // and not noise
			n = naming{kind: Teleports, why: fmt.Sprintf("%d times it leaps away from where the reference has it, and back", run.leaps)}
		}
		return n
	}
	if run.apart {
		run.named = append(run.named, v.nameOf(c, &run.stretch, open))
	}
	count := map[Kind]int{}
	best := run.named[0]
	for _, n := range run.named {
		count[n.kind]++
	}
	for _, n := range run.named {
		if count[n.kind] > count[best.kind] {
			best = n
		}
	}
	return best
}

// nameOf names what is known of a difference, or of a stretch of it.
func (v *tickView) nameOf(c *tickCheck, e *episode, open bool) naming {
	j, first := v.ticks.judge, e.early[0]
	switch {
	case c.fields == nil && first.view != (point{1}):
		return naming{kind: Missing, why: "the reference has it at that tick and the view does not"}
	case c.fields == nil:
		if rule, _ := j.placeRule(v.ticks.rules, c.pair.name); rule != nil {
			if like, ok := e.like.like(rule); ok {
				return twin(j.config.Names.EntityID(like), v.pairs[like].sides[viewSide].there)
			}
		}
		return naming{kind: Ghost, why: "the view has it at that tick and the reference does not"}
	}
	rule := *c.rule
	rule.MaxDelay, rule.MaxAhead = 0, 0 // nothing is late at a tick
	rule.Tolerance = max(rule.Tolerance, c.grain(e))
	d := difference{episode: e, judge: j, rule: &rule, path: &c.path, own: c.pair.entity == v.own, open: open, view: v.name, in: v.in, joinedAt: v.joinedAt,
		value: c.value, since: c.since, holds: true, ever: c.agreed, othersGoOn: func() bool { return c.othersGoOn(e.began) }}
	n := d.name()
	if n.kind != ChecksumDiffers {
		text := fmt.Sprintf("the view has %s and the reference %s", j.format(c.rule, first.view), j.format(c.rule, first.there))
		if !n.kind.saysLittle() {
			text += "; " + n.why
		}
		n.why = text
	}
	return n
}

// grain is how closely numbers of an episode can be told apart when relations are fitted to them: half of what
// the reference moves in a tick, because a relation may lie between two, and little beside what they are off
// by. The tolerance of a rule, often 0 at ticks, is about what is wrong and no measure of that.
func (c *tickCheck) grain(e *episode) float64 {
	if c.rule.Compare == rulebook.Exact {
		return 0
	}
	var moves, gaps []float64
	for i := 1; i < len(e.history); i++ {
		if by := c.path.minus(e.history[i].v, e.history[i-1].v); dot(by, by) > 0 {
			moves = append(moves, math.Sqrt(dot(by, by)))
		}
	}
	for _, s := range e.seen {
		gaps = append(gaps, s.gap)
	}
	if len(moves) == 0 || len(gaps) == 0 {
		return 0
	}
	slices.Sort(moves)
	slices.Sort(gaps)
	return min(moves[len(moves)/2]/2, gaps[len(gaps)/2]/4)
}

// othersGoOn reports whether another field of the entity has followed a change since t.
func (c *tickCheck) othersGoOn(t time.Duration) bool {
	return slices.ContainsFunc(c.pair.checks, func(other *tickCheck) bool {
		n := len(other.path.corners)
		return other != c && n > 0 && other.agreed && other.last.t > t && other.path.corners[n-1].t > t
	})
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
