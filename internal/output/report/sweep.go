package report

import (
	"fmt"
	"slices"
	"strings"

	"zitherwheel/internal/campaign/sweep"
)

// Marks are how the points of a sweep are drawn, each as a sign of its own.
var marks = map[sweep.Mark]struct{ played, inferred, colour string }{
	sweep.Holds:   {"o", "·", "2"},
	sweep.Fails:   {"#", "×", "1"},
	sweep.Between: {"?", "?", "3"},
	sweep.Failed:  {"!", "!", "3"},
	sweep.Unknown: {" ", " ", "8"},
}

// Sweep writes where a game holds: a line for each value of one axis, a map of two, and
// of more a list of the points that were played.
func (t *Text) Sweep(r *sweep.Result) {
	points := 1
	for _, a := range r.Axes {
		points *= len(a.Values)
	}
	fmt.Fprintf(t.w, "%s: %s of %s points played, %s matches; a point holds where at most about %s of matches fail\n\n", r.Title, Number(r.Played), Number(points), Number(r.Matches), Percent(r.Tolerate))
	if len(r.Axes) == 2 {
		t.heatMap(r)
	} else {
		t.points(r)
	}
	firsts := map[string]int{}
	var order []string
	for _, p := range r.Points {
		if p.First != "" {
			if firsts[p.First]++; firsts[p.First] == 1 {
				order = append(order, p.First)
			}
		}
	}
	if len(order) > 0 {
		fmt.Fprintln(t.w, "\nFirst failure, and at how many points:")
		for _, s := range order {
			fmt.Fprintf(t.w, "  %4d  %s\n", firsts[s], s)
		}
	}
}

// heatMap draws two axes: the first to the right, the second upwards.
func (t *Text) heatMap(r *sweep.Result) {
	x, y := r.Axes[0], r.Axes[1]
	width := 0
	for _, v := range y.Values {
		width = max(width, len(v))
	}
	cell := 2
	fmt.Fprintf(t.w, "  %s\n", y.Path)
	for j := len(y.Values) - 1; j >= 0; j-- {
		fmt.Fprintf(t.w, "  %*s ", width, y.Values[j])
		for i := range x.Values {
			p := r.Points[i*len(y.Values)+j]
			m := marks[p.Mark]
			sign := m.played
			if p.Inferred {
				sign = m.inferred
			}
			fmt.Fprint(t.w, strings.Repeat(" ", cell-1)+t.colour(m.colour, sign))
		}
		fmt.Fprintln(t.w)
	}
	// The values of the first axis, as many as there is room for.
	row, next := strings.Repeat(" ", 3+width), 0
	for i, v := range x.Values {
		at := 3 + width + cell*i + cell - 1
		if at < next || i == 0 {
			at = max(at, next)
		}
		if at > 3+width+cell*i+cell-1 {
			continue // the one before reaches into it
		}
		row = row + strings.Repeat(" ", max(0, at-len(row))) + v
		next = len(row) + 2
	}
	fmt.Fprintf(t.w, "%s  %s\n\n", row, x.Path)
	fmt.Fprintln(t.w, "  o holds, # fails, ? not certain; · × likewise, not played: all around are the same")
	border := r.Border()
	var table table
	table.right = true
	t.undecided(r)
	table.row("\n  "+x.Path, "holds up to "+y.Path)
	shown := ""
	for i, v := range x.Values {
		upTo := border[i].String()
		if i == 0 || upTo != shown {
			table.row("  from "+v, upTo)
		}
		shown = upTo
	}
	table.write(t.w)
}

// undecided says how much is not certain, and what to do for it.
func (t *Text) undecided(r *sweep.Result) {
	if n := r.Undecided(); n > 0 {
		fmt.Fprintf(t.w, "  %s of those played could not be decided; allow more matches a point with --max\n", count(n, "point", "points"))
	}
}

// points lists the points of one axis, or those that were played of more than two.
func (t *Text) points(r *sweep.Result) {
	var table table
	table.right = true
	table.row(append(indented(paths(r)), "", "failed", "of", "95% CI", "first failure")...)
	for _, p := range r.Points {
		if len(r.Axes) > 1 && p.Matches == 0 {
			continue
		}
		row := indented(p.Values)
		word := string(p.Mark)
		if p.Inferred {
			row = append(row, word+", not played", "", "", "", "")
		} else {
			row = append(row, word, Number(p.Failed), Number(p.Matches), Percent(p.Low)+" to "+Percent(p.High), p.First)
		}
		table.row(row...)
	}
	table.write(t.w)
	t.undecided(r)
}

// SweepMeasures writes what was measured at the points that were played.
func (t *Text) SweepMeasures(r *sweep.Result, names []string) {
	if len(names) == 0 {
		return
	}
	fmt.Fprintln(t.w, "\nMedians over the matches of a point, of the worst view in each (95% interval):")
	knees := map[string]int{}
	for _, c := range r.Curves(names) {
		if c.Knee >= 0 {
			knees[c.Measure] = c.At[c.Knee]
		}
	}
	var table table
	table.right = true
	table.row(append(indented(paths(r)), names...)...)
	for i, p := range r.Points {
		if p.Matches == 0 {
			continue
		}
		row := indented(p.Values)
		for _, name := range names {
			v, measured := p.Measures[name]
			switch knee, turns := knees[name]; {
			case !measured:
				row = append(row, "not measured")
			case turns && knee == i:
				row = append(row, "turns here: "+typical(v))
			default:
				row = append(row, typical(v))
			}
		}
		table.row(row...)
	}
	table.write(t.w)
}

// paths are what the axes of a sweep vary.
func paths(r *sweep.Result) (list []string) {
	for _, a := range r.Axes {
		list = append(list, a.Path)
	}
	return list
}

// indented are the first cells of a row of a table that stands in from the left.
func indented(cells []string) []string {
	row := slices.Clone(cells)
	row[0] = "  " + row[0]
	return row
}

func typical(v sweep.Typical) string {
	return fmt.Sprintf("%s (%s to %s)", figure(v.Median), figure(v.Low), figure(v.High))
}

// figure is a number with three digits that matter, or whole.
func figure(f float64) string {
	if f >= 1000 || f <= -1000 {
		return Number(int(f + 0.5))
	}
	return fmt.Sprintf("%.3g", f)
}
