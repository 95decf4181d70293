package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"zitherwheel/judge"
	"zitherwheel/measure"
)

// Measures writes what was measured of each view as a table.
func (t *Text) Measures(m *measure.Measures) {
	if len(m.Views) == 0 {
		return
	}
	fmt.Fprintln(t.w, "Measured (median/95 %/most; times in ms)")
	var table table
	table.right = true
	table.row("  view", "age", "corrections", "a minute", "response own", "server", "others", "jerkiness", "clock error", "up B/s", "down B/s")
	for _, v := range m.Views {
		minute, jerkiness := "-", "-"
		if v.Corrections != nil {
			minute = fmt.Sprintf("%.3g", v.CorrectionsPerMinute)
		}
		if v.Jerkiness > 0 {
			jerkiness = fmt.Sprintf("%.2f", v.Jerkiness)
		}
		table.row("  "+v.Name, spread(v.Age, "%.0f"), spread(v.Corrections, "%.2f"), minute, spread(v.ResponseOwn, "%.0f"), spread(v.ResponseServer, "%.0f"),
			spread(v.ResponseOthers, "%.0f"), jerkiness, spread(v.ClockError, "%.0f"), number(int(v.Up.BytesPerSecond)), number(int(v.Down.BytesPerSecond)))
	}
	table.write(t.w)
	for _, v := range append([]measure.View{m.Server}, m.Views...) {
		var kinds []string
		for _, kind := range slices.Sorted(maps.Keys(v.Sent)) {
			kinds = append(kinds, fmt.Sprintf("%s %s B/s", kind, number(int(v.Sent[kind].BytesPerSecond))))
		}
		if len(kinds) > 0 {
			fmt.Fprintf(t.w, "  %s says that it sent %s\n", v.Name, strings.Join(kinds, ", "))
		}
	}
}

func spread(s *measure.Spread, format string) string {
	if s == nil {
		return "-"
	}
	return fmt.Sprintf(format+"/"+format+"/"+format, s.Median, s.P95, s.Max)
}

// events writes the table of events: what the reference told and what came.
func (t *Text) events(v *judge.Verdict) {
	if len(v.Events) == 0 {
		return
	}
	fmt.Fprintln(t.w, "Events: seen of those that should have come; + again, ! lost, ~ late, < out of order, ? misplaced")
	var table table
	table.right = true
	heads := []string{"  event", "told"}
	for _, view := range v.Views {
		heads = append(heads, view.Name)
	}
	table.row(heads...)
	for _, e := range v.Events {
		row := []string{"  " + e.Event, number(e.Sent)}
		for _, view := range v.Views {
			i := slices.IndexFunc(e.Views, func(c judge.EventViewCount) bool { return c.View == view.Name })
			row = append(row, cell(e.Views[i]))
		}
		table.row(row...)
	}
	table.write(t.w)
}

func cell(c judge.EventViewCount) string {
	text := fmt.Sprintf("%d/%d", c.Seen, c.Expected)
	for _, more := range []struct {
		n    int
		mark string
	}{{c.Repeated, "+"}, {c.Lost, "!"}, {c.Late, "~"}, {c.Misordered, "<"}, {c.Misplaced, "?"}} {
		if more.n > 0 {
			text += fmt.Sprintf(" %s%d", more.mark, more.n)
		}
	}
	return text
}
