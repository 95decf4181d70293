package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"zitherwheel/internal/match/playground"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
)

// Clients writes the counts of a relay's clients as a table.
func Clients(w io.Writer, clients []playground.Client, now time.Duration) {
	var table table
	table.right = true
	table.row("  client", "from", "up packets", "kB", "lost", "delay", "down packets", "kB", "lost", "delay", "last heard")
	for _, c := range clients {
		row := []string{"  " + c.Name, c.From.String()}
		for _, n := range []playground.Count{c.Up, c.Down} {
			row = append(row, Number(n.Packets), fmt.Sprintf("%.1f", float64(n.Bytes)/1e3), lost(n), fmt.Sprintf("%.1f ms", n.Delay.Seconds()*1e3))
		}
		table.row(append(row, fmt.Sprintf("%.1f s ago", max(0, now-c.Heard).Seconds()))...)
	}
	if len(clients) > 0 {
		table.write(w)
	}
}

func lost(n playground.Count) string {
	if n.Packets == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f%%", 100*float64(n.Lost)/float64(n.Packets))
}

// RelayLateness says how late a relay itself has sent packets on.
func RelayLateness(s relay.Stats) string {
	ms := func(d time.Duration) string { return milliseconds(float64(d.Microseconds()) / 1e3) }
	text := fmt.Sprintf("  the relay itself sent packets on late by %s (median), %s (p99), %s (max)", ms(s.Timing.Quantile(0.5)), ms(s.Timing.Quantile(0.99)), ms(s.Timing.Most()))
	if s.Refused > 0 {
		text += fmt.Sprintf("\n  NOBODY LISTENS at the server's address: it refused %d times", s.Refused)
	}
	if s.Full > 0 {
		text += fmt.Sprintf("\n  THE RELAY IS FULL: it dropped %s packets, because too much was waiting on slow links", Number(s.Full))
	}
	if s.Trouble != "" {
		text += "\n  THE SYSTEM REFUSED " + s.Trouble
	}
	return text
}

// RelayLine is the state of a relay's clients in one line, for a log.
func RelayLine(clients []playground.Client, now time.Duration) string {
	parts := []string{fmt.Sprintf("%9.3f s", now.Seconds())}
	for _, c := range clients {
		parts = append(parts, fmt.Sprintf("%s up %d (%s lost, %.1f ms) down %d (%s lost, %.1f ms)", c.Name,
			c.Up.Packets, lost(c.Up), c.Up.Delay.Seconds()*1e3, c.Down.Packets, lost(c.Down), c.Down.Delay.Seconds()*1e3))
	}
	if len(clients) == 0 {
		parts = append(parts, "no client yet")
	}
	return strings.Join(parts, "  ")
}

// LinkLines says how a relay's link is.
func LinkLines(up, down link.Conditions, cut bool) string {
	text := fmt.Sprintf("  up    %s\n  down  %s\n", up.Text(), down.Text())
	if up == down {
		text = fmt.Sprintf("  both ways  %s\n", up.Text())
	}
	if cut {
		text += "  CUT: nothing passes\n"
	}
	return text
}
