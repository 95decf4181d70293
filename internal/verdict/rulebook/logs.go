package rulebook

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"
)

// LogRule says how many lines of a program's log may say something. Each program that it is about
// is counted for itself.
type LogRule struct {
	Match  string // RE2, as package regexp has it
	In     string // Server, Clients, or a view's name; "" means every program
	Each   string // a named group of Match: lines are counted apart for each text that it finds; see Player
	After  Mark   // the lines are counted in Within after each of these; the zero value means over the whole match
	Within time.Duration
	Lines  Often
}

// Mark is something that happens in a match. One of its parts is given.
type Mark struct {
	Line       string // a line of a log that fits, as a regular expression
	Event      string // an event of this name
	Checkpoint string
	Joined     string // Itself or Anybody
	In         string // where: Server, Clients, or a view's name; "" means Server
}

const (
	// Clients is In of a rule about the logs of all clients.
	Clients = "clients"

	// Player is the name of a group that finds a player's name: every player of the match is counted,
	// also one that no line names.
	Player = "player"

	Itself  = "itself" // whose log it is
	Anybody = "anybody"
)

// Given reports whether it says anything.
func (m Mark) Given() bool { return m != Mark{} }

// Label names it.
func (m Mark) Label() string {
	switch {
	case m.Line != "":
		return quoted(m.Line)
	case m.Joined != "":
		return "joining"
	}
	return m.Event + m.Checkpoint
}

// Covers reports whether the rule is about the log of a view.
func (r LogRule) Covers(view string) bool { return covers(r.In, view) }

// Covers reports whether it is told by a view, or stands in its log.
func (m Mark) Covers(view string) bool {
	if m.In == "" && m.Joined == "" {
		return view == Server
	}
	return covers(m.In, view)
}

func covers(in, view string) bool {
	return in == "" || in == view || in == Clients && view != Server
}

// Label names the rule: by what it looks for, and where.
func (r LogRule) Label() string {
	text := quoted(r.Match)
	if r.In != "" {
		text += " in " + r.In
	}
	if r.After.Given() {
		text += " after " + r.After.Label()
	}
	return text
}

// quoted is a pattern as a plan has it, without escapes of its own.
func quoted(pattern string) string { return `"` + pattern + `"` }

// Validate reports the first thing that makes no sense, in the plan's words.
func (r LogRule) Validate() error {
	expression, err := lines("match", r.Match)
	if err != nil {
		return err
	}
	switch {
	case !r.Lines.Asks():
		return errors.New("add at-least, at-most or exactly: with none of them every log is right")
	case r.Each != "" && !slices.Contains(expression.SubexpNames(), r.Each):
		return fmt.Errorf("for-each: the pattern %q has no group of that name; write it as (?P<%s>...)", r.Match, r.Each)
	case r.Each != "" && r.After.Given():
		return errors.New("for-each: with after, a group that both have is compared; leave for-each out")
	case r.After.Given() && (r.Within <= 0 || r.Within > time.Hour):
		return errors.New("within: after needs it, like 2s, and at most 1h")
	case !r.After.Given() && r.Within != 0:
		return errors.New("within: it goes with after: within what time after something")
	}
	if err := r.After.validate(); err != nil {
		return fmt.Errorf("after: %w", err)
	}
	return r.Lines.Validate()
}

func (m Mark) validate() error {
	given := 0
	for _, part := range []string{m.Line, m.Event, m.Checkpoint, m.Joined} {
		if part != "" {
			given++
		}
	}
	switch {
	case m == Mark{}:
		return nil
	case given != 1:
		return errors.New("write one of line, event, checkpoint and joined")
	case m.Line != "":
		_, err := lines("line", m.Line)
		return err
	}
	return nil
}

func lines(key, pattern string) (*regexp.Regexp, error) {
	expression, err := regexp.Compile(pattern)
	switch {
	case pattern == "":
		return nil, fmt.Errorf("%s: write what a line must contain, as a regular expression", key)
	case err != nil:
		return nil, fmt.Errorf("%s: %q is no regular expression (RE2): %w", key, pattern, err)
	case expression.MatchString(""):
		return nil, fmt.Errorf("%s: %q fits every line, also an empty one", key, pattern)
	}
	return expression, nil
}
