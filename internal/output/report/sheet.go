package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/review/inspect"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Sheet writes one entity at one moment: a row for each field, a column for each view.
func (t *Text) Sheet(s inspect.Sheet) {
	t.sheetTable(s)
	t.legend(s)
}

func (t *Text) sheetTable(s inspect.Sheet) {
	when := at(s.At)
	if s.Tick != nil {
		when = fmt.Sprintf("tick %d", *s.Tick)
	}
	fmt.Fprintf(t.w, "%s at %s, as each view had it\n\n", s.Entity, when)
	var table table
	heads := []string{"  field"}
	for _, view := range s.Views {
		head := view
		if view == s.Reference {
			head += " (reference)"
		}
		if slices.Contains(s.Left, view) {
			head += " (left)"
		}
		if slices.Contains(s.Silent, view) {
			if head += " (silent)"; s.Tick != nil {
				head = view + " (did not tell it)"
			}
		}
		if heads = append(heads, head); s.Tick == nil {
			heads = append(heads, "for")
		}
	}
	table.row(heads...)
	for _, row := range s.Rows {
		line := []string{strings.TrimRight("  "+row.Field+" "+row.Of, " ")}
		for _, c := range row.Cells {
			text := c.Value
			switch c.Mark {
			case judge.Delayed:
				text = "~ " + text
			case judge.Ahead:
				text = "^ " + text
			case judge.Differs:
				text = "! " + text
			case judge.Unjudged:
				text = "  " + text
			case judge.Same:
				text = "= " + text
			}
			if line = append(line, text); s.Tick == nil {
				line = append(line, held(s.At, c))
			}
		}
		table.row(line...)
	}
	table.write(t.w)
}

// legend explains the marks of a sheet.
func (t *Text) legend(s inspect.Sheet) {
	as := "the reference"
	if s.Reference == rulebook.NoReference {
		as = "most views"
	}
	if s.Tick != nil {
		fmt.Fprintf(t.w, "\n  = as %s   ! otherwise\n", as)
		return
	}
	fmt.Fprintf(t.w, "\n  = as %s   ~ as it was, no longer ago than is allowed   ^ ahead of it, as is allowed   ! nothing explains it\n  no mark: not judged   for: how long the view has held the value\n", as)
}

func held(now judge.Seconds, c inspect.Cell) string {
	switch {
	case c.Value == "-":
		return ""
	case c.Since == nil:
		return fmt.Sprintf("> %.0f s", (inspect.LookBack - time.Second).Seconds())
	}
	return fmt.Sprintf("%.2f s", time.Duration(now-*c.Since).Seconds())
}

// Story writes the chapters of a story, with the moment at which a finding began
// between them.
func (t *Text) Story(f *judge.Finding, chapters []inspect.Chapter) {
	fmt.Fprintf(t.w, "%s %s: %s\n\n", f.ID, t.colour("1", string(f.Kind)), Sentence(f))
	var table table
	begun := false
	for _, c := range chapters {
		if !begun && c.At >= f.BeganAt {
			begun = true
			table.row("  "+at(f.BeganAt), "", "FINDING", f.ID+" begins here")
		}
		table.row("  "+at(c.At), c.Who, c.What, c.Text)
	}
	table.write(t.w)
}
