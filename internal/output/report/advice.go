package report

import (
	"fmt"
	"strings"

	"zitherwheel/internal/review/suggest"
)

// Advice writes which knobs of the rules a healthy run asks to turn.
func (t *Text) Advice(a *suggest.Advice) {
	if a.Findings == 0 {
		fmt.Fprintf(t.w, "There is nothing to change: no finding by these rules.\n")
		return
	}
	last := ""
	for _, c := range a.Changes {
		word := "or"
		if c.Rule != last {
			fmt.Fprintf(t.w, "%s: %s\n", c.Rule, findingsOf(c.Of))
			last, word = c.Rule, "  "
		}
		instead := "; it was not set"
		if c.From != "" {
			instead = " instead of " + c.From
		}
		what := fmt.Sprintf("%d of %d of them", len(c.Explains), c.Of)
		if len(c.Explains) == c.Of {
			what = "all of them"
			if c.Of == 1 {
				what = "it"
			}
		}
		fmt.Fprintf(t.w, "  %s %s: %s%s explains %s (%s)\n", word, c.Knob, c.To, instead, what, few(c.Explains))
	}
	if len(a.Left) > 0 {
		fmt.Fprintf(t.w, "No knob explains %s: that is a mistake, or no rule for it is right.\n", few(a.Left))
	}
	switch {
	case a.InSync:
		fmt.Fprintf(t.w, "With the first of each rule the run is in sync.\n")
	case len(a.Changes) > 0:
		fmt.Fprintf(t.w, "With the first of each rule the run is still not in sync.\n")
	}
	for _, h := range a.Hides {
		fmt.Fprintf(t.w, "%s %s of %s: %s\n", t.colour("3", "That would hide"), h.Finding, h.Run, h.What)
	}
}

func findingsOf(n int) string {
	if n == 1 {
		return "1 finding"
	}
	return fmt.Sprintf("%d findings", n)
}

// few lists the first of some names.
func few(names []string) string {
	const most = 6
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
