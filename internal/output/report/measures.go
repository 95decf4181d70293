package report

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

// Measures writes what was measured of each view as a table.
func (t *Text) Measures(m *metrics.Measures) {
	if len(m.Views) == 0 {
		return
	}
	fmt.Fprintln(t.w, "Measured (median/p95/max; times in ms)")
	var table table
	table.right = true
	table.row("  view", "age", "corrections", "a minute", "response own", "server", "others", "clock error", "up B/s", "down B/s")
	for _, v := range m.Views {
		minute := "-"
		if v.Corrections != nil {
			minute = fmt.Sprintf("%.3g", v.CorrectionsPerMinute)
		}
		table.row("  "+v.Name, Spread(v.Age, "%.0f"), Spread(v.Corrections, "%.2f"), minute, Spread(v.ResponseOwn, "%.0f"), Spread(v.ResponseServer, "%.0f"),
			Spread(v.ResponseOthers, "%.0f"), Spread(v.ClockError, "%.0f"), Number(int(v.Up.BytesPerSecond)), Number(int(v.Down.BytesPerSecond)))
	}
	table.write(t.w)
	t.motion(m)
	t.layers(m)
	t.joining(m)
	t.phases(m)
	t.pace(m)
	t.load(m)
	t.timing(m.Timing)
	t.sentBy(m)
}

// motion writes how smoothly the views show entities move.
func (t *Text) motion(m *metrics.Measures) {
	var table table
	table.right = true
	table.row("  motion", "of", "delay", "true speed", "unevenness", "stands still", "off path", "leaps/min", "leap", "overshoot", "settles")
	some := false
	for _, v := range m.Views {
		for _, of := range []struct {
			name   string
			motion *metrics.Motion
		}{{"own", v.Own}, {"others", v.Others}} {
			if o := of.motion; o != nil {
				some = true
				table.row("  "+v.Name, of.name, fmt.Sprintf("%.0f", o.Delay), fmt.Sprintf("%.3g", o.TrueSpeed), fmt.Sprintf("%.3g", o.Unevenness), fmt.Sprintf("%.0f%%", 100*o.Standing),
					P95(o.Off, "%.2g"), Times(o.LeapsPerMinute), P95(o.Leaps, "%.2g"), P95(o.Overshoot, "%.2g"), P95(o.Settling, "%.0f"))
			}
		}
	}
	if !some {
		return
	}
	table.write(t.w)
	fmt.Fprintln(t.w, "  (lengths in the unit of places, p95; unevenness: how far the velocity shown is from the true one, a second, on average)")
	for _, v := range m.Views {
		if text := v.Moves(); text != "" {
			fmt.Fprintf(t.w, "  %s\n", text)
		}
	}
}

// pace writes how the sides got on in their ticks.
func (t *Text) pace(m *metrics.Measures) {
	var table table
	table.right = true
	table.row("  ticks", "from first to last", "a second", "a tick took", "p99", "longest pause", "rollbacks a minute", "deepest")
	some := false
	for _, v := range append([]metrics.View{m.Server}, m.Views...) {
		if v.Pace == nil {
			continue
		}
		some = true
		minute, deepest := "-", "-"
		if r := v.Rollbacks; r != nil && r.PerMinute > 0 {
			minute, deepest = Times(r.PerMinute), fmt.Sprintf("%.0f", r.Deepest)
		}
		table.row("  "+v.Name, Number(int(v.Pace.Ticks)), fmt.Sprintf("%.1f", v.Pace.PerSecond), Spread(v.Pace.Interval, "%.0f"), fmt.Sprintf("%.0f", v.Pace.P99), fmt.Sprintf("%.0f", v.Pace.Pause), minute, deepest)
	}
	if some {
		table.write(t.w)
		t.under(m.Server.Pace)
	}
}

// load writes what processes used of the machine.
func (t *Text) load(m *metrics.Measures) {
	var table table
	table.right = true
	table.row("  process", "CPU cores", "memory MB", "threads", "open files")
	some := false
	for _, v := range append([]metrics.View{m.Server}, m.Views...) {
		if l := v.Load; l != nil {
			some = true
			table.row("  "+v.Name, Spread(&l.CPU, "%.2f"), Spread(&l.Resident, "%.0f"), Spread(&l.Threads, "%.0f"), Spread(&l.Files, "%.0f"))
		}
	}
	if some {
		table.write(t.w)
	}
}

// timing writes how well a run of programs kept time.
func (t *Text) timing(m *metrics.Timing) {
	if m == nil {
		return
	}
	if s := m.Supervised; s != nil {
		t.supervised(s)
		if why := m.Distrust(); why != "" {
			fmt.Fprintf(t.w, "  %s %s\n", t.colour("3", "Timing not reliable:"), why)
		}
		return
	}
	late := func(l metrics.Lateness) string {
		return fmt.Sprintf("median %s, p99 %s, max %s", milliseconds(l.Median), milliseconds(l.P99), milliseconds(l.Max))
	}
	fmt.Fprintf(t.w, "  the relay sent %s packets on late by %s\n", Number(m.Relay.Count), late(m.Relay))
	fmt.Fprintf(t.w, "  the machine woke the run late by %s\n", late(m.Machine))
	if m.Unsent > 0 {
		fmt.Fprintf(t.w, "  %s packets were not taken by the system\n", Number(m.Unsent))
	}
	if len(m.Clocks) > 0 {
		fmt.Fprintf(t.w, "  the own clock of %s was set back while the match went on; its lines were stamped anew from there\n", strings.Join(m.Clocks, ", "))
	}
	if why := m.Distrust(); why != "" {
		fmt.Fprintf(t.w, "  %s %s\n", t.colour("3", "Timing not reliable:"), why)
	}
}

// supervised writes what is to be known of a run on a virtual clock.
func (t *Text) supervised(s *metrics.Supervised) {
	fmt.Fprintf(t.w, "  on a virtual clock computing takes no time: nothing here tells how long a server takes for its ticks, or a client for its frames\n")
	for _, remark := range s.Remarks {
		fmt.Fprintf(t.w, "  %s\n", remark)
	}
}

func milliseconds(ms float64) string {
	if ms < 1 {
		return fmt.Sprintf("%.0f µs", 1000*ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}

func Spread(s *metrics.Spread, format string) string {
	if s == nil {
		return "-"
	}
	return form(format, s.Median) + "/" + form(format, s.P95) + "/" + form(format, s.Max)
}

// form writes a number without an exponent, however large it is.
func form(format string, v float64) string {
	if math.Abs(v) >= 100 {
		format = "%.0f"
	}
	return fmt.Sprintf(format, v)
}

// Times is how often something happens, to three figures.
func Times(n float64) string {
	if n >= 100 {
		return Number(int(n + 0.5))
	}
	return fmt.Sprintf("%.3g", n)
}

// P95 is the 95th percentile alone.
func P95(s *metrics.Spread, format string) string {
	if s == nil {
		return "-"
	}
	return form(format, s.P95)
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
		row := []string{"  " + e.Event, Number(e.Sent)}
		for _, view := range v.Views {
			i := slices.IndexFunc(e.Views, func(c judge.EventViewCount) bool { return c.View == view.Name })
			row = append(row, cell(e.Views[i]))
		}
		table.row(row...)
	}
	table.write(t.w)
	for _, e := range v.Events {
		var graced []string
		for _, c := range e.Views {
			if c.Graced > 0 {
				graced = append(graced, fmt.Sprintf("%d to %s", c.Graced, c.View))
			}
		}
		if len(graced) > 0 {
			fmt.Fprintf(t.w, "  %s: not expected, because the view had just joined (grace): %s\n", e.Event, strings.Join(graced, ", "))
		}
	}
	t.counts(v)
}

// Cheat says what came of an attempt to cheat.
func Cheat(c judge.CheatReport) string {
	text := fmt.Sprintf("%s set its %s at %s: ", c.View, c.Set, at(c.At))
	switch c.Came {
	case judge.NeverTried:
		return text + "its client never showed it, so it was never tried"
	case judge.Taken:
		return text + "the server took it"
	case judge.Corrected:
		return text + "its client showed it, the server did not take it, and it was corrected after " + seconds(*c.After)
	}
	return text + "its client kept it to itself"
}

// counts writes how often things came to each view, of each player.
func (t *Text) counts(v *judge.Verdict) {
	for _, c := range v.Counts {
		fmt.Fprintf(t.w, "Times that %s came, by who sent it; told is by %s\n", c.Of, v.Reference)
		table := table{right: true}
		heads, told := []string{"  by"}, []string{"  in all", Number(c.Told)}
		heads = append(heads, "told")
		for _, view := range c.Views {
			heads, told = append(heads, view.View), append(told, Number(view.Told))
		}
		table.row(heads...)
		for i, sender := range c.Senders {
			row := []string{"  " + sender.By, Number(sender.Told)}
			for _, view := range c.Views {
				row = append(row, Number(view.Of[i]))
			}
			table.row(row...)
		}
		table.row(told...)
		table.write(t.w)
	}
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
