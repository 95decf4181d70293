package chart

import (
	"fmt"
	"math"
	"slices"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/view"
)

// Finding draws a curve: each field as both sides had it, with the tolerance
// around the reference's, and below it what the view's link did. ok is false if
// there is nothing to draw.
func Finding(c *view.Curve, reference string) (f Figure, ok bool) {
	var plots []*plot.Plot
	for i := range c.Fields {
		if p := field(c, &c.Fields[i], reference); p != nil {
			plots = append(plots, p)
		}
	}
	if p := apart(c); p != nil {
		plots = append(plots, p)
	}
	if p := wire(c); p != nil {
		plots = append(plots, p)
	}
	if len(plots) == 0 {
		return Figure{}, false
	}
	what := fmt.Sprintf("%s as %s and %s had it", c.Finding.Subject, reference, c.Finding.View)
	if len(c.Fields) == 0 {
		what = "how long packets took on the link of " + c.Finding.View
	}
	f = newFigure("finding-"+c.Finding.ID, fmt.Sprintf("%s; the shaded stretch is the finding, from %s on", what, at(time.Duration(c.Finding.BeganAt))), float64(60+110*len(plots)))
	plots[len(plots)-1].X.Label.Text = "time, s"
	for _, p := range plots {
		p.X.Min, p.X.Max = seconds(c.From), seconds(c.Until)
		f.panels = append(f.panels, panel{p, 1 / float64(len(plots))})
	}
	return f, true
}

// field draws one field, or is nil if nothing is known of it.
func field(c *view.Curve, fd *view.Field, reference string) *plot.Plot {
	if len(fd.Reference.T)+len(fd.View.T) == 0 {
		return nil
	}
	p := newPlot()
	p.Y.Label.Text = fd.Name
	levels := levelsOf(fd)
	low, high := math.Inf(1), math.Inf(-1)
	values := func(s *view.Series) plotter.XYs {
		xy := make(plotter.XYs, 0, len(s.T)+1)
		for i, t := range s.T {
			y := s.V[i]
			if levels != nil && s.Texts != nil && s.Texts[i] != "" {
				y = float64(slices.Index(levels, s.Texts[i]))
			}
			xy = append(xy, plotter.XY{X: seconds(t), Y: y})
			if !math.IsNaN(y) {
				low, high = min(low, y), max(high, y)
			}
		}
		if n := len(xy); n > 0 { // it stays so until it is said otherwise
			xy = append(xy, plotter.XY{X: seconds(c.Until), Y: xy[n-1].Y})
		}
		return xy
	}
	said, shown, predicted, received := values(&fd.Reference), values(&fd.View), values(&fd.Predicted), values(&fd.Received)
	if math.IsInf(low, 0) {
		return nil
	}
	pad := max((high-low)*0.12, c.Within*1.5, 0.3)
	p.Y.Min, p.Y.Max = low-pad, high+pad
	if levels != nil {
		p.Y.Tick.Marker = plot.ConstantTicks(named(levels))
		p.Y.Min, p.Y.Max = -0.6, float64(len(levels))-0.4
	}
	stretch(p, c)
	if levels == nil && c.Within > 0 {
		for _, part := range parts(said) {
			band := slices.Clone(part)
			for i := range band {
				band[i].Y += c.Within
			}
			for i := len(part) - 1; i >= 0; i-- {
				band = append(band, plotter.XY{X: part[i].X, Y: part[i].Y - c.Within})
			}
			area(p, band, pale)
		}
	}
	step := levels != nil
	line(p, reference, said, blue, 2, step)
	line(p, "received", received, purple, 0.8, true) // it stays until the next comes
	line(p, "predicted", predicted, green, 0.8, step)
	line(p, c.Finding.View, shown, vermilion, 1.2, step)
	if len(shown) < 200 {
		dots(p, "", shown[:max(0, len(shown)-1)], vermilion, draw.CircleGlyph{}, 1.3)
	}
	return p
}

// apart draws how far the view is from what the reference has at the same moment, all
// fields together: what is late is apart too, and the verdict allows for that. It is
// nil for what is no number.
func apart(c *view.Curve) *plot.Plot {
	squares := map[time.Duration]float64{}
	var moments []time.Duration
	for i := range c.Fields {
		fd := &c.Fields[i]
		if levelsOf(fd) != nil || len(fd.Reference.T) == 0 || len(fd.View.T) == 0 {
			return nil
		}
		if i == 0 {
			moments = fd.View.T
		}
		for _, t := range moments {
			off := valueAt(&fd.View, t) - valueAt(&fd.Reference, t)
			squares[t] += off * off
		}
	}
	var xy plotter.XYs
	most := c.Within
	for _, t := range moments {
		y := math.Sqrt(squares[t])
		xy = append(xy, plotter.XY{X: seconds(t), Y: y})
		if !math.IsNaN(y) {
			most = max(most, y)
		}
	}
	if len(xy) < 2 {
		return nil
	}
	p := newPlot()
	p.Y.Label.Text = "apart"
	p.Y.Min, p.Y.Max = 0, most*1.15
	stretch(p, c)
	line(p, "apart", xy, purple, 1.2, false)
	if c.Within > 0 {
		allowed, err := plotter.NewLine(plotter.XYs{{X: seconds(c.From), Y: c.Within}, {X: seconds(c.Until), Y: c.Within}})
		if err == nil {
			allowed.Color, allowed.Dashes = grey, []vg.Length{4, 3}
			p.Add(allowed)
			p.Legend.Add(spaced("tolerance"), allowed)
		}
	}
	return p
}

// valueAt is what a series has at a moment: between two numbers what lies between
// them, after the last the last, and NaN before the first.
func valueAt(s *view.Series, t time.Duration) float64 {
	i, found := slices.BinarySearch(s.T, t)
	switch {
	case found:
		return s.V[i]
	case i == 0:
		return math.NaN()
	case i == len(s.T) || math.IsNaN(s.V[i]):
		return s.V[i-1]
	}
	share := float64(t-s.T[i-1]) / float64(s.T[i]-s.T[i-1])
	return s.V[i-1] + (s.V[i]-s.V[i-1])*share
}

// levelsOf lists the texts that a field had, or is nil if it is a number.
func levelsOf(fd *view.Field) (levels []string) {
	for _, s := range []*view.Series{&fd.Reference, &fd.View, &fd.Predicted, &fd.Received} {
		for _, text := range s.Texts {
			if text != "" && !slices.Contains(levels, text) {
				levels = append(levels, text)
			}
		}
	}
	slices.Sort(levels)
	return levels
}

func named(levels []string) (ticks []plot.Tick) {
	for i, text := range levels {
		if runes := []rune(text); len(runes) > 14 {
			text = string(runes[:13]) + "…"
		}
		ticks = append(ticks, plot.Tick{Value: float64(i), Label: text})
	}
	return ticks
}

// parts are the stretches without a gap.
func parts(xy plotter.XYs) (list []plotter.XYs) {
	for start := 0; start < len(xy); {
		end := start
		for end < len(xy) && !math.IsNaN(xy[end].Y) {
			end++
		}
		if end-start > 1 {
			list = append(list, xy[start:end])
		}
		start = end + 1
	}
	return list
}

// stretch shades the finding.
func stretch(p *plot.Plot, c *view.Curve) {
	from, until := seconds(time.Duration(c.Finding.BeganAt)), min(seconds(time.Duration(c.Finding.EndedAt)), seconds(c.Until))
	area(p, plotter.XYs{{X: from, Y: p.Y.Min}, {X: until, Y: p.Y.Min}, {X: until, Y: p.Y.Max}, {X: from, Y: p.Y.Max}}, shade)
	line(p, "", plotter.XYs{{X: from, Y: p.Y.Min}, {X: from, Y: p.Y.Max}}, vermilion, 0.8, false)
}

// wire draws what the view's link did: how long packets took, and which were lost.
func wire(c *view.Curve) *plot.Plot {
	if len(c.Packets) == 0 {
		return nil
	}
	p := newPlot()
	p.Y.Label.Text = "link, ms"
	var came, lost [2]plotter.XYs
	most := 1.0
	for _, packet := range c.Packets {
		ms := packet.Delay().Seconds() * 1e3
		if most = max(most, ms); packet.Copies > 0 {
			came[packet.Direction] = append(came[packet.Direction], plotter.XY{X: seconds(packet.Sent), Y: ms})
		}
	}
	for _, packet := range c.Packets {
		if packet.Copies == 0 {
			lost[packet.Direction] = append(lost[packet.Direction], plotter.XY{X: seconds(packet.Sent), Y: most * 1.12})
		}
	}
	p.Y.Min, p.Y.Max = 0, most*1.25
	stretch(p, c)
	size := vg.Length(1.2)
	dots(p, "down", came[link.Down], blue, draw.CircleGlyph{}, size)
	dots(p, "up", came[link.Up], grey, draw.RingGlyph{}, size)
	dots(p, "lost down", lost[link.Down], blue, draw.CrossGlyph{}, 3)
	dots(p, "lost up", lost[link.Up], grey, draw.PlusGlyph{}, 3)
	return p
}
