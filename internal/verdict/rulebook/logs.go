package rulebook

import (
	"errors"
	"fmt"
	"regexp"
)

// LogRule says how many lines of a program's log may say something. Each program that it is about
// is counted for itself.
type LogRule struct {
	Match string // RE2, as package regexp has it
	In    string // Server, Clients, or a view's name; "" means every program
	Min   int
	Max   int // NoMost means any number
}

// Clients is In of a rule about the logs of all clients.
const Clients = "clients"

// NoMost is Max of a rule that sets none.
const NoMost = -1

// Covers reports whether the rule is about the log of a view.
func (r LogRule) Covers(view string) bool {
	return r.In == "" || r.In == view || r.In == Clients && view != Server
}

// Label names the rule: by what it looks for, and where.
func (r LogRule) Label() string {
	if r.In == "" {
		return fmt.Sprintf("%q", r.Match)
	}
	return fmt.Sprintf("%q in %s", r.Match, r.In)
}

// Validate reports the first thing that makes no sense, in the plan's words.
func (r LogRule) Validate() error {
	expression, err := regexp.Compile(r.Match)
	switch {
	case r.Match == "":
		return errors.New("match: write what a line must contain, as a regular expression")
	case err != nil:
		return fmt.Errorf("match: %q is no regular expression (RE2): %w", r.Match, err)
	case expression.MatchString(""):
		return fmt.Errorf("match: %q fits every line, also an empty one", r.Match)
	case r.Min < 0 || r.Max < NoMost:
		return errors.New("at-least and at-most: write 0 or more")
	case r.Max != NoMost && r.Min > r.Max:
		return fmt.Errorf("at-least: %d is more than at-most: %d", r.Min, r.Max)
	case r.Min == 0 && r.Max == NoMost:
		return errors.New("add at-most, at-least or both: with neither every log is right")
	}
	return nil
}
