package trace

import "fmt"

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
// value is not usable; see [NewNames]. Not safe for concurrent use.
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
	n := &Names{MostEntities, newTable(), newTable(), newTable()}
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
	if n.Most > 0 && len(n.entities.names) > n.Most+1 {
		return &TooManyError{n.Most}
	}
	return nil
}

func (n *Names) Entity(id string) Entity  { return Entity(n.entities.number(id)) }
func (n *Names) Field(name string) Field  { return Field(n.fields.number(name)) }
func (n *Names) Text(s string) Value      { return Value{kind: KindText, bits: uint64(n.texts.number(s))} }
func (n *Names) EntityID(e Entity) string { return n.entities.names[e] }
func (n *Names) FieldName(f Field) string { return n.fields.names[f] }

// TextOf returns the string of a text value, and "" of any other value.
func (n *Names) TextOf(v Value) string {
	if v.kind != KindText {
		return ""
	}
	return n.texts.names[v.bits]
}

// table numbers strings in the order they are first seen. It also remembers
// which string followed which, because a trace says the same things in the same
// order again and again: a reader that guesses the next name rightly need not
// look it up.
type table struct {
	numbers map[string]int32
	names   []string
	follows []int32 // follows[a] came after a when a was last seen
}

func newTable() table { return table{numbers: map[string]int32{}} }

func (t *table) number(name string) int32 {
	if n, ok := t.numbers[name]; ok {
		return n
	}
	n := int32(len(t.names))
	t.numbers[name] = n
	t.names = append(t.names, name)
	t.follows = append(t.follows, n)
	return n
}

// numberAfter numbers a name that stands after previous in the text.
func (t *table) numberAfter(previous int32, name []byte) int32 {
	n, ok := t.numbers[string(name)]
	if !ok {
		n = t.number(string(name))
	}
	t.follows[previous] = n
	return n
}
