// Package cost tells what each field of a game's state costs on the wire, and what would do: from
// what the server told of it and from the tolerances within which anybody looks. It knows nothing
// of how a game packs its messages: what it reckons is the least that the values need.
package cost

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Report is what the state of a match costs. Rates are a second, of one client that is told all.
type Report struct {
	Length   float64 `json:"length_s"`
	Told     float64 `json:"told_per_second"` // records of the server
	Clients  int     `json:"clients"`
	Fields   []Field `json:"fields"`
	Measured Traffic `json:"measured"`
	Rates    []Rate  `json:"rates"`
	Advice   []Tip   `json:"advice"` // what gains most first
}

// Traffic is what went over the wire, as measured.
type Traffic struct {
	Egress    float64 `json:"server_egress"`  // bytes a second, to all clients
	Ingress   float64 `json:"server_ingress"` // from all
	PerPlayer float64 `json:"per_player"`     // to one, on average
	PerHour   float64 `json:"gb_per_hour"`    // of the server, both ways; 1e9 bytes
}

// Field is one field of one sort of entity.
type Field struct {
	Sort     string `json:"sort"`  // of entity
	Field    string `json:"field"` //
	Entities int    `json:"entities"`

	Updates float64  `json:"updates_per_second"` // told, of all entities
	Changes float64  `json:"changes_per_second"` // of those, told another value
	Small   float64  `json:"small"`              // share of the changes that is less than the tolerance, since the value that was seen last
	Kind    string   `json:"kind"`               // number, flag, text
	Least   *float64 `json:"least,omitempty"`
	Most    *float64 `json:"most,omitempty"`
	Values  int      `json:"values"` // different ones, of mostValues at most
	Step    float64  `json:"step,omitempty"`

	Tolerance float64 `json:"tolerance,omitempty"` // of the rule that looks most closely
	Unseen    bool    `json:"unseen"`              // no rule lets anybody see it
	Now       float64 `json:"bits_now"`            // that a value needs as it is told
	Enough    float64 `json:"bits_enough"`         // at the tolerance
	Cost      float64 `json:"bytes_per_second"`    // changes alone, as they are told now
	Would     float64 `json:"bytes_enough"`        // at the tolerance, without what is too small to see

	moving float64 // share of the records in which one changes
}

// Rate is what the state would cost at another send rate.
type Rate struct {
	PerSecond float64 `json:"per_second"`
	Now       float64 `json:"bytes_now"` // a second, to one client
	Enough    float64 `json:"bytes_enough"`
	All       float64 `json:"bytes_all"` // to all clients, as now
}

// Tip is something that would do.
type Tip struct {
	Field string  `json:"field"` // SORT.FIELD
	Text  string  `json:"text"`
	Gain  float64 `json:"bytes_per_second"` // a client; 0 is a warning
	Share float64 `json:"share"`            // of what all fields cost now
}

// Collector takes in what a server tells. See [New].
type Collector struct {
	names   *trace.Names
	rules   []rulebook.Rule
	fields  map[key]*tally
	sorts   map[string]map[trace.Entity]bool
	records int
	first   time.Duration
	last    time.Duration
	began   bool
}

type key struct {
	sort  string
	field trace.Field
}

// mostValues is how many different values of a field are told apart.
const mostValues = 4096

type tally struct {
	last     map[trace.Entity]trace.Value
	seen     map[trace.Entity]float64 // the number that was seen last, beside the tolerance
	updates  int
	changes  int
	small    int
	numbers  bool
	flags    bool
	texts    bool
	longest  int
	least    float64
	most     float64
	step     float64 // of the decimal lattice so far; 0: there is none
	values   map[trace.Value]bool
	tol      float64
	unseen   bool
	compared bool
}

// New returns a collector.
func New(names *trace.Names, rules []rulebook.Rule) *Collector {
	return &Collector{names: names, rules: rules, fields: map[key]*tally{}, sorts: map[string]map[trace.Entity]bool{}}
}

// Record takes in a record of the server.
func (c *Collector) Record(r *trace.Record) {
	if len(r.State) == 0 {
		return
	}
	if !c.began {
		c.began, c.first = true, r.T
	}
	c.last = r.T
	c.records++
	for i := range r.State {
		if f := &r.State[i]; f.Field != trace.Exists {
			c.take(f)
		}
	}
}

func (c *Collector) take(f *trace.Change) {
	name := c.names.EntityID(f.Entity)
	sort, _, _ := strings.Cut(name, "/")
	if c.sorts[sort] == nil {
		c.sorts[sort] = map[trace.Entity]bool{}
	}
	c.sorts[sort][f.Entity] = true
	k := key{sort, f.Field}
	t := c.fields[k]
	if t == nil {
		t = &tally{last: map[trace.Entity]trace.Value{}, seen: map[trace.Entity]float64{}, values: map[trace.Value]bool{}, least: math.Inf(1), most: math.Inf(-1), step: 1e6}
		t.tol, t.unseen, t.compared = c.tolerance(name, c.names.FieldName(f.Field))
		c.fields[k] = t
	}
	t.updates++
	before, known := t.last[f.Entity]
	if known && before == f.Value {
		return
	}
	t.last[f.Entity] = f.Value
	if known {
		t.changes++
	}
	if len(t.values) < mostValues {
		t.values[f.Value] = true
	}
	switch f.Value.Kind() {
	case trace.KindBool:
		t.flags = true
	case trace.KindNumber:
		v := f.Value.Float()
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return
		}
		t.numbers = true
		t.least, t.most, t.step = min(t.least, v), max(t.most, v), Lattice(v, t.step)
		if seen, any := t.seen[f.Entity]; known && any && t.compared && math.Abs(v-seen) < t.tol {
			t.small++ // nobody would have seen it
			return
		}
		t.seen[f.Entity] = v
	default:
		t.texts = true
		t.longest = max(t.longest, len(c.names.TextOf(f.Value)))
	}
}

// tolerance is within how much the rule that looks most closely compares a field, and whether no
// rule lets anybody see it.
func (c *Collector) tolerance(entity, field string) (within float64, unseen, compared bool) {
	within, unseen = math.Inf(1), false
	nobody := 0
	for _, own := range [...]bool{true, false} {
		i := rulebook.Find(c.rules, entity, own, field)
		switch {
		case i < 0:
		case !c.rules[i].Judged():
			nobody++
		case c.rules[i].Compare != rulebook.Exact:
			within, compared = min(within, c.rules[i].Tolerance), true
		default:
			return 0, false, true
		}
	}
	if !compared {
		return 0, nobody == 2, false
	}
	return within, false, true
}

// Lattice is the decimal step, as coarse as step at most, that a value lies on; 0 if it needs more
// than six places.
func Lattice(v, step float64) float64 {
	for ; step >= 1e-6; step /= 10 {
		if off := math.Abs(math.Remainder(v, step)); off <= 1e-9*max(1, math.Abs(v)) {
			return step
		}
	}
	return 0
}

// Finish sums up. Without a lattice a number counts as 32 bits.
func (c *Collector) Finish(clients int, measured Traffic) *Report {
	length := (c.last - c.first).Seconds()
	r := &Report{Length: length, Clients: clients, Measured: measured, Fields: []Field{}, Rates: []Rate{}, Advice: []Tip{}}
	if length <= 0 {
		return r
	}
	r.Told = float64(c.records-1) / length
	for k, t := range c.fields {
		r.Fields = append(r.Fields, t.field(k.sort, c.names.FieldName(k.field), len(c.sorts[k.sort]), length, c.records))
	}
	slices.SortFunc(r.Fields, func(a, b Field) int {
		return cmp.Or(cmp.Compare(b.Cost, a.Cost), cmp.Compare(a.Sort, b.Sort), cmp.Compare(a.Field, b.Field))
	})
	r.rates()
	r.advise()
	return r
}

func (t *tally) field(sort, name string, entities int, length float64, records int) Field {
	f := Field{Sort: sort, Field: name, Entities: entities, Updates: float64(t.updates) / length, Changes: float64(t.changes) / length, Values: len(t.values),
		Tolerance: t.tol, Unseen: t.unseen, Kind: "text"}
	switch {
	case t.numbers && !t.texts:
		f.Kind, f.Step = "number", t.step
		f.Least, f.Most = &t.least, &t.most
		f.Now, f.Enough = 32, 32
		if t.step > 0 {
			f.Now = bits((t.most-t.least)/t.step + 1)
		}
		f.Enough = f.Now
		if t.compared && t.tol > t.step {
			f.Enough = min(f.Now, bits((t.most-t.least)/t.tol+1))
		}
	case t.flags && !t.texts:
		f.Kind, f.Now, f.Enough = "flag", 1, 1
	default:
		f.Now, f.Enough = float64(8*t.longest), bits(float64(len(t.values)))
		if len(t.values) >= mostValues {
			f.Enough = f.Now
		}
	}
	if t.changes > 0 {
		f.Small = float64(t.small) / float64(t.changes)
	}
	f.Cost = f.Changes * f.Now / 8
	f.Would = f.Changes * (1 - f.Small) * f.Enough / 8
	if f.Unseen {
		f.Would = 0
	}
	f.moving = float64(t.changes) / float64(max(1, entities*(records-1)))
	return f
}

// bits is how many it takes to tell so many values apart.
// The sum with zero makes a plain zero of a negative one.
func bits(values float64) float64 { return math.Ceil(math.Log2(max(1, values))-1e-9) + 0 }
