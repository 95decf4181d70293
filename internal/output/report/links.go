package report

import (
	"fmt"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
)

const linkBars = 40

// Tried is a link and what it did to many packets.
type Tried struct {
	link.Pair
	Sample link.Sample
}

// Links writes links as a table, with the spread of their delays as a row of bars,
// all on one scale.
func (t *Text) Links(links []Tried) {
	top := time.Duration(0)
	for _, l := range links {
		top = max(top, l.Sample.Quantile(0.999))
	}
	var table table
	table.row("  link", "figures", "median", "99%", "lost", fmt.Sprintf("delays from 0 to %d ms", top.Milliseconds()))
	for _, l := range links {
		s := l.Sample
		table.row("  "+l.Name, l.Down.Conditions.Text(), fmt.Sprintf("%d ms", s.Quantile(0.5).Milliseconds()), fmt.Sprintf("%d ms", s.Quantile(0.99).Milliseconds()),
			fmt.Sprintf("%.1f%%", 100*s.Lost), bars(s.Delays, top))
	}
	table.write(t.w)
}

// bars draws how durations are spread from 0 to most.
func bars(d []time.Duration, most time.Duration) string {
	counts := make([]int, linkBars)
	top := 0
	for _, delay := range d {
		i := min(int(delay*linkBars/(most+1)), linkBars-1)
		counts[i]++
		top = max(top, counts[i])
	}
	var b strings.Builder
	for _, n := range counts {
		switch {
		case n == 0:
			b.WriteRune(' ')
		default:
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(7, 8*n/(top+1))])
		}
	}
	return strings.TrimRight(b.String(), " ")
}
