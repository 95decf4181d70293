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
	text := fmt.Sprintf("Logs: %s of errors, %s of warnings, of %s", count(r.Count(logs.Error), "line tells", "lines tell"), Number(r.Count(logs.Warning)), Number(r.Lines))
	if r.Left > 0 {
		text += fmt.Sprintf("; %s more are of too many kinds to tell apart", Number(r.Left))
	}
	return text
}

// How much of what is found is printed.
const (
	valuesPrinted = 40
	linesPrinted  = 200
)

// Found writes what was found in logs: how often, by program and by what a pattern's group found;
// and the lines, where they are asked for. Without a pattern every line is one.
func (t *Text) Found(f *logs.Found, pattern, lines bool) {
	heads := []string{"program", "lines"}
	if pattern {
		heads = append(heads, "that fit")
	}
	counted := table{right: true}
	counted.row(append(heads, "most a second", "first", "last")...)
	for _, p := range f.Programs {
		row := []string{p.Program, Number(p.Lines)}
		if pattern {
			row = append(row, Number(p.Fit))
		}
		row = append(row, Number(p.Most))
		if p.Fit > 0 {
			row = append(row, at(p.First), at(p.Last))
		} else {
			row = append(row, "-", "-")
		}
		counted.row(row...)
	}
	counted.write(t.w)
	if len(f.Values) > 0 {
		fmt.Fprintln(t.w)
		values := table{right: true}
		heads := []string{"value", "first", "last"}
		for _, p := range f.Programs {
			heads = append(heads, p.Program)
		}
		values.row(heads...)
		for _, v := range f.Values[:min(len(f.Values), valuesPrinted)] {
			row := []string{v.Value, at(v.First), at(v.Last)}
			for _, n := range v.Count {
				row = append(row, Number(n))
			}
			values.row(row...)
		}
		values.write(t.w)
		if more := len(f.Values) - valuesPrinted; more > 0 {
			fmt.Fprintf(t.w, "and %s more values\n", Number(more))
		}
	}
	if !lines {
		return
	}
	fmt.Fprintln(t.w)
	var printed table
	for _, line := range f.Lines[:min(len(f.Lines), linesPrinted)] {
		printed.row(at(line.At), line.Program, line.Text)
	}
	printed.write(t.w)
	if more := len(f.Lines) + f.Left - linesPrinted; more > 0 {
		fmt.Fprintf(t.w, "and %s more lines; narrow them down with --from, --to, --in or --value, or take --json\n", Number(more))
	}
}
