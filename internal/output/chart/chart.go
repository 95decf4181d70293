// Package chart draws what a review has: the curves of findings, the lanes of the
// views, traffic, load and measures. The same figure goes into the report's page,
// and alone into an SVG or PNG file.
package chart

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Figure is a drawing.
type Figure struct {
	Name          string // for a file
	Caption       string
	width, height vg.Length
	panels        []panel // from top to bottom
}

// panel is a plot with its share of the height.
type panel struct {
	plot  *plot.Plot
	share float64
}

// Colours that are told apart also by who sees no red or no green (Okabe & Ito,
// Color Universal Design, 2008).
var (
	blue      = color.RGBA{0, 114, 178, 255}
	vermilion = color.RGBA{213, 94, 0, 255}
	green     = color.RGBA{0, 130, 100, 255}
	purple    = color.RGBA{160, 70, 130, 255}
	grey      = color.RGBA{110, 110, 110, 255}
	pale      = color.NRGBA{0, 114, 178, 46}
	shade     = color.NRGBA{213, 94, 0, 30}
)

const (
	wide        = 860
	legendWidth = 100 // at the right of the plots, where nothing is drawn
)

func newFigure(name, caption string, height float64) Figure {
	return Figure{Name: name, Caption: caption, width: wide, height: vg.Length(height)}
}

// newPlot is a plot in our style.
func newPlot() *plot.Plot {
	p := plot.New()
	sans := font.Font{Typeface: "Liberation", Variant: "Sans", Size: 10}
	for _, style := range []*draw.TextStyle{&p.Title.TextStyle, &p.X.Label.TextStyle, &p.Y.Label.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label, &p.Legend.TextStyle} {
		style.Font = sans
		style.Font.Size = 9
	}
	p.X.Padding, p.Y.Padding = 2, 4
	p.Legend.Top = true
	p.Legend.XOffs = legendWidth
	p.Legend.ThumbnailWidth = 18
	p.Y.Tick.Marker = fewTicks{}
	return p
}

// fewTicks are ticks that leave room for their labels.
type fewTicks struct{}

func (fewTicks) Ticks(low, high float64) []plot.Tick {
	ticks := plot.DefaultTicks{}.Ticks(low, high)
	major := 0
	for _, t := range ticks {
		if t.Label != "" {
			major++
		}
	}
	for i, skip := 0, 0; i < len(ticks) && major > 5; i++ {
		if ticks[i].Label != "" {
			if skip++; skip%2 == 0 {
				ticks[i].Label = ""
			}
		}
	}
	return ticks
}

func (f Figure) draw(c draw.Canvas) {
	top := c.Max.Y
	c.Max.X -= legendWidth
	// The plots stand below each other with their left edges in line.
	left := vg.Length(0)
	for _, p := range f.panels {
		left = max(left, p.plot.DataCanvas(c).Min.X-c.Min.X)
	}
	for _, p := range f.panels {
		height := vg.Length(float64(f.height) * p.share)
		part := draw.Crop(c, 0, 0, 0, 0)
		part.Max.Y, part.Min.Y = top, top-height
		part.Min.X += left - (p.plot.DataCanvas(part).Min.X - part.Min.X)
		p.plot.Draw(part)
		top -= height
	}
}

// SVG writes the figure as a drawing of its own, with a white ground.
func (f Figure) SVG() []byte {
	c := vgsvg.New(f.width, f.height)
	f.draw(draw.New(c))
	var text bytes.Buffer
	if _, err := c.WriteTo(&text); err != nil { // a buffer takes everything
		return nil
	}
	return text.Bytes()
}

// PNG writes the figure as an image, twice as fine as its size in points.
func (f Figure) PNG(w io.Writer) error {
	c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(f.width, f.height), vgimg.UseDPI(144))}
	f.draw(draw.New(c))
	_, err := c.WriteTo(w)
	return err
}

// line adds a line to a plot, and to its legend if it has a name.
func line(p *plot.Plot, name string, xy plotter.XYs, c color.Color, width vg.Length, step bool) {
	if len(xy) == 0 {
		return
	}
	// Plotters do not know gaps: each stretch of numbers is a line of its own.
	first := true
	for start := 0; start < len(xy); {
		if math.IsNaN(xy[start].Y) {
			start++
			continue
		}
		end := start
		for end < len(xy) && !math.IsNaN(xy[end].Y) {
			end++
		}
		l, err := plotter.NewLine(xy[start:end])
		if err == nil { // only without a number
			l.Color, l.Width = c, width
			if step {
				l.StepStyle = plotter.PostStep
			}
			p.Add(l)
			if first && name != "" {
				p.Legend.Add(spaced(name), l)
			}
			first = false
		}
		start = end
	}
}

// dots adds points to a plot.
func dots(p *plot.Plot, name string, xy plotter.XYs, c color.Color, shape draw.GlyphDrawer, size vg.Length) {
	s, err := plotter.NewScatter(xy)
	if len(xy) == 0 || err != nil {
		return
	}
	s.Color, s.Shape, s.Radius = c, shape, size
	p.Add(s)
	if name != "" {
		p.Legend.Add(spaced(name), s)
	}
}

// area adds a shaded area to a plot.
func area(p *plot.Plot, xy plotter.XYs, c color.Color) {
	a, err := plotter.NewPolygon(xy)
	if err != nil {
		return
	}
	a.Color, a.LineStyle.Width = c, 0
	p.Add(a)
}

func seconds(d time.Duration) float64 { return d.Seconds() }

// at writes a moment for a caption.
func at(d time.Duration) string { return fmt.Sprintf("%.3f s", d.Seconds()) }

// spaced keeps the name of a legend's entry off its sample: a browser's font may be wider than
// the one by which the chart is laid out.
func spaced(name string) string { return name + "\u00a0\u00a0\u00a0" }
