package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// likeness is which entity of the reference an entity stands with that only the view has: one of
// its sort that is wherever it is, while it gets about.
type likeness struct {
	looks     int
	at        time.Duration // of the last
	by        map[trace.Entity]int
	low, high point // of the places looked at
}

const (
	likeLooks = 5   // at least
	likeShare = 0.9 // of them
	likeMost  = 24  // of an entity that is in the wrong place: each is a look at all of its sort
	likeEvery = 250 * time.Millisecond
	likeInAll = 4e6 // entities that are looked at in a match for this: where all of thousands are in the wrong place, it is not for each that it is another
)

// wants reports whether an entity that is in the wrong place is to be looked for among those of its sort.
func (l *likeness) wants(j *Judge, t time.Duration) bool {
	if l.looks >= likeMost || t-l.at < likeEvery || j.likened > likeInAll {
		return false
	}
	j.likened += len(j.known)
	return true
}

// look takes in that an entity of the view is at a place, and which entities of its sort the
// reference has there.
func (l *likeness) look(place point, there []trace.Entity, t time.Duration) {
	l.at = t
	if l.by == nil {
		l.by, l.low, l.high = map[trace.Entity]int{}, place, place
	}
	l.looks++
	for i := range place {
		l.low[i], l.high[i] = min(l.low[i], place[i]), max(l.high[i], place[i])
	}
	for _, e := range there {
		l.by[e]++
	}
}

// like is the one entity that it stands with; ok is false if there is none.
func (l *likeness) like(rule *rulebook.Rule) (like trace.Entity, ok bool) {
	if rule == nil || l.looks < likeLooks {
		return 0, false
	}
	way := 0.0
	for i := range rule.Fields {
		way = math.Max(way, l.high[i]-l.low[i])
	}
	if way < 4*rule.Tolerance {
		return 0, false // what rests together is no likeness
	}
	for id, n := range l.by {
		if float64(n) < likeShare*float64(l.looks) {
			continue
		}
		if ok { // two that go together
			return 0, false
		}
		like, ok = id, true
	}
	return like, ok
}

// resembles notes which entities of its sort stand where an entity of the view is.
func (k *tracker) resembles(v *view, t time.Duration) {
	j, m := v.judge, k.mirror
	rule, fields := j.placeRule(j.config.Rules.Fields, m.known.name)
	if rule == nil {
		return
	}
	if k != m.existence && !slices.Equal(k.path.fields, fields) {
		return
	}
	place := encode(rule.Compare, pick(m.values, fields))
	if !numbers(place)[0] {
		return
	}
	low, high, known := v.window(rule, t)
	if !known {
		high = t
	}
	var there []trace.Entity
	for _, other := range j.known {
		if other == m.known || !sameSort(other.name, m.known.name) {
			continue
		}
		for _, p := range other.paths {
			if p.compare != rule.Compare || len(p.corners) == 0 || !slices.Equal(p.fields, fields) {
				continue
			}
			if _, ok := p.latest(place, rule.Tolerance, low, high); ok {
				there = append(there, other.id)
			}
		}
	}
	k.run.like.look(place, there, t)
}

// sameSort reports whether two entities have the same kind in their names.
func sameSort(a, b string) bool {
	sort, _, _ := strings.Cut(a, "/")
	return strings.HasPrefix(b, sort+"/")
}

// placeRule is the rule that compares where an entity is, with its fields.
func (j *Judge) placeRule(rules []rulebook.Rule, entity string) (rule *rulebook.Rule, fields []trace.Field) {
	if rule = rulebook.PlaceRule(rules, entity); rule != nil {
		for _, name := range rule.Fields {
			fields = append(fields, j.config.Names.Field(name))
		}
	}
	return rule, fields
}

// exchanged names an entity that the view shows where another one of its sort is, wherever that goes.
func (d *difference) exchanged() (n naming) {
	e, ok := d.like.like(d.rule)
	if !ok {
		return n
	}
	name := d.judge.config.Names.EntityID(e)
	return naming{kind: OtherID, like: name, why: fmt.Sprintf("it goes wherever %s goes: the one is taken for the other", name)}
}

// twin names an entity that the view alone has and that is one of the reference's.
func twin(name string, shown bool) naming {
	if shown {
		return naming{kind: DuplicateEntity, like: name, why: fmt.Sprintf("it goes wherever %s goes, which the view shows as well: one entity twice", name)}
	}
	return naming{kind: OtherID, like: name, why: fmt.Sprintf("it goes wherever %s goes, which the view does not show: the same entity under another id", name)}
}
