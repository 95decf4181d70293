package judge

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// entity is an entity as the reference knows it.
type entity struct {
	id         trace.Entity
	name       string
	exists     *path
	isThere    bool
	ever       bool // it was there at some time
	paths      []*path
	byField    [][]*path // by trace.Field
	values     []trace.Value
	touched    []*path
	invariants []*invariantOf
	stamp      int
	ownRule    []rulePath   // what is tracked of it in a view whose own it is
	otherRule  []rulePath   // and in others
	watched    [2]*watchers // of others, and of the own; nil when those have changed
}

// nearRule stands for the fields that hold the positions of entities, which are
// followed whether or not a rule compares them.
type nearRule struct {
	compare rulebook.Rule
	fields  []trace.Field
}

type rulePath struct {
	rule *rulebook.Rule
	path *path
}

// reference takes in a record of the server.
func (j *Judge) reference(r *trace.Record) {
	j.member(0, r)
	j.laws.heard(r)
	if !r.Pictures() {
		return
	}
	since := j.rhythm.tell(r.T, j.repeats(r))
	j.behind = max(j.behind, j.wait+j.rhythm.patience())
	j.stamp++
	var last *entity
	for i := range r.State {
		c := &r.State[i]
		if last == nil || last.id != c.Entity {
			j.settleEntity(last, r.T, since)
			last = j.named(c.Entity)
			last.stamp = j.stamp
			last.appear(r.T)
		}
		if c.Field != trace.Exists {
			last.set(j, c.Field, c.Value)
		}
	}
	j.settleEntity(last, r.T, since)
	for _, e := range r.Despawned {
		if t := j.entityOf(e); t != nil {
			t.vanish(r.T)
		}
	}
	if r.Full {
		for _, t := range j.known {
			if t.stamp != j.stamp {
				t.vanish(r.T)
			}
		}
	}
	j.laws.look(r.T)
}

// repeats reports whether a record of the reference tells a value that has not changed.
func (j *Judge) repeats(r *trace.Record) bool {
	for i := range r.State {
		c := &r.State[i]
		if e := j.entityOf(c.Entity); e != nil && c.Field != trace.Exists && int(c.Field) < len(e.values) && e.values[c.Field] == c.Value {
			return true
		}
	}
	return false
}

func (j *Judge) entityOf(e trace.Entity) *entity {
	if int(e) < len(j.entities) {
		return j.entities[e]
	}
	return nil
}

// named returns the entity of that number, making it at its first naming.
func (j *Judge) named(e trace.Entity) *entity {
	if t := j.entityOf(e); t != nil {
		return t
	}
	for len(j.entities) <= int(e) {
		j.entities = append(j.entities, nil)
	}
	t := &entity{id: e, name: j.config.Names.EntityID(e), exists: &path{compare: rulebook.Exact}}
	t.exists.corners = append(t.exists.corners, corner{t: -never, v: point{0}})
	t.invariants = j.laws.of(t)
	j.entities[e] = t
	j.known = append(j.known, t)
	for _, v := range j.views[1:] {
		if m := v.mirrorOf(e); m != nil {
			j.attach(v, m, t)
		} else if v.in {
			j.attach(v, v.mirror(e), t)
		}
	}
	return t
}

func (t *entity) appear(at time.Duration) {
	if !t.isThere {
		t.isThere, t.ever = true, true
		for _, l := range t.invariants {
			l.known = false
		}
		t.exists.add(at, at, point{1})
		for _, p := range t.paths {
			p.broken = true
		}
	}
}

func (t *entity) vanish(at time.Duration) {
	if t.isThere {
		t.isThere = false
		t.exists.add(at, at, point{0})
	}
}

// set gives a field of an entity a value and marks the paths it belongs to.
func (t *entity) set(j *Judge, f trace.Field, v trace.Value) {
	if int(f) >= len(t.byField) {
		t.byField = append(t.byField, make([][]*path, int(f)+1-len(t.byField))...)
		t.values = append(t.values, make([]trace.Value, int(f)+1-len(t.values))...)
	}
	if t.byField[f] == nil {
		t.compile(j, f)
	}
	if t.values[f] == v {
		return
	}
	t.values[f] = v
	for _, p := range t.byField[f] {
		if !p.dirty {
			p.dirty = true
			t.touched = append(t.touched, p)
		}
	}
}

// compile finds the rules that speak of a field when it is first named.
func (t *entity) compile(j *Judge, f trace.Field) {
	t.byField[f] = []*path{} // from now on: nothing to find
	name := j.config.Names.FieldName(f)
	for _, own := range [...]bool{true, false} {
		i := rulebook.Find(j.config.Rules.Fields, t.name, own, name)
		if i < 0 || !j.config.Rules.Fields[i].Judged() {
			continue
		}
		rule := &j.config.Rules.Fields[i]
		p := t.pathFor(rule, j.fields[i])
		list := &t.otherRule
		if own {
			list = &t.ownRule
		}
		if !slices.ContainsFunc(*list, func(rp rulePath) bool { return rp.rule == rule }) {
			*list = append(*list, rulePath{rule, p})
			t.watched = [2]*watchers{}
			for _, v := range j.views[1:] {
				if m := v.mirrorOf(t.id); m != nil && m.known == t && m.own == own {
					m.trackers, m.watchers = append(m.trackers, v.tracker(m, rule, p)), nil
				}
			}
		}
		t.follow(f, p)
	}
	for i := range j.places {
		if near := &j.places[i]; slices.Contains(near.fields, f) {
			t.follow(f, t.pathFor(&near.compare, near.fields))
		}
	}
}

func (t *entity) follow(f trace.Field, p *path) {
	if !slices.Contains(t.byField[f], p) {
		t.byField[f] = append(t.byField[f], p)
	}
}

func (t *entity) pathFor(rule *rulebook.Rule, fields []trace.Field) *path {
	for _, p := range t.paths {
		if p.compare == rule.Compare && p.circle == rule.Circle && slices.Equal(p.fields, fields) {
			return p
		}
	}
	p := newPath(rule, fields)
	t.paths = append(t.paths, p)
	return p
}

// settleEntity turns the fields that a record changed into corners of paths.
func (j *Judge) settleEntity(t *entity, at, since time.Duration) {
	if t == nil {
		return
	}
	for _, p := range t.touched {
		p.dirty = false
		if p.compare == rulebook.Exact && !j.rhythm.speaks(p.compare) {
			p.add(at, at, pointOf(p, t.values))
			continue
		}
		p.add(at, since, pointOf(p, t.values))
	}
	t.touched = t.touched[:0]
	if len(t.invariants) > 0 {
		j.laws.obey(t, at, since)
	}
}

// pointOf is the value of a path's fields; a field never named is null.
func pointOf(p *path, values []trace.Value) point {
	if p.compare == rulebook.Distance { // the usual case
		var v point
		for i, f := range p.fields {
			v[i] = math.NaN()
			if int(f) < len(values) {
				v[i] = finite(values[f])
			}
		}
		return v
	}
	var list [3]trace.Value
	for i, f := range p.fields {
		if int(f) < len(values) {
			list[i] = values[f]
		}
	}
	return encode(p.compare, list[:len(p.fields)])
}

// pick is the values of some fields.
func pick(values []trace.Value, fields []trace.Field) []trace.Value {
	list := make([]trace.Value, len(fields))
	for i, f := range fields {
		if int(f) < len(values) {
			list[i] = values[f]
		}
	}
	return list
}
