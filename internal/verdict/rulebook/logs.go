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
	Lines Often
}

// Clients is In of a rule about the logs of all clients.
const Clients = "clients"

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
	case !r.Lines.Asks():
		return errors.New("add at-most, at-least or both: with neither every log is right")
	}
	return r.Lines.Validate()
}
