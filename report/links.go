package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/chance"
	"zitherwheel/link"
	"zitherwheel/plan"
)

const (
	linkSample = 20_000
	linkBars   = 40
)

// Links writes links as a table, with the spread of their delays as a row of bars,
// all on one scale.
func (t *Text) Links(links []plan.Link) {
	delays := make([][]time.Duration, len(links))
	most := time.Duration(0)
	lost := make([]int, len(links))
	for i, l := range links {
		line := link.NewLine(l.Down, chance.Stream(1, "link/"+l.Name))
		for n := range linkSample {
			f := line.Send(time.Duration(n)*50*time.Millisecond, 200)
			if f.Copies == 0 {
				lost[i]++
				continue
			}
			delays[i] = append(delays[i], f.Arrives[0]-f.Sent)
		}
		slices.Sort(delays[i])
		most = max(most, delays[i][len(delays[i])*999/1000])
	}
	var table table
	table.row("  link", "figures", "median", "99 %", "lost", fmt.Sprintf("delays from 0 to %d ms", most.Milliseconds()))
	for i, l := range links {
		d := delays[i]
		table.row("  "+l.Name, plan.QualityText(l.Down.Quality), fmt.Sprintf("%d ms", d[len(d)/2].Milliseconds()), fmt.Sprintf("%d ms", d[len(d)*99/100].Milliseconds()),
			fmt.Sprintf("%.1f %%", 100*float64(lost[i])/linkSample), bars(d, most))
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
