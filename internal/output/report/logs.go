package report

import (
	"fmt"

	"zitherwheel/internal/verdict/logs"
)

// mostLogKinds is how many kinds of lines are printed.
const mostLogKinds = 12

// Logs writes the lines of programs' logs that tell of errors and warnings; nothing if there are none.
func (t *Text) Logs(r *logs.Report) {
	if r == nil || len(r.Kinds) == 0 {
		return
	}
	fmt.Fprintf(t.w, "%s\n", LogsHead(r))
	var table table
	table.row("  log of", "level", "lines", "most/s", "first at", "the first of them")
	for i, k := range r.Kinds {
		if i == mostLogKinds {
			break
		}
		table.row("  "+k.Program, string(k.Level), Number(k.Count), Number(k.Most), at(k.First), k.Text)
	}
	table.write(t.w)
	if more := len(r.Kinds) - mostLogKinds; more > 0 {
		fmt.Fprintf(t.w, "  and %s more kinds of lines\n", Number(more))
	}
}

// LogsHead sums up what logs tell.
func LogsHead(r *logs.Report) string {
	text := fmt.Sprintf("Logs: %s lines tell of errors, %s of warnings, of %s", Number(r.Count(logs.Error)), Number(r.Count(logs.Warning)), Number(r.Lines))
	if r.Left > 0 {
		text += fmt.Sprintf("; %s more are of too many kinds to tell apart", Number(r.Left))
	}
	return text
}
