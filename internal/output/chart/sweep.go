package chart

import (
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"zitherwheel/internal/campaign/sweep"
)

// Sweep draws the map of two axes, or the line of one: where a game holds.
func Sweep(r *sweep.Result) (f Figure, ok bool) {
	if len(r.Axes) == 0 || len(r.Axes) > 2 {
		return f, false
	}
	p := newPlot()
	x, y := r.Axes[0].Values, []string{""}
	p.X.Label.Text = r.Axes[0].Path
	if len(r.Axes) == 2 {
		y = r.Axes[1].Values
		p.Y.Label.Text = r.Axes[1].Path
	}
	p.X.Tick.Marker, p.Y.Tick.Marker = valueTicks(x), valueTicks(y)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = -0.5, float64(len(x))-0.5, -0.5, float64(len(y))-0.5
	squares := &squares{r: r, rows: len(y)}
	p.Add(squares)
	for _, entry := range []struct {
		name string
		mark sweep.Mark
	}{{"holds", sweep.Holds}, {"fails", sweep.Fails}, {"not certain", sweep.Between}} {
		p.Legend.Add(spaced(entry.name), swatch{markColours[entry.mark], entry.mark})
	}
	height := 60 + 22*float64(len(y))
	f = newFigure("sweep", "Where the game holds. Full: played. Pale: not played, all around are the same. A cross marks what fails, a bar what is not certain.", max(140, min(520, height)))
	f.panels = []panel{{p, 1}}
	return f, true
}

// valueTicks are the values of an axis, as many as there is room for.
func valueTicks(values []string) plot.ConstantTicks {
	var ticks plot.ConstantTicks
	every := (len(values) + 8) / 9
	for i, v := range values {
		if i%every != 0 {
			v = ""
		}
		ticks = append(ticks, plot.Tick{Value: float64(i), Label: v})
	}
	return ticks
}

var markColours = map[sweep.Mark]color.RGBA{sweep.Holds: blue, sweep.Fails: vermilion, sweep.Between: purple, sweep.Failed: grey}

// squares draws a square for each point. What it means can be told without colour.
type squares struct {
	r    *sweep.Result
	rows int
}

func (s *squares) Plot(c draw.Canvas, p *plot.Plot) {
	tx, ty := p.Transforms(&c)
	for _, point := range s.r.Points {
		col, known := markColours[point.Mark]
		if !known {
			continue
		}
		x, y := float64(point.At[0]), 0.0
		if len(point.At) > 1 {
			y = float64(point.At[1])
		}
		box := vg.Rectangle{Min: vg.Point{X: tx(x - 0.46), Y: ty(y - 0.46)}, Max: vg.Point{X: tx(x + 0.46), Y: ty(y + 0.46)}}
		fill := color.NRGBA{col.R, col.G, col.B, 255}
		if point.Inferred {
			fill.A = 70
		}
		c.SetColor(fill)
		c.Fill(box.Path())
		signs(c, box, point.Mark)
	}
}

// signs marks what fails with a cross, and what is not certain with a bar.
func signs(c draw.Canvas, box vg.Rectangle, m sweep.Mark) {
	size := min(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y) / 5
	middle := vg.Point{X: (box.Min.X + box.Max.X) / 2, Y: (box.Min.Y + box.Max.Y) / 2}
	style := draw.LineStyle{Color: color.White, Width: 1.2}
	switch m {
	case sweep.Fails:
		c.StrokeLine2(style, middle.X-size, middle.Y-size, middle.X+size, middle.Y+size)
		c.StrokeLine2(style, middle.X-size, middle.Y+size, middle.X+size, middle.Y-size)
	case sweep.Between, sweep.Failed:
		c.StrokeLine2(style, middle.X-size, middle.Y, middle.X+size, middle.Y)
	}
}

// swatch is a square in the legend.
type swatch struct {
	colour color.RGBA
	mark   sweep.Mark
}

func (s swatch) Thumbnail(c *draw.Canvas) {
	side := min(c.Max.X-c.Min.X, c.Max.Y-c.Min.Y)
	box := vg.Rectangle{Min: c.Min, Max: vg.Point{X: c.Min.X + side, Y: c.Min.Y + side}}
	c.SetColor(s.colour)
	c.Fill(box.Path())
	signs(*c, box, s.mark)
}

var _ plot.Plotter = (*squares)(nil)
