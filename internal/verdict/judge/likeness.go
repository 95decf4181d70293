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
	by        map[trace.Entity]int
	low, high point // of the places looked at
}

const (
	likeLooks = 5   // at least
	likeShare = 0.9 // of them
)

// look notes which entities of its sort stand where an entity of the view is.
func (l *likeness) look(j *Judge, v *view, m *mirror, t time.Duration) {
	rule, fields := j.placeRule(m)
	if rule == nil {
		return
	}
	place := encode(rule.Compare, pick(m.values, fields))
	if !numbers(place)[0] {
		return
	}
	if l.by == nil {
		l.by, l.low, l.high = map[trace.Entity]int{}, place, place
	}
	l.looks++
	for i := range place {
		l.low[i], l.high[i] = min(l.low[i], place[i]), max(l.high[i], place[i])
	}
	low, high, known := v.window(rule, t)
	if !known {
		high = t
	}
	sort, _, _ := strings.Cut(m.known.name, "/")
	for _, other := range j.known {
		if other == m.known || !strings.HasPrefix(other.name, sort+"/") {
			continue
		}
		for _, p := range other.paths {
			if p.compare != rule.Compare || len(p.corners) == 0 || !slices.Equal(p.fields, fields) {
				continue
			}
			if _, ok := p.latest(place, rule.Tolerance, low, high); ok {
				l.by[other.id]++
			}
		}
	}
}

// placeRule is the rule that compares where an entity is, with its fields.
func (j *Judge) placeRule(m *mirror) (rule *rulebook.Rule, fields []trace.Field) {
	if rule = rulebook.PlaceRule(j.config.Rules.Fields, m.known.name); rule != nil {
		for _, name := range rule.Fields {
			fields = append(fields, j.config.Names.Field(name))
		}
	}
	return rule, fields
}

// like is the one entity that it stands with, or nil.
func (l *likeness) like(j *Judge, m *mirror) *entity {
	rule, fields := j.placeRule(m)
	if rule == nil || l.looks < likeLooks {
		return nil
	}
	way := 0.0
	for i := range fields {
		way = math.Max(way, l.high[i]-l.low[i])
	}
	if way < 4*rule.Tolerance {
		return nil // what rests together is no likeness
	}
	var best *entity
	for id, n := range l.by {
		if float64(n) < likeShare*float64(l.looks) {
			continue
		}
		if best != nil { // two that go together
			return nil
		}
		best = j.entityOf(id)
	}
	return best
}

// twin says which entity of the reference a ghost is, if it is one.
func (k *tracker) twin(j *Judge, v *view) (kind Kind, why, name string) {
	other := k.run.like.like(j, k.mirror)
	if other == nil {
		return "", "", ""
	}
	if m := v.mirrorOf(other.id); m != nil && m.isThere {
		return DuplicateEntity, fmt.Sprintf("it goes wherever %s goes, which the view shows as well: one entity twice", other.name), other.name
	}
	return OtherID, fmt.Sprintf("it goes wherever %s goes, which the view does not show: the same entity under another id", other.name), other.name
}
