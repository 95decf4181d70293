package rulebook

import (
	"fmt"
	"path"
	"time"
)

// EventRule says who should get an event, and how. The first rule of a list
// whose pattern fits decides; an event without a rule is counted, not judged.
type EventRule struct {
	Event       string   // pattern on the event's name
	SeenBy      Audience // OwnerOnly: whom it is addressed to; AllButOwner: all but who did it
	MaxDelay    time.Duration
	MaxAhead    time.Duration // how long before the reference a view may tell of it: prediction
	MinDuration time.Duration // lost if it has not come so long after lag
	Grace       time.Duration // what is told so soon after a view joined need not come
	Ordered     bool          // views must see those of this rule in the reference's order
	Told        Often         // how often the reference must tell any of it
}

// FindEvent returns the first rule that fits, or nil.
func FindEvent(rules []EventRule, event string) *EventRule {
	for i := range rules {
		if ok, err := path.Match(rules[i].Event, event); ok && err == nil {
			return &rules[i]
		}
	}
	return nil
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r EventRule) Validate() error {
	if _, err := path.Match(r.Event, "x"); err != nil || r.Event == "" {
		return fmt.Errorf(`event: %q is not a pattern; write a name, or "*"`, r.Event)
	}
	if r.SeenBy == InRange {
		return fmt.Errorf("seen-by: events cannot be watched by nearness; write everyone, owner, others or nobody")
	}
	return r.Told.Validate()
}
