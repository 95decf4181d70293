package rulebook

import (
	"fmt"
	"path"
	"strings"
	"time"
)

// Law is what an invariant demands.
type Invariant string

const (
	One     Invariant = "one"     // exactly one entity fits
	Unique  Invariant = "unique"  // no two entities have the same value of the field
	Apart   Invariant = "apart"   // entities are at least so far from each other when an event happens, or a player joins
	Range   Invariant = "range"   // a value stays between least and most
	Rising  Invariant = "rising"  // a value never falls
	Falling Invariant = "falling" // a value never rises
	Speed   Invariant = "speed"   // a place changes at most so fast, a second; leaps below least do not count
)

// Laws lists them.
var Invariants = []Invariant{One, Unique, Apart, Range, Rising, Falling, Speed}

// WorldRule is a rule that the world itself must keep, in the reference's view.
// What differs from there in other views is for the watch rules to find.
type InvariantRule struct {
	Invariant   Invariant
	Entities    string   // pattern on the entity's id
	Fields      []string // the place (Apart, Speed) or the field (Unique, Range, Rising, Falling)
	When        string   // Apart: the event; "" is when a player joins, and then about that player alone
	Min         float64
	Max         float64
	MinDuration time.Duration // One and Unique: how long it may be broken
}

// Label names the rule in a verdict: "unique player".
func (r InvariantRule) Label() string {
	label := strings.TrimSpace(string(r.Invariant) + " " + strings.Join(r.Fields, ", "))
	if r.When != "" {
		label += " when " + r.When
	}
	return label
}

// Fits reports whether the rule speaks of that entity.
func (r InvariantRule) Fits(entity string) bool {
	ok, err := path.Match(r.Entities, entity)
	return ok && err == nil
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r InvariantRule) Validate() error {
	if _, err := path.Match(r.Entities, "x"); err != nil || r.Entities == "" {
		return fmt.Errorf(`entities: %q is not a pattern; write one like "dog/*"`, r.Entities)
	}
	fields := map[Invariant][2]int{One: {0, 0}, Unique: {1, 1}, Apart: {1, 3}, Range: {1, 1}, Rising: {1, 1}, Falling: {1, 1}, Speed: {1, 3}}[r.Invariant]
	switch n := len(r.Fields); {
	case n < fields[0] || n > fields[1]:
		return fmt.Errorf("fields: the invariant %s takes %d to %d fields, here are %d", r.Invariant, fields[0], fields[1], n)
	case r.When != "" && r.Invariant != Apart:
		return fmt.Errorf("when: only the invariant apart is about a moment")
	case r.Invariant == Apart && !(r.Min > 0):
		return fmt.Errorf("min: the invariant apart needs the distance, above 0")
	case r.Invariant == Speed && !(r.Max > 0):
		return fmt.Errorf("max: the invariant speed needs the speed, above 0")
	case r.Invariant == Range && !(r.Min < r.Max):
		return fmt.Errorf("max: %v is not above least, %v", r.Max, r.Min)
	}
	return nil
}

// Sequence is a chain of steps that must complete once it has begun, for each
// key on its own.
type Sequence struct {
	Name   string
	By     string // what the steps of one chain have in common: by, id or entity
	Unless string // a mark that ends a chain without fault
	Begun  Often  // how often one must begin
	Steps  []SequenceStep
}

// SequenceStep is one step of a chain: a mark or an event, in some view.
type SequenceStep struct {
	Checkpoint, Event string        // one of them
	In                string        // one of SequenceViews
	Within            time.Duration // of the step before
}

// What names the step in a verdict.
func (s SequenceStep) What() string {
	if s.Checkpoint != "" {
		return "mark " + s.Checkpoint
	}
	return "event " + s.Event
}

// Where a step of a sequence happens.
const (
	InServer = "server"
	InClient = "client" // of the one that began the chain
	InAll    = "all"
)

// SequenceViews are all of them.
var SequenceViews = []string{InServer, InClient, InAll}

// Validate reports the first thing that makes no sense, in the plan's words.
func (s Sequence) Validate() error {
	if s.Name == "" {
		return fmt.Errorf("name: a sequence needs one")
	}
	if len(s.Steps) < 2 {
		return fmt.Errorf("steps: a sequence has at least two, here are %d", len(s.Steps))
	}
	for i, step := range s.Steps {
		switch {
		case (step.Checkpoint == "") == (step.Event == ""):
			return fmt.Errorf("steps: step %d needs a mark: or an event:, and not both", i+1)
		case i == 0 && step.In == "all":
			return fmt.Errorf("steps: the first step happens in one view: server or client")
		case i > 0 && step.Within <= 0:
			return fmt.Errorf("steps: step %d needs within:, the time it may take", i+1)
		}
	}
	return s.Begun.Validate()
}

// Limit is the most that a measure may reach in any view.
type Limit struct {
	Measure string
	Max     float64 // in the measure's own unit
}

// Measures are the measures that can have a limit, with the unit they are in.
var Measures = []string{
	"age-p95-ms", "age-max-ms",
	"corrections-per-minute", "correction-p95", "correction-max",
	"response-own-ms", "response-server-ms", "response-others-ms",
	"unevenness", "standing", "leaps-per-minute", "leap-p95", "off-path-p95", "overshoot-p95", "settling-p95-ms",
	"own-unevenness", "own-standing", "own-leaps-per-minute", "own-leap-p95", "own-off-path-p95", "own-overshoot-p95", "own-settling-p95-ms",
	"predicted-from-received-p95", "shown-from-predicted-p95", "shown-from-received-p95",
	"join-shown-ms", "join-moves-ms", "join-complete-ms",
	"clock-error-ms",
	"up-bytes-per-second", "down-bytes-per-second", "up-packets-per-second", "down-packets-per-second",
	"idle-up-bytes-per-second", "idle-down-bytes-per-second",
	"tick-interval-p95-ms", "tick-pause-ms", "server-tick-interval-p95-ms", "server-tick-interval-p99-ms", "server-tick-pause-ms", "rollbacks-per-minute", "rollback-depth",
	"cpu-cores", "resident-mb", "server-cpu-cores", "server-resident-mb",
}
