package rulebook

import (
	"errors"
	"fmt"
)

// Often is how often something must happen in a match. The zero value asks nothing.
type Often struct {
	Min    int
	Max    int
	Capped bool // Max counts
}

// Asks reports whether it asks anything.
func (o Often) Asks() bool { return o.Min > 0 || o.Capped }

// Exact reports whether it asks for one number, and not for none at all.
func (o Often) Exact() bool { return o.Capped && o.Min == o.Max && o.Min > 0 }

// Breach says how so many times are too many or too few, or "".
func (o Often) Breach(times int) string {
	switch {
	case o.Exact() && times != o.Min:
		return fmt.Sprintf(" (expected: exactly %d)", o.Min)
	case o.Capped && times > o.Max:
		return fmt.Sprintf(" (allowed: at most %d)", o.Max)
	case times < o.Min:
		return fmt.Sprintf(" (expected: at least %d)", o.Min)
	}
	return ""
}

// Validate reports what makes no sense, in the plan's words.
func (o Often) Validate() error {
	switch {
	case o.Min < 0 || o.Max < 0:
		return errors.New("at-least and at-most: write 0 or more")
	case o.Capped && o.Min > o.Max:
		return errors.New("at-least is more than at-most")
	}
	return nil
}
