package report

import (
	"fmt"
	"strings"

	"zitherwheel/internal/match"
)

// Step writes a step of a preflight: one line, and what is wrong below it.
func (t *Text) Step(s match.Step) {
	mark := t.colour("2", "ok  ")
	switch {
	case s.Skipped:
		mark = "-   "
	case s.Error != "":
		mark = t.colour("1", "FAIL")
	}
	came := s.Observed
	if s.Error != "" {
		came = s.Error
	}
	fmt.Fprintf(t.w, "%s %-46s %8.3f s  %s\n", mark, s.Name, s.Took.Seconds(), came)
	if s.Error == "" {
		return
	}
	fmt.Fprintf(t.w, "       tried: %s\n", s.Tried)
	if s.Hint != "" {
		fmt.Fprintf(t.w, "       to do: %s\n", s.Hint)
	}
	if len(s.Log) > 0 {
		fmt.Fprintf(t.w, "       the last log lines:\n         %s\n", strings.Join(s.Log, "\n         "))
	}
}
