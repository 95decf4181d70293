package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"zitherwheel/internal/campaign/worlds"
)

// Worlds writes the figures of a self-test on made-up worlds.
func (t *Text) Worlds(rows []worlds.Row) {
	var table table
	table.right = true
	table.row("  mistake", "worlds", "showed", "found", "first", "blamed", "incidents", "alarms", "other names")
	var sum worlds.Row
	for _, r := range rows {
		if r.Accepted == nil {
			table.row("  "+r.Mistake, Number(r.Worlds), "-", "-", "-", "-", "-", Number(r.Alarms), others(r))
			sum.Alarms += r.Alarms
			continue
		}
		table.row("  "+r.Mistake, Number(r.Worlds), Number(r.Showed), ratio(r.Found, r.Showed), ratio(r.First, r.Showed), ratio(r.Blamed, r.Showed), perMistake(r), "-", others(r))
		sum.Worlds, sum.Showed, sum.Found, sum.First, sum.Blamed, sum.Incidents = sum.Worlds+r.Worlds, sum.Showed+r.Showed, sum.Found+r.Found, sum.First+r.First, sum.Blamed+r.Blamed, sum.Incidents+r.Incidents
	}
	table.row("  in all", Number(sum.Worlds), Number(sum.Showed), ratio(sum.Found, sum.Showed), ratio(sum.First, sum.Showed), ratio(sum.Blamed, sum.Showed), perMistake(sum), Number(sum.Alarms), "")
	table.write(t.w)
	fmt.Fprint(t.w, `
  showed      the mistake made a view wrong beyond doubt for two seconds
  found       of those, the verdict is out of sync
  first       of those, with a right name at the head of the first incident
  blamed      of those, with findings in the guilty view alone
  incidents   to a mistake that was found; one is right
  alarms      worlds without a mistake that were flagged
`)
}

func perMistake(r worlds.Row) string {
	if r.Found == 0 {
		return "-"
	}
	return fmt.Sprintf("%.2f", float64(r.Incidents)/float64(r.Found))
}

func others(r worlds.Row) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(r.Others)) {
		list = append(list, fmt.Sprintf("%s: %d", name, r.Others[name]))
	}
	return strings.Join(list, ", ")
}
