package judge

import (
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// expect decides, at t, what of an entity is to be judged in a view.
func (j *Judge) expect(v *view, m *mirror, t time.Duration) {
	j.expectOf(v, m, m.existence, t, true)
	there := m.isThere && m.known.exists.at(t) == point{1}
	for _, k := range m.trackers {
		j.expectOf(v, m, k, t, len(k.path.corners) > 0 && (there || m.isThere && j.couldBeThere(v, m.known, k.rule, t)))
	}
}

// sleepAfter is how long an entity must be gone on both sides to need no looking at.
const sleepAfter = 5 * time.Second

// sleeps reports that an entity is long gone on both sides and nothing is open.
func (m *mirror) sleeps(t time.Duration) bool {
	if m.isThere || m.known.isThere || m.existence != nil && m.existence.apart {
		return false
	}
	corners := m.known.exists.corners
	return t-corners[len(corners)-1].t > sleepAfter && (m.existence == nil || m.existence.match > corners[len(corners)-1].t)
}

// expectOf begins or ends the judging of one tracker, as it should be at t.
func (j *Judge) expectOf(v *view, m *mirror, k *tracker, t time.Duration, possible bool) {
	if k == nil {
		return
	}
	wanted := possible && v.in && !v.out() && j.shouldSee(v, m, k.rule, t) && t >= max(v.couldHearOf(m.since), v.joinedAt)+k.rule.Grace
	switch {
	case wanted && !k.active:
		if k != m.existence && !k.holds && len(m.values) > 0 {
			k.value, k.holds, k.since = pointOf(k.path, m.values), true, t
		}
		k.start(j, v, t)
	case !wanted && k.active:
		k.stop(j, v, t)
	}
}

// couldBeThere reports whether the reference had the entity at any moment that
// may explain what the view shows at t. Of a ghost only its existence is judged.
func (j *Judge) couldBeThere(v *view, entity *entity, rule *rulebook.Rule, t time.Duration) bool {
	low, high, _ := v.window(rule, t)
	_, ok := entity.exists.latest(point{1}, 0, low, high)
	return ok
}

// shouldSee applies the rule's audience.
func (j *Judge) shouldSee(v *view, m *mirror, rule *rulebook.Rule, t time.Duration) bool {
	switch rule.SeenBy {
	case rulebook.OwnerOnly:
		return m.own
	case rulebook.AllButOwner:
		return !m.own
	case rulebook.InRange:
		if m.own {
			return true
		}
		d, ok := j.apart(v, m.known, rule, t)
		near := ok && d <= rule.InterestRadius
		if near && !m.near {
			m.since = t // the time of grace begins
		}
		m.near = near
		if near {
			m.expected = true
		} else if !ok || d > rule.LeaveRadius {
			m.expected = false
		}
		if rule.Fields[0] == rulebook.Existence {
			return m.near // between radius and leave a game may show it or not
		}
		return m.expected
	}
	return true
}

// couldHearOf is when a view first heard of what the reference did at t or later.
func (v *view) couldHearOf(t time.Duration) time.Duration {
	if t == -never {
		return t
	}
	return v.down.firstSince(t)
}

// apart is the distance between a view's own entity and an entity, as the
// reference had it at that moment.
func (j *Judge) apart(v *view, t *entity, rule *rulebook.Rule, at time.Duration) (float64, bool) {
	own := j.entityOf(v.own)
	if own == nil {
		return 0, false
	}
	var fields []trace.Field
	for _, name := range rule.Place {
		fields = append(fields, j.config.Names.Field(name))
	}
	a, b := own.place(fields, at), t.place(fields, at)
	if a == nil || b == nil {
		return 0, false
	}
	return distance(*a, *b), true
}

// place is where an entity was at a moment, or nil if it was not there.
func (t *entity) place(fields []trace.Field, at time.Duration) *point {
	if t.exists.at(at) != (point{1}) {
		return nil
	}
	for _, p := range t.paths {
		if p.compare == rulebook.Distance && slices.Equal(p.fields, fields) && len(p.corners) > 0 {
			v := p.at(at)
			return &v
		}
	}
	return nil
}
