package learn

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Law is what held in the server's state throughout.
type Law struct {
	rulebook.InvariantRule
	Why     []string
	Offered bool // and is not judged: a longer match may well go beyond what was seen
}

// laws learns what held of a kind: that there is exactly one, that no two have the same, that a count
// never falls.
func (k *kind) laws(l *Lesson) {
	law := func(invariant rulebook.Invariant, field, why string, args ...any) {
		r := rulebook.InvariantRule{Invariant: invariant, Entities: k.pattern(), MinDuration: rulebook.DefaultMinDuration}
		if field != "" {
			r.Fields = []string{field}
		}
		l.Laws = append(l.Laws, Law{InvariantRule: r, Why: []string{fmt.Sprintf(why, args...)}})
	}
	if looks, one := k.alone(); one && looks >= enoughLooks {
		law(rulebook.One, "", "exactly one %s at each of %d looks", k.name, looks)
	}
	for _, f := range k.order {
		switch looks, same := k.different(f); {
		case looks >= enoughLooks && same == 0:
			law(rulebook.Unique, f.name, "no two %s had the same at %d looks at several", k.name, looks)
		case f.owners > 0 && looks >= enoughLooks && looks > same/2:
			law(rulebook.Unique, f.name, "SUSPICIOUS: two %s had the same player at %d looks, and no two at %d", k.name, same, looks)
		}
		if f.numbers > 0 && f.fractions == 0 && f.falls == 0 && f.rises >= 10 {
			law(rulebook.Rising, f.name, "it rose %d times and never fell", f.rises)
		}
	}
	k.limits(l)
}

// limits offers how far numbers went, how fast places changed, and how far apart players were when
// one joined.
func (k *kind) limits(l *Lesson) {
	offer := func(r rulebook.InvariantRule, why string, args ...any) {
		r.Entities, r.MinDuration = k.pattern(), rulebook.DefaultMinDuration
		l.Laws = append(l.Laws, Law{r, []string{fmt.Sprintf(why, args...)}, true})
	}
	grouped := map[string]bool{}
	for _, group := range k.vectors() {
		var names []string
		for _, f := range group {
			names, grouped[f.name] = append(names, f.name), true
		}
		if usual, fastest, seen := k.speeds(names); seen >= enoughLooks && fastest > 0 && fastest <= 3*usual {
			offer(rulebook.InvariantRule{Invariant: rulebook.Speed, Fields: names, Max: ceil2(1.5 * fastest)}, "never faster than %.4g a second, between %d records", fastest, seen)
		}
		nearest, same, seen := k.apartWhenJoining(names)
		switch {
		case same > 0:
			offer(rulebook.InvariantRule{Invariant: rulebook.Apart, Fields: names, Min: 1}, "SUSPICIOUS: %d of %s put a player where another one stood; say how far apart they are to be", same, counted(seen, "joining"))
		case seen >= 3 && nearest > 0:
			offer(rulebook.InvariantRule{Invariant: rulebook.Apart, Fields: names, Min: floor2(nearest / 2)}, "at %d joinings another one was never nearer than %.4g", seen, nearest)
		}
	}
	for _, f := range k.order {
		if !grouped[f.name] && f.numbers > 0 && f.others+f.flags == 0 && f.changes >= enoughLooks && f.falls > 0 && f.rises > 0 && f.least < f.most && f.circle() == 0 {
			offer(rulebook.InvariantRule{Invariant: rulebook.Range, Fields: []string{f.name}, Min: f.least, Max: f.most}, "it was within this at each of %d changes", f.changes)
		}
	}
}

// speeds is how fast a place of the kind changed from one record of the server's to the next: at its
// fastest, and all but a hundredth.
func (k *kind) speeds(names []string) (usual, fastest float64, seen int) {
	var all []float64
	for _, e := range k.entries {
		p := e.match.views[0].pathOf(e.entity, e.match.fields(names), 0)
		if p == nil {
			continue
		}
		for i := 1; i < len(p.t); i++ {
			if took := p.t[i] - max(p.since[i], p.t[i-1]); took > 0 && finite(p.v[i]) && finite(p.v[i-1]) {
				all = append(all, p.apart(p.v[i], p.v[i-1])/took.Seconds())
			}
		}
	}
	if len(all) == 0 {
		return 0, 0, 0
	}
	return quantile(all, 0.99), slices.Max(all), len(all)
}

// apartWhenJoining looks at players' own entities when their players join: how far the nearest other of the kind
// was, and how often it was at the same place.
func (k *kind) apartWhenJoining(names []string) (nearest float64, same, seen int) {
	nearest = math.Inf(1)
	for _, e := range k.entries {
		server := e.match.views[0]
		if e.match.ticks || !e.match.owned(e.entity) || len(server.there[e.entity].spans) == 0 {
			continue
		}
		mine := server.pathOf(e.entity, e.match.fields(names), 0)
		if mine == nil {
			continue
		}
		for _, born := range server.there[e.entity].spans {
			here, ok := mine.at(born.from)
			closest := math.Inf(1)
			for _, other := range k.entries {
				if other == e || other.match != e.match || !server.has(other.entity, born.from) {
					continue
				}
				if p := server.pathOf(other.entity, e.match.fields(names), 0); p != nil {
					if there, known := p.at(born.from); known {
						closest = min(closest, p.apart(here, there))
					}
				}
			}
			if !ok || math.IsInf(closest, 1) {
				continue
			}
			seen++
			nearest = min(nearest, closest)
			if closest == 0 {
				same++
			}
		}
	}
	return nearest, same, seen
}

// owned reports whether an entity is some client's own.
func (m *Match) owned(e trace.Entity) bool {
	return slices.ContainsFunc(m.views, func(v *teller) bool { return v.own[e] })
}

func (m *Match) fields(names []string) (list []trace.Field) {
	for _, name := range names {
		list = append(list, m.names.Field(name))
	}
	return list
}

const (
	lookEvery   = 500 * time.Millisecond
	enoughLooks = 40
)

// looks calls f at moments of every match, with the entities of the kind that are there.
func (k *kind) looks(f func(m *Match, t time.Duration, there []trace.Entity)) {
	byMatch := map[*Match][]trace.Entity{}
	var matches []*Match
	for _, e := range k.entries {
		if byMatch[e.match] == nil {
			matches = append(matches, e.match)
		}
		byMatch[e.match] = append(byMatch[e.match], e.entity)
	}
	for _, m := range matches {
		server := m.views[0]
		for t := afterJoining; t < server.last; t += lookEvery {
			there := slices.DeleteFunc(slices.Clone(byMatch[m]), func(e trace.Entity) bool { return !server.has(e, t) })
			f(m, t, there)
		}
	}
}

func (k *kind) alone() (looks int, always bool) {
	always = true
	k.looks(func(_ *Match, _ time.Duration, there []trace.Entity) {
		looks++
		always = always && len(there) == 1
	})
	return looks, always
}

// different counts the looks at which several entities were there and no two had the same text in a
// field, and those at which two had.
func (k *kind) different(f *field) (looks, same int) {
	if f.others == 0 || f.numbers+f.flags > 0 {
		return 0, 0
	}
	k.looks(func(m *Match, t time.Duration, there []trace.Entity) {
		seen, twice := map[trace.Value]bool{}, false
		for _, e := range there {
			c := m.views[0].courses[place{e, m.names.Field(f.name)}]
			if c == nil {
				continue
			}
			v := c.at(t)
			twice = twice || v.Kind() == trace.KindText && seen[v]
			seen[v] = true
		}
		switch {
		case twice:
			same++
		case len(seen) > 1:
			looks++
		}
	})
	return looks, same
}

// at is the value at a moment.
func (c *course) at(t time.Duration) (v trace.Value) {
	n, found := slices.BinarySearch(c.t, t)
	if found {
		return c.v[n]
	}
	if n == 0 {
		return trace.Value{}
	}
	return c.v[n-1]
}
