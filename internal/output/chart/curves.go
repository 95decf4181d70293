package chart

import (
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"zitherwheel/internal/campaign/sweep"
)

// shortTicks are few ticks without decimals that say nothing.
type shortTicks struct{}

func (shortTicks) Ticks(low, high float64) []plot.Tick {
	ticks := fewTicks{}.Ticks(low, high)
	for i := range ticks {
		if ticks[i].Label != "" {
			ticks[i].Label = strconv.FormatFloat(ticks[i].Value, 'g', 6, 64)
		}
	}
	return ticks
}

// SweepCurves draws measures along the one axis of a sweep, a panel each: the median of the
// matches, its interval, and where the curve turns.
func SweepCurves(r *sweep.Result, measures []string) (f Figure, ok bool) {
	curves := r.Curves(measures)
	if len(curves) == 0 {
		return f, false
	}
	const panelHeight = 130
	places := r.Axes[0].Places()
	first, last := places[0], places[len(places)-1]
	ticks := valueTicks(r.Axes[0].Values)
	for i := range ticks {
		ticks[i].Value = places[i]
	}
	f = newFigure("curves", "Medians over the matches of a point, of the worst view in each, with the 95% interval. A ring marks where a curve turns.", panelHeight*float64(len(curves))+20)
	for i, c := range curves {
		p := newPlot()
		p.Title.Text = c.Measure
		p.X.Tick.Marker, p.Y.Tick.Marker = ticks, shortTicks{}
		p.X.Min, p.X.Max = first-0.02*(last-first), last+0.02*(last-first)
		if i == len(curves)-1 {
			p.X.Label.Text = r.Axes[0].Path
		}
		var xy, up, down plotter.XYs
		most := 0.0
		for k, at := range c.At {
			x, v := places[at], c.Values[k]
			xy = append(xy, plotter.XY{X: x, Y: v.Median})
			up = append(up, plotter.XY{X: x, Y: v.High})
			down = append(plotter.XYs{{X: x, Y: v.Low}}, down...)
			most = max(most, v.High)
		}
		p.Y.Min, p.Y.Max = 0, 1.1*most
		if most == 0 {
			p.Y.Max = 1
		}
		area(p, append(up, down...), pale)
		line(p, "", xy, blue, 1.5, false)
		dots(p, "", xy, blue, draw.CircleGlyph{}, 2)
		if c.Knee >= 0 {
			dots(p, "turns", xy[c.Knee:c.Knee+1], vermilion, draw.RingGlyph{}, vg.Length(5))
		}
		f.panels = append(f.panels, panel{p, 1 / float64(len(curves))})
	}
	return f, true
}
