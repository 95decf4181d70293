package learn

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Law is what held in the server's state throughout.
type Law struct {
	rulebook.InvariantRule
	Why []string
}

// laws learns what held of a kind: that there is exactly one, that no two have the same, that a count
// never falls.
func (k *kind) laws(l *Lesson) {
	law := func(invariant rulebook.Invariant, field, why string, args ...any) {
		r := rulebook.InvariantRule{Invariant: invariant, Entities: k.pattern(), MinDuration: rulebook.DefaultMinDuration}
		if field != "" {
			r.Fields = []string{field}
		}
		l.Laws = append(l.Laws, Law{r, []string{fmt.Sprintf(why, args...)}})
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
