package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"zitherwheel/internal/match"
	"zitherwheel/internal/verdict/judge"
)

// Board is a match under way, to be written again and again.
type Board struct {
	Title    string
	Began    time.Time
	Progress match.Progress
	Alerts   []judge.Alert
}

const (
	barWidth    = 50
	alertsShown = 8
)

// Write writes the board as it is now.
func (b *Board) Write(w io.Writer, now time.Time) {
	p := b.Progress
	share := 0.0
	if p.Length > 0 {
		share = min(1, p.At.Seconds()/p.Length.Seconds())
	}
	full := int(share * barWidth)
	speed := p.At.Seconds() / max(1e-3, now.Sub(b.Began).Seconds())
	fmt.Fprintf(w, "%s\n\n  %s%s  %.1f of %.0f s, %.0f times real time, %s so far\n\n", b.Title, strings.Repeat("█", full), strings.Repeat("░", barWidth-full),
		p.At.Seconds(), p.Length.Seconds(), speed, count(p.Findings, "finding", "findings"))
	var table table
	table.right = true
	table.row("  bot", "in", "round trip", "up packets", "lost", "down packets", "lost", "age", "apart now", "gap", "corrections", "findings")
	for _, bot := range p.Bots {
		in, trip, found := "-", "-", 0
		if bot.In {
			in = "in"
		}
		if bot.Up.Packets > 0 && bot.Down.Packets > 0 {
			trip = fmt.Sprintf("%d ms", (bot.Up.Delay + bot.Down.Delay).Milliseconds())
		}
		age, gap := "-", "-"
		if bot.Now.Age > 0 {
			age = fmt.Sprintf("%d ms", bot.Now.Age.Milliseconds())
		}
		if bot.Now.Gap > 0 {
			gap = fmt.Sprintf("%.3g", bot.Now.Gap)
		}
		for _, a := range b.Alerts {
			if a.View == bot.Name {
				found++
			}
		}
		table.row("  "+bot.Name, in, trip, Number(bot.Up.Packets), lostShare(bot.Up), Number(bot.Down.Packets), lostShare(bot.Down), age, Number(bot.Now.Apart), gap,
			Number(bot.Now.Corrections), Number(found))
	}
	table.write(w)
	fmt.Fprintln(w)
	first := max(0, len(b.Alerts)-alertsShown)
	if first > 0 {
		fmt.Fprintf(w, "  ... %d more\n", first)
	}
	for _, a := range b.Alerts[first:] {
		fmt.Fprintf(w, "  %s\n", AlertLine(a))
	}
}

func lostShare(l match.LinkProgress) string {
	if l.Packets == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f%%", 100*float64(l.Lost)/float64(l.Packets))
}

// AlertLine says in one line that a finding has become certain.
func AlertLine(a judge.Alert) string {
	what := strings.TrimSpace(a.Entity + " " + a.Subject.String())
	return fmt.Sprintf("%8.3f s  %s  %s  %s, since %.3f s", a.At.Seconds(), a.Kind, a.View, what, a.Began.Seconds())
}

// String is the board as it is now.
func (b *Board) String() string {
	var text bytes.Buffer
	b.Write(&text, time.Now())
	return text.String()
}
