package rulebook

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"path"
	"time"
)

// EventRule says who should get an event, and how. The first rule of a list
// whose pattern fits decides; an event without a rule is counted, not judged.
type EventRule struct {
	Event        string   // pattern on the event's name
	Checkpoint   string   // instead of Event: pattern on a checkpoint's name. Those are counted alone
	SeenBy       Audience // OwnerOnly: whom it is addressed to; AllButOwner: all but who did it
	MaxDelay     time.Duration
	MaxAhead     time.Duration // how long before the reference a view may tell of it: prediction
	ResentWithin time.Duration // as for a watch rule
	MinDuration  time.Duration // lost if it has not come so long after lag
	Grace        time.Duration // what is told so soon after a view joined need not come
	Ordered      bool          // views must see those of this rule in the reference's order
	NotBefore    string        // an event or checkpoint that a view must have told before, since it joined
	Told         Often         // how often the reference must tell any of it
	PerSender    Often         // how often by each player
	PerPlayer    Often         // how often each client must tell of it
	PerPair      Often         // how often of each player
	Data         DataRule      // how the data of both sides are compared
}

// Label names the rule by its pattern.
func (r *EventRule) Label() string { return r.Event + r.Checkpoint }

// Counts reports whether the rule asks how often something happens.
func (r *EventRule) Counts() bool {
	return r.Told.Asks() || r.PerSender.Asks() || r.PerPlayer.Asks() || r.PerPair.Asks()
}

// FindEvent returns the first rule that fits, or nil.
func FindEvent(rules []EventRule, event string) *EventRule {
	return find(rules, event, func(r *EventRule) string { return r.Event })
}

// FindCheckpoint returns the first rule about checkpoints that fits, or nil.
func FindCheckpoint(rules []EventRule, checkpoint string) *EventRule {
	return find(rules, checkpoint, func(r *EventRule) string { return r.Checkpoint })
}

func find(rules []EventRule, name string, pattern func(*EventRule) string) *EventRule {
	for i := range rules {
		if fits(pattern(&rules[i]), name) {
			return &rules[i]
		}
	}
	return nil
}

// fits reports whether a name fits a pattern. What has no name fits none.
func fits(pattern, name string) bool {
	if name == "" {
		return false
	}
	ok, err := path.Match(pattern, name)
	return ok && err == nil
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r EventRule) Validate() error {
	if (r.Event == "") == (r.Checkpoint == "") {
		return errors.New(`write event: with a pattern on the names of events, like "*", or checkpoint: with one on those of checkpoints`)
	}
	if _, err := path.Match(r.Label(), "x"); err != nil {
		return fmt.Errorf(`event: %q is not a pattern; write a name, or "*"`, r.Label())
	}
	switch {
	case r.SeenBy == InRange:
		return errors.New("seen-by: events cannot be watched by nearness; write everyone, owner, others or nobody")
	case r.Checkpoint != "" && !r.Counts() && r.NotBefore == "":
		return errors.New("checkpoint: it is only counted, so say how often: at-least, at-most, exactly, per-player, per-sender or per-pair; or not-before")
	case r.Checkpoint != "" && (r.Ordered || r.MaxAhead != 0 || len(r.Data) > 0):
		return errors.New("checkpoint: it is only counted; ordered, max-ahead and data go with event")
	}
	return errors.Join(r.Told.Validate(), r.PerSender.Validate(), r.PerPlayer.Validate(), r.PerPair.Validate())
}

// EffectRule says by how much a number changes when an event happens, once, on the server and in
// every view that tells of the event.
type EffectRule struct {
	Event     string // pattern on the event's name
	Whose     string // whose number: of the own entity of the player in by or to, or of the entity that the event names
	Field     string
	Change    float64
	Tolerance float64
	Min, Max  float64       // the number stays between them, whatever happens; both 0 means that nothing bounds it
	Within    time.Duration // before or after the event
}

// EffectTargets are what Whose may be.
var EffectTargets = []string{"entity", "by", "to"}

// Label names the rule: stamina (by) after snatched.
func (r *EffectRule) Label() string {
	return fmt.Sprintf("%s (%s) after %s", r.Field, r.Whose, r.Event)
}

// Fits reports whether the rule is about an event.
func (r *EffectRule) Fits(event string) bool { return fits(r.Event, event) }

// After is what a number that was so much must be when the event has happened so often.
func (r *EffectRule) After(before float64, times int) float64 {
	after := before + float64(times)*r.Change
	if r.Min != 0 || r.Max != 0 {
		after = min(max(after, r.Min), r.Max)
	}
	return after
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r EffectRule) Validate() error {
	_, err := path.Match(r.Event, "x")
	switch {
	case err != nil || r.Event == "":
		return fmt.Errorf(`event: %q is not a pattern; write a name, or "*"`, r.Event)
	case r.Field == "":
		return errors.New("field: name the field that changes")
	case r.Change == 0 || math.IsInf(r.Change, 0) || math.IsNaN(r.Change):
		return errors.New("change: write by how much the field changes, like -25")
	case !(r.Tolerance >= 0) || r.Tolerance >= math.Abs(r.Change)/2:
		return fmt.Errorf("tolerance: %v must be 0 or more, and less than half of the change, or half an effect would pass", r.Tolerance)
	case r.Within <= 0 || r.Within > time.Minute:
		return fmt.Errorf("within: %v is not between 0 and 1m", r.Within)
	case r.Min > r.Max:
		return errors.New("min is more than max")
	}
	return nil
}

// DataRule is by how much numbers in the data of an event may differ between two sides, by their
// keys at whatever depth; "*" is for keys that are not named, +Inf for what is not compared at all.
// The zero value compares everything exactly.
type DataRule map[string]float64

// Same compares data as compact JSON. What is no JSON is compared as text.
func (d DataRule) Same(a, b string) bool {
	if a == b || len(d) == 0 {
		return a == b
	}
	var left, right any
	if json.Unmarshal([]byte(a), &left) != nil || json.Unmarshal([]byte(b), &right) != nil {
		return false
	}
	return d.same("", left, right)
}

func (d DataRule) same(key string, a, b any) bool {
	if math.IsInf(d.of(key), 1) {
		return true
	}
	switch a := a.(type) {
	case float64:
		b, number := b.(float64)
		return number && math.Abs(a-b) <= d.of(key)
	case []any:
		b, list := b.([]any)
		if !list || len(a) != len(b) {
			return false
		}
		for i := range a {
			if !d.same(key, a[i], b[i]) {
				return false
			}
		}
		return true
	case map[string]any:
		b, object := b.(map[string]any)
		if !object {
			return false
		}
		for name := range a {
			if _, has := b[name]; !d.same(name, a[name], b[name]) || !has && !math.IsInf(d.of(name), 1) {
				return false
			}
		}
		for name := range b {
			if _, has := a[name]; !has && !math.IsInf(d.of(name), 1) {
				return false
			}
		}
		return true
	}
	return a == b
}

func (d DataRule) of(key string) float64 {
	if tolerance, named := d[key]; named {
		return tolerance
	}
	return d["*"]
}
