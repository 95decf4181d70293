package match

import (
	"math"
	"slices"
	"strings"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
)

// mirror is the snapshot that a view has, as its trace tells it: what a bot sees
// through a client that runs in a process of its own.
type mirror struct {
	names  *trace.Names
	view   string
	things map[trace.Entity]map[trace.Field]trace.Value
	places [2]trace.Field
	facing trace.Field
	own    trace.Entity
	inside bool
}

func newMirror(names *trace.Names, view string, b *plan.Build) mirror {
	m := mirror{names: names, view: view, things: map[trace.Entity]map[trace.Field]trace.Value{}}
	m.places = [2]trace.Field{names.Field(b.Place[0]), names.Field(b.Place[1])}
	if b.Heading != "" {
		m.facing = names.Field(b.Heading)
	}
	return m
}

// take takes in a record.
func (m *mirror) take(r *trace.Record) {
	switch {
	case r.Joined == m.view:
		m.inside, m.own = true, m.names.Entity(r.Entity)
	case r.Leaves(m.view), r.Refused == m.view:
		m.inside = false
	}
	if r.Full {
		clear(m.things)
	}
	for _, e := range r.Despawned {
		delete(m.things, e)
	}
	for _, c := range r.State {
		fields := m.things[c.Entity]
		if fields == nil {
			fields = map[trace.Field]trace.Value{}
			m.things[c.Entity] = fields
		}
		fields[c.Field] = c.Value
	}
}

// forget empties the snapshot: of a process that has ended.
func (m *mirror) forget() {
	clear(m.things)
	m.inside = false
}

func (m *mirror) has(e trace.Entity) bool { return m.things[e] != nil }

// place is where a thing is on the ground.
func (m *mirror) place(e trace.Entity) (x, y float64, ok bool) {
	fields := m.things[e]
	x, y = fields[m.places[0]].Float(), fields[m.places[1]].Float()
	return x, y, !math.IsNaN(x) && !math.IsNaN(y)
}

// What a bot sees.

func (m *mirror) Inside() bool { return m.inside }

func (m *mirror) Own() (x, y, heading float64, ok bool) {
	if !m.inside {
		return 0, 0, 0, false
	}
	x, y, ok = m.place(m.own)
	if h := m.things[m.own][m.facing].Float(); m.facing != trace.Exists && !math.IsNaN(h) {
		heading = h
	}
	return x, y, heading, ok
}

func (m *mirror) Nearest(kind string) (x, y float64, ok bool) {
	ownX, ownY, _, _ := m.Own()
	best := math.Inf(1)
	for _, e := range m.entities() {
		id := m.names.EntityID(e)
		if e == m.own || !strings.HasPrefix(id, kind+"/") {
			continue
		}
		atX, atY, there := m.place(e)
		if d := math.Hypot(atX-ownX, atY-ownY); there && d < best {
			x, y, ok, best = atX, atY, true, d
		}
	}
	return x, y, ok
}

// entities lists what is there, in the order of their numbers.
func (m *mirror) entities() []trace.Entity {
	list := make([]trace.Entity, 0, len(m.things))
	for e := range m.things {
		list = append(list, e)
	}
	slices.Sort(list)
	return list
}

// fieldsOf names the fields of a thing, in the order of their numbers.
func fieldsOf(m *mirror, e trace.Entity) (list []string) {
	var numbers []trace.Field
	for field := range m.things[e] {
		if field != trace.Exists {
			numbers = append(numbers, field)
		}
	}
	slices.Sort(numbers)
	for _, field := range numbers {
		list = append(list, m.names.FieldName(field))
	}
	return list
}
