package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"zitherwheel/internal/verdict/metrics"
)

// joining writes how long it took the views to get into the match.
func (t *Text) joining(m *metrics.Measures) {
	table := table{right: true}
	table.row("  joining", "times", "own shown", "own moves", "all there", "what came last", "did not come")
	some := false
	for _, v := range m.Views {
		j := v.Joining
		if j == nil || j.Shown == nil && j.Complete == nil {
			continue
		}
		some = true
		last := "-"
		if j.Last != "" {
			last = j.Last
		}
		table.row("  "+v.Name, Number(j.Joins), Longest(j.Shown), Longest(j.Moves), Longest(j.Complete), last, Number(j.Lacking))
	}
	if !some {
		return
	}
	table.write(t.w)
	fmt.Fprintln(t.w, "  (ms, the longest of its joins; own: since it was asked to join, all there: what the server had when it joined, since then)")
}

// Longest is the largest value, or a dash.
func Longest(s *metrics.Spread) string {
	if s == nil {
		return "-"
	}
	return fmt.Sprintf("%.0f", s.Max)
}

// layers writes how far apart what came, what is predicted and what is shown are.
func (t *Text) layers(m *metrics.Measures) {
	table := table{right: true}
	table.row("  apart", "own predicted from received", "own shown from predicted", "others shown from received")
	some := false
	for _, v := range m.Views {
		if l := v.Layers; l != nil {
			some = true
			table.row("  "+v.Name, Spread(l.Predicted, "%.2g"), Spread(l.Smoothed, "%.2g"), Spread(l.Delayed, "%.2g"))
		}
	}
	if some {
		table.write(t.w)
	}
}

// phases writes what traffic a player made who got in, moved, and did nothing, where there was more than one of these.
func (t *Text) phases(m *metrics.Measures) {
	table := table{right: true}
	table.row("  traffic, B/s", "joining up", "down", "moving up", "down", "idle up", "down", "idle for")
	some := false
	for _, v := range m.Views {
		p := v.Phases
		if p == nil {
			continue
		}
		row := []string{"  " + v.Name}
		for _, phase := range []metrics.Phase{p.Joining, p.Moving, p.Idle} {
			if phase.Seconds == 0 {
				row = append(row, "-", "-")
			} else {
				row = append(row, Number(int(phase.Up)), Number(int(phase.Down)))
			}
		}
		table.row(append(row, fmt.Sprintf("%.1f s", p.Idle.Seconds))...)
		some = some || p.Moving.Seconds > 0 || p.Idle.Seconds > 0
	}
	if some {
		table.write(t.w)
	}
}

// heavier is how much longer the server's ticks must take with more players for it to be told.
const heavier = 1.3

// under says what the server's ticks took with how many players, if that made a difference, and when it
// paused longest if that was for long.
func (t *Text) under(p *metrics.Pace) {
	if p == nil {
		return
	}
	byPace := func(a, b metrics.Under) int { return int(1e3 * (a.P95 - b.P95)) }
	if len(p.Under) > 1 && slices.MaxFunc(p.Under, byPace).P95 >= heavier*slices.MinFunc(p.Under, byPace).P95 {
		var parts []string
		for _, u := range p.Under {
			parts = append(parts, fmt.Sprintf("%.0f ms with %d", u.P95, u.Players))
		}
		fmt.Fprintf(t.w, "  the server's ticks took, by how many play (p95): %s\n", strings.Join(parts, ", "))
	}
	if p.Interval != nil && p.Pause > 3*p.Interval.P95 {
		who := ""
		if p.PauseFor != "" {
			who = ", just after " + p.PauseFor + " had joined"
		}
		fmt.Fprintf(t.w, "  its longest pause ended at %s%s\n", at(p.PauseAt), who)
	}
}

// sentBy writes what the sides sent by kind of message, as the game tells.
func (t *Text) sentBy(m *metrics.Measures) {
	for _, v := range append([]metrics.View{m.Server}, m.Views...) {
		var kinds []string
		for _, kind := range slices.Sorted(maps.Keys(v.Sent)) {
			kinds = append(kinds, fmt.Sprintf("%s %s B/s", kind, Number(int(v.Sent[kind].BytesPerSecond))))
		}
		if len(kinds) > 0 {
			fmt.Fprintf(t.w, "  sent by %s: %s\n", v.Name, strings.Join(kinds, ", "))
		}
	}
}
