// Package rulebook says what is to be watched in a match: how fields are compared,
// who should get which event, which rules the world keeps, which chains of steps
// must complete, and which limits hold. It holds rules and finds the one that
// applies; it compares nothing itself and knows neither traces nor verdicts.
package rulebook

import (
	"fmt"
	"math"
	"path"
	"strings"
	"time"
)

const (
	Server      = "server" // the name of the server's view
	NoReference = "none"   // where views are compared with each other
)

// Compare is the way in which values are compared.
type Compare uint8

const (
	Exact    Compare = iota // equal or not: flags, texts, counts
	Distance                // numbers; several fields together are one vector
	Angle                   // one number on a circle
)

func (c Compare) String() string { return [...]string{"exact", "distance", "angle"}[c] }

// Relation tells the entity that a view's player controls from all the others.
type Relation uint8

const (
	Any Relation = iota
	Own
	Others
)

func (r Relation) String() string { return [...]string{"any", "own", "others"}[r] }

// Audience is who should see what a rule names.
type Audience uint8

const (
	Everyone  Audience = iota
	OwnerOnly          // the view whose own entity it is
	AllButOwner
	InRange // views whose own entity is near; see Rule.Radius
	Nobody  // cosmetic: recorded, never judged
)

func (a Audience) String() string {
	return [...]string{"everyone", "owner", "others", "in-range", "nobody"}[a]
}

// Role is what a field means beyond its value.
type Role uint8

const (
	Plain   Role = iota
	Owner        // the name of the view that owns the entity
	Outcome      // a result of the match
	Sum          // a checksum of the state
)

func (r Role) String() string { return [...]string{"plain", "owner", "outcome", "checksum"}[r] }

// Rules is everything that is watched. The zero value watches nothing.
type Rules struct {
	Fields     []Rule
	Events     []EventRule
	Effects    []EffectRule
	Invariants []InvariantRule
	Sequences  []Sequence
	Limits     []Limit
	Logs       []LogRule
	News       News
	Refused    []string // players that must be refused
	TickRate   int      // that every side should tell a second; 0: nobody said
}

// News is the smallest packet of each direction, in bytes, that can carry news of
// the game: inputs up, snapshots and events down. A smaller one that arrives (an
// answer to a ping, say) does not mean that anything was heard.
type News struct{ Up, Down int }

// Existence is the name under which a rule speaks of whether an entity is there
// at all, rather than of one of its fields.
const Existence = "existence"

// Rule is one watch rule. The first rule of a list that fits decides.
//
// A client's value at time t is explained if the server's value was within
// Within of it at some moment of [t-Lag, t+Lead].
type Rule struct {
	Entities       string   // pattern on the entity's id, as in path.Match: "dog/*"
	Of             Relation // which entities, seen from a view
	Fields         []string // compared together; [Existence] for the entity itself
	Compare        Compare
	Tolerance      float64       // tolerance, in the fields' own unit
	Circle         float64       // Angle: a full turn in the field's unit, 360 or 2π
	MaxDelay       time.Duration // how old a server value a client may show
	MaxAhead       time.Duration // how far ahead of the server a client may be: prediction
	ResentWithin   time.Duration // what is lost on the way is sent again, and comes within so long; 0 if it is not
	MinDuration    time.Duration // how much unexplained time makes a finding
	TimeDriven     bool          // the view works it out from the shared clock: what the link holds back excuses nothing
	EveryValue     bool          // exact: each value that stood for longer than lag and the interval of sending must have shown
	Role           Role
	Quantum        float64 // step of the number on the wire, if known; 0 if not
	SeenBy         Audience
	InterestRadius float64       // Near: seen for certain within this distance
	LeaveRadius    float64       // Near: certainly no longer expected beyond this distance (hysteresis), at least Radius
	Place          []string      // Near: the fields that hold a position
	Grace          time.Duration // after joining or coming near, nothing is expected for so long
}

// Defaults for what a rule leaves out.
const (
	DefaultMaxDelay    = 250 * time.Millisecond
	DefaultMinDuration = 500 * time.Millisecond
	TimeDrivenDuration = 200 * time.Millisecond // the default of min-duration for what is right when it is said
	DefaultGrace       = time.Second
)

// How far a knob of a rule is turned at most to explain a finding: what takes more is no matter of knobs.
const (
	KnobTimes = 10              // times what it is
	KnobDelay = 2 * time.Second // or so much, of times
)

// Label is how a verdict names what a rule compares: "x, y" or "existence".
func (r Rule) Label() string { return strings.Join(r.Fields, ", ") }

// Name tells a rule from others: "duck/* x, y" or "duck/* x, y (own)".
func (r Rule) Name() string { return RuleName(r.Entities, r.Label(), r.Of.String()) }

// RuleName is the name of a rule of which a verdict has the parts.
func RuleName(entities, label, of string) string {
	name := entities + " " + label
	if of != Any.String() {
		name += " (" + of + ")"
	}
	return name
}

// SentWith is how far from when the reference tells something it is sent to the views.
const SentWith = 150 * time.Millisecond

// PlaceOf is which fields hold the place of an entity: those of the first rule that
// compares it by distance; nil if there is none.
func PlaceOf(rules []Rule, id string) []string {
	if rule := PlaceRule(rules, id); rule != nil {
		return rule.Fields
	}
	return nil
}

// PlaceRule is the rule that compares where an entity is, or nil.
func PlaceRule(rules []Rule, id string) *Rule {
	for i := range rules {
		rule := &rules[i]
		if rule.Compare == Distance && len(rule.Fields) > 1 && rule.Judged() && rule.Of != Own && rule.Fits(id, false, rule.Fields[0]) {
			return rule
		}
	}
	return nil
}

// Checksum reports whether the rule compares a checksum: by its role, or by the name of
// its field.
func (r Rule) Checksum() bool {
	if r.Role != Plain || r.Compare != Exact || len(r.Fields) != 1 {
		return r.Role == Sum
	}
	name := strings.ToLower(r.Fields[0])
	if name == "sum" {
		return true
	}
	for _, word := range []string{"checksum", "hash", "crc", "digest"} {
		if strings.HasPrefix(name, word) || strings.HasSuffix(name, word) {
			return true
		}
	}
	return false
}

// Judged reports whether anything is compared under the rule at all.
func (r Rule) Judged() bool { return r.SeenBy != Nobody }

// Fits reports whether the rule speaks of that field of that entity, for a view
// to which the entity is its own, or not.
func (r Rule) Fits(entity string, own bool, field string) bool {
	if r.Of == Own && !own || r.Of == Others && own {
		return false
	}
	for _, f := range r.Fields {
		if f == field {
			matched, err := path.Match(r.Entities, entity)
			return matched && err == nil
		}
	}
	return false
}

// Find returns the index of the first rule that fits, or -1.
func Find(rules []Rule, entity string, own bool, field string) int {
	for i := range rules {
		if rules[i].Fits(entity, own, field) {
			return i
		}
	}
	return -1
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r Rule) Validate() error {
	if _, err := path.Match(r.Entities, "x"); err != nil || r.Entities == "" {
		return fmt.Errorf(`entities: %q is not a pattern; write one like "dog/*"`, r.Entities)
	}
	if len(r.Fields) == 0 {
		return fmt.Errorf(`fields: none named; write the fields to compare, or %s`, Existence)
	}
	for _, f := range r.Fields {
		if f == Existence && len(r.Fields) > 1 {
			return fmt.Errorf("fields: %s cannot be compared together with fields; give it a rule of its own", Existence)
		}
	}
	for _, d := range []struct {
		name  string
		value time.Duration
	}{{"max-delay", r.MaxDelay}, {"max-ahead", r.MaxAhead}, {"resent-within", r.ResentWithin}, {"min-duration", r.MinDuration}, {"grace", r.Grace}} {
		if d.value < 0 || d.value > time.Hour {
			return fmt.Errorf("%s: %v is not between 0 and 1h", d.name, d.value)
		}
	}
	switch {
	case r.Compare == Angle && len(r.Fields) != 1:
		return fmt.Errorf("fields: an angle is one field, here are %d", len(r.Fields))
	case r.Compare == Exact && len(r.Fields) != 1:
		return fmt.Errorf("fields: only distances are compared together; give each of %s a rule of its own", r.Label())
	case r.EveryValue && r.Compare != Exact:
		return fmt.Errorf("every-value: only exact values can be asked to show each, not distances and angles")
	case len(r.Fields) > 3:
		return fmt.Errorf("fields: a vector has at most 3 fields, here are %d", len(r.Fields))
	case r.Compare == Angle && !(r.Circle > 0):
		return fmt.Errorf("circle: an angle needs the size of a full turn, 360 or 6.2832")
	case !(r.Tolerance >= 0) || math.IsInf(r.Tolerance, 0):
		return fmt.Errorf("tolerance: %v is negative or infinite; write 0 or more", r.Tolerance)
	case !(r.Quantum >= 0) || math.IsInf(r.Quantum, 0):
		return fmt.Errorf("quantum: %v is not a step; write 0 or more", r.Quantum)
	case r.SeenBy == InRange && !(r.InterestRadius > 0):
		return fmt.Errorf("interest-radius: seen-by: in-range needs it; write a distance above 0")
	case r.SeenBy == InRange && r.LeaveRadius < r.InterestRadius:
		return fmt.Errorf("leave-radius: %v is below the interest-radius of %v", r.LeaveRadius, r.InterestRadius)
	case r.SeenBy == InRange && (len(r.Place) == 0 || len(r.Place) > 3):
		return fmt.Errorf("place: seen-by: in-range needs the fields that hold a position, like [x, y]")
	}
	return nil
}
