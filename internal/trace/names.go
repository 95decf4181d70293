package trace

import (
	"fmt"
	"sync"
	"sync/atomic"
)

// Entity, Field and Text are small numbers that stand for strings, so that a
// record can be compared and copied without touching them. They mean something
// only together with the [Names] they came from.
type (
	Entity int32 // a networked thing, by its id "kind/name"
	Field  int32 // one named value of a thing
	Text   int32 // a value that is text
)

// Nobody is the entity without a name: none.
const Nobody Entity = 0

// Exists is not a field of the game: a change of it says that the entity is
// there, without saying anything about its values.
const Exists Field = 0

// Names holds the strings of a set of traces that belong together. The zero
// value is not usable; see [NewNames]. It is safe for concurrent use, but for reading
// traces into it, which one goroutine may do at a time.
type Names struct {
	Most int // entities that readers may name; beyond, they end with a *TooMany

	entities, fields, texts table
}

// MostEntities is how many entities a match may have, unless more are allowed. Whoever
// judges one needs about 4 KB for each.
const MostEntities = 100_000

// TooMany is the error of a trace that names more entities than are allowed.
type TooManyError struct{ Most int }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("more than %d entities are named; an entity must keep its name as long as it exists. If there are so many, allow it with max-entities in the plan or --max-entities", e.Most)
}

// NewNames returns a set without any names.
func NewNames() *Names {
	n := &Names{Most: MostEntities}
	for _, t := range []*table{&n.entities, &n.fields, &n.texts} {
		t.numbers = map[string]int32{}
		t.names.Store(&[]string{})
	}
	n.entities.number("") // Nobody
	n.fields.number("")   // Exists
	return n
}

// AnyNames returns a set without any names and without a bound: for looking into traces
// that were judged, or of which little more than names is kept.
func AnyNames() *Names {
	n := NewNames()
	n.Most = 0
	return n
}

// full is an error if there are more entities than are allowed.
func (n *Names) full() error {
	if n.Most > 0 && len(n.entities.all()) > n.Most+1 {
		return &TooManyError{n.Most}
	}
	return nil
}

func (n *Names) Entity(id string) Entity  { return Entity(n.entities.number(id)) }
func (n *Names) Field(name string) Field  { return Field(n.fields.number(name)) }
func (n *Names) Text(s string) Value      { return Value{kind: KindText, bits: uint64(n.texts.number(s))} }
func (n *Names) EntityID(e Entity) string { return n.entities.all()[e] }
func (n *Names) FieldName(f Field) string { return n.fields.all()[f] }

// TextOf returns the string of a text value, and "" of any other value.
func (n *Names) TextOf(v Value) string {
	if v.kind != KindText {
		return ""
	}
	return n.texts.all()[v.bits]
}

// table numbers strings in the order they are first seen.
type table struct {
	lock    sync.RWMutex
	numbers map[string]int32
	names   atomic.Pointer[[]string] // by number; only ever added to

	// Which string followed which: a trace says the same things in the same order again and again, and a reader that
	// guesses the next name rightly need not look it up. It is for one reader at a time.
	follows []int32
}

func (t *table) all() []string { return *t.names.Load() }

func (t *table) number(name string) int32 {
	t.lock.RLock()
	n, ok := t.numbers[name]
	t.lock.RUnlock()
	if ok {
		return n
	}
	t.lock.Lock()
	defer t.lock.Unlock()
	if n, ok := t.numbers[name]; ok {
		return n
	}
	names := t.all()
	n = int32(len(names))
	names = append(names, name)
	t.numbers[name] = n
	t.names.Store(&names)
	return n
}

// numberAfter numbers a name that stands after previous in the text.
func (t *table) numberAfter(previous int32, name []byte) int32 {
	t.lock.RLock()
	n, ok := t.numbers[string(name)]
	t.lock.RUnlock()
	if !ok {
		n = t.number(string(name))
	}
	for len(t.follows) <= int(previous) {
		t.follows = append(t.follows, int32(len(t.follows)))
	}
	t.follows[previous] = n
	return n
}

// after is what stood after a name when that was last seen.
func (t *table) after(previous int32) int32 {
	if int(previous) < len(t.follows) {
		return t.follows[previous]
	}
	return previous
}
