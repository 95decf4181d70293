package judge

import (
	"fmt"
	"math"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Rules of the world: what must hold in the reference's own view.

// invariant is an invariant with what it needs to remember.
type invariant struct {
	rule   *rulebook.InvariantRule
	fields []trace.Field
	since  time.Duration // One, Unique: broken since then, or -never
	found  *Finding
	twins  map[string]*Finding // Unique: by the names of the two
	pairs  map[string]time.Duration
}

// invariantOf is an invariant about the changes of one entity.
type invariantOf struct {
	*invariant
	last  point
	at    time.Duration
	known bool
	found *Finding
}

// laws asks whether the invariants hold in the reference's state. Where a view's differs from it,
// fields finds that.
type laws struct {
	match     *Judge
	list      []*invariant
	next      time.Duration // when those about the whole world are looked at again
	newcomers []string      // joined, and not yet in a snapshot
}

func newLaws(j *Judge, names *trace.Names, rules []rulebook.InvariantRule) *laws {
	w := &laws{match: j}
	for i := range rules {
		l := &invariant{rule: &rules[i], since: -never, twins: map[string]*Finding{}, pairs: map[string]time.Duration{}}
		for _, f := range rules[i].Fields {
			l.fields = append(l.fields, names.Field(f))
		}
		w.list = append(w.list, l)
	}
	return w
}

// heard takes in what the reference says beside its state.
func (w *laws) heard(r *trace.Record) {
	if r.Joined != "" && r.Entity != "" {
		w.newcomers = append(w.newcomers, r.Entity)
	}
	if r.Event != "" {
		w.checkMoment(r.Event, r.T)
	}
}

// look looks at the world as the reference has just told it.
func (w *laws) look(at time.Duration) {
	for _, id := range w.newcomers {
		w.checkApart(id, at)
	}
	w.newcomers = w.newcomers[:0]
	if at >= w.next {
		w.next = at + sweepEvery
		w.checkWorld(at)
	}
}

// of lists the invariants about changes of an entity.
func (w *laws) of(t *entity) (list []*invariantOf) {
	for _, l := range w.list {
		switch l.rule.Invariant {
		case rulebook.Range, rulebook.Rising, rulebook.Falling, rulebook.Speed:
			if l.rule.Fits(t.name) {
				list = append(list, &invariantOf{invariant: l})
			}
		}
	}
	return list
}

// obey holds the invariants about changes against an entity's new values.
func (w *laws) obey(t *entity, at, since time.Duration) {
	for _, l := range t.invariants {
		v := encode(rulebook.Distance, pick(t.values, l.fields))
		if math.IsNaN(v[0]) {
			l.known = false
			continue
		}
		was, known, from := l.last, l.known, max(l.at, since)
		l.last, l.known, l.at = v, true, at
		if l.found != nil && l.rule.Invariant == rulebook.Range && v[0] >= l.rule.Min-1e-9 && v[0] <= l.rule.Max+1e-9 {
			l.found.EndedAt, l.found.Open, l.found.Ended, l.found = Seconds(at), false, "the value itself", nil
		}
		why := ""
		switch {
		case l.rule.Invariant == rulebook.Range && l.found == nil && (v[0] < l.rule.Min-1e-9 || v[0] > l.rule.Max+1e-9):
			why = fmt.Sprintf("the value is %.6g, the invariant allows %g to %g", v[0], l.rule.Min, l.rule.Max)
		case !known:
		case l.rule.Invariant == rulebook.Rising && v[0] < was[0]:
			why = fmt.Sprintf("the value fell from %.6g to %.6g", was[0], v[0])
		case l.rule.Invariant == rulebook.Falling && v[0] > was[0]:
			why = fmt.Sprintf("the value rose from %.6g to %.6g", was[0], v[0])
		case l.rule.Invariant == rulebook.Speed && at > from:
			if d := distance(v, was); d > l.rule.Max*(at-from).Seconds() && d > l.rule.Min {
				w.tooFast(t, l, was, v, at, fmt.Sprintf("it went %.4g in %.0f ms, the invariant allows %g a second", d, float64(at-from)/1e6, l.rule.Max))
			}
		}
		if why != "" {
			l.found = w.broken(InvariantBroken, l.rule, t.name, at, why)
			if l.rule.Invariant != rulebook.Range {
				l.found.Open, l.found.Ended, l.found = false, "the change itself", nil
			}
		}
	}
}

// tooFast decides, once the view of its owner is judged up to that moment,
// whether an impossible change came from there.
func (w *laws) tooFast(t *entity, l *invariantOf, was, v point, at time.Duration, why string) {
	w.match.waiting.when(at, func() {
		kind := InvariantBroken
		for _, owner := range w.match.views[1:] {
			if owner.own != t.id {
				continue
			}
			for _, shown := range owner.trail {
				if p := encode(rulebook.Distance, pick(shown.values, l.fields)); distance(p, v) < 0.25*distance(p, was) {
					kind, why = Unvalidated, fmt.Sprintf("%s; %s showed it there %.0f ms before", why, owner.name, float64(at-shown.t)/1e6)
					break
				}
			}
		}
		f := w.broken(kind, l.rule, t.name, at, why)
		f.Open, f.Ended = false, "the change itself"
	})
}

// checkWorld holds the invariants about the whole world against the reference's snapshot.
func (w *laws) checkWorld(at time.Duration) {
	for _, l := range w.list {
		switch l.rule.Invariant {
		case rulebook.One:
			w.checkOne(l, at)
		case rulebook.Unique:
			w.checkUnique(l, at)
		}
	}
}

func (w *laws) checkOne(l *invariant, at time.Duration) {
	count := 0
	for _, t := range w.match.known {
		if t.isThere && l.rule.Fits(t.name) {
			count++
		}
	}
	switch {
	case count == 1:
		if l.found != nil {
			l.found.EndedAt, l.found.Open, l.found.Ended, l.found = Seconds(at), false, "there being one again", nil
		}
		l.since = -never
	case l.since == -never:
		l.since = at
	case l.found == nil && at-l.since >= l.rule.MinDuration:
		l.found = w.broken(NotOne, l.rule, l.rule.Entities, l.since, fmt.Sprintf("there are %d of %s, there should be one", count, l.rule.Entities))
	}
}

func (w *laws) checkUnique(l *invariant, at time.Duration) {
	first := map[trace.Value]*entity{}
	now := map[string]bool{}
	for _, t := range w.match.known {
		f := l.fields[0]
		if !t.isThere || !l.rule.Fits(t.name) || int(f) >= len(t.values) || t.values[f] == (trace.Value{}) {
			continue
		}
		other := first[t.values[f]]
		if other == nil {
			first[t.values[f]] = t
			continue
		}
		pair := other.name + " " + t.name
		now[pair] = true
		since, known := l.pairs[pair]
		if !known {
			l.pairs[pair] = at
		} else if l.twins[pair] == nil && at-since >= l.rule.MinDuration {
			l.twins[pair] = w.broken(DuplicateEntity, l.rule, t.name, since, fmt.Sprintf("%s and %s have the same %s, %s",
				other.name, t.name, l.rule.Fields[0], w.match.config.Names.Format(t.values[f])))
		}
	}
	for pair := range l.pairs {
		if !now[pair] {
			if f := l.twins[pair]; f != nil {
				f.EndedAt, f.Open, f.Ended = Seconds(at), false, "one of them going"
			}
			delete(l.pairs, pair)
			delete(l.twins, pair)
		}
	}
}

// checkApart holds a new player's start against everybody else's place.
func (w *laws) checkApart(id string, at time.Duration) {
	newcomer := w.match.entityOf(w.match.config.Names.Entity(id))
	for _, l := range w.list {
		if l.rule.Invariant == rulebook.Apart && l.rule.When == "" && newcomer != nil && l.rule.Fits(id) {
			w.checkCrowd(l, newcomer, at, "starts")
		}
	}
}

// checkMoment holds all entities that an invariant of an event is about against each other.
func (w *laws) checkMoment(event string, at time.Duration) {
	for _, l := range w.list {
		if l.rule.Invariant != rulebook.Apart || l.rule.When != event {
			continue
		}
		for _, t := range w.match.known {
			if t.isThere && l.rule.Fits(t.name) {
				w.checkCrowd(l, t, at, "is")
			}
		}
	}
}

// checkCrowd holds one entity's place against those that were named before it, or,
// for one that starts, all others.
func (w *laws) checkCrowd(l *invariant, one *entity, at time.Duration, verb string) {
	place := func(t *entity) point { return encode(rulebook.Distance, pick(t.values, l.fields)) }
	for _, t := range w.match.known {
		if t == one && l.rule.When != "" {
			return
		}
		if t == one || !t.isThere || !l.rule.Fits(t.name) {
			continue
		}
		if d := distance(place(one), place(t)); d < l.rule.Min {
			f := w.broken(InvariantBroken, l.rule, one.name, at, fmt.Sprintf("it %s %.3g from %s, the invariant demands %g", verb, d, t.name, l.rule.Min))
			f.Open, f.Ended = false, "the moment itself"
			return
		}
	}
}

// broken makes a finding about the reference's own view.
func (w *laws) broken(kind Kind, rule *rulebook.InvariantRule, entity string, at time.Duration, why string) *Finding {
	f := &Finding{Kind: kind, View: w.match.views[0].name, Entity: entity, Subject: Subject{AboutInvariant, rule.Label()}, BeganAt: Seconds(at), EndedAt: Seconds(at),
		Open: true, Ended: "still so at the end", Why: why, Invariant: true, settle: rule.MinDuration}
	f.Evidence = w.match.circumstances(w.match.views[0], at, at)
	w.match.add(f)
	return f
}
