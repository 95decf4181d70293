package chart

import (
	"fmt"
	"image/color"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"zitherwheel/internal/review/view"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Timeline draws one lane for each view: when it was in the match, when it
// disagreed, and when its link was out.
func Timeline(r *view.Review) Figure {
	n := len(r.Lanes)
	f := newFigure("timeline", "one lane per view: pale, in the match; bars, findings; small triangles, corrections of its own entity; crosses, every packet lost for half a second or more", float64(60+26*n))
	p := newPlot()
	p.X.Label.Text = "time, s"
	p.X.Min, p.X.Max = 0, max(0.001, seconds(r.Length))
	p.Y.Min, p.Y.Max = -0.6, float64(n)-0.4
	var ticks []plot.Tick
	bar := func(lane int, s view.Span, offset, half float64, c color.Color) {
		y := float64(n-1-lane) + offset
		until := max(seconds(s.Until), seconds(s.From)+p.X.Max/400)
		area(p, plotter.XYs{{X: seconds(s.From), Y: y - half}, {X: until, Y: y - half}, {X: until, Y: y + half}, {X: seconds(s.From), Y: y + half}}, c)
	}
	for i, lane := range r.Lanes {
		ticks = append(ticks, plot.Tick{Value: float64(n - 1 - i), Label: shortName(lane.View)})
		in := lane.In
		if in == nil && lane.View == r.Verdict.Reference {
			in = []view.Span{{From: 0, Until: r.Length}}
		}
		for _, s := range in {
			bar(i, s, 0, 0.32, pale)
		}
		for k, e := range lane.Apart {
			if k == 200 { // more are one block to the eye
				break
			}
			bar(i, e.Span, 0.18-0.12*float64(k%4), 0.05, vermilion)
		}
		var set plotter.XYs
		for k, t := range lane.Corrections {
			if k == 500 { // more are one line to the eye
				break
			}
			set = append(set, plotter.XY{X: seconds(t), Y: float64(n-1-i) - 0.27})
		}
		dots(p, "", set, green, draw.PyramidGlyph{}, 1.8)
		for _, s := range lane.Outages {
			dots(p, "", plotter.XYs{{X: seconds(s.From), Y: float64(n - 1 - i)}, {X: seconds(s.Until), Y: float64(n - 1 - i)}}, grey, draw.CrossGlyph{}, 3)
			line(p, "", plotter.XYs{{X: seconds(s.From), Y: float64(n - 1 - i)}, {X: seconds(s.Until), Y: float64(n - 1 - i)}}, grey, 1, false)
		}
	}
	p.Y.Tick.Marker = plot.ConstantTicks(ticks)
	f.panels = []panel{{p, 1}}
	return f
}

func shortName(name string) string {
	if runes := []rune(name); len(runes) > 16 {
		return string(runes[:15]) + "…"
	}
	return name
}

// hues tell the lines of several views apart, with their names beside them.
var hues = []color.Color{blue, vermilion, green, purple, grey, color.RGBA{86, 150, 200, 255}, color.RGBA{150, 110, 0, 255}, color.RGBA{60, 60, 60, 255}}

// Traffic draws what went over the links, down and up, by second. ok is false if
// nothing did.
func Traffic(r *view.Review) (Figure, bool) {
	bytes := func(seconds []view.Traffic) (xy plotter.XYs) {
		for second, t := range seconds {
			xy = append(xy, plotter.XY{X: float64(second) + 0.5, Y: float64(t.Bytes) / 1e3})
		}
		return xy
	}
	return overTime(r, "traffic", "bytes a second on each view's link, down (above) and up",
		course{"down, kB/s", func(l *view.Lane) plotter.XYs { return bytes(l.Down) }},
		course{"up, kB/s", func(l *view.Lane) plotter.XYs { return bytes(l.Up) }})
}

// Speed draws how fast an entity moved in truth and as a view showed it, where that differs most. ok is
// false if nothing is known of places.
func Speed(r *view.Review) (f Figure, ok bool) {
	s := r.Speeds()
	if s == nil {
		return Figure{}, false
	}
	p := newPlot()
	p.X.Label.Text, p.Y.Label.Text = "time, s", "speed"
	var truth, shown plotter.XYs
	most := 0.0
	for i, t := range s.T {
		truth, shown = append(truth, plotter.XY{X: seconds(t), Y: s.True[i]}), append(shown, plotter.XY{X: seconds(t), Y: s.Shown[i]})
		for _, v := range []float64{s.True[i], s.Shown[i]} {
			if !math.IsNaN(v) {
				most = max(most, v)
			}
		}
	}
	if most == 0 {
		return Figure{}, false
	}
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = seconds(s.T[0]), seconds(s.T[len(s.T)-1]), 0, most*1.08
	line(p, r.Run.About.Views[0], truth, blue, 2, false)
	line(p, s.View, shown, vermilion, 1.2, false)
	whose := ""
	if s.Own {
		whose = ", its own"
	}
	f = newFigure("speed", fmt.Sprintf("how fast %s moves in truth, %s earlier, and as %s shows it%s: where motion is least smooth. A speed is of the way in a tenth of a second", s.Entity, s.Delay.Round(time.Millisecond), s.View, whose), 190)
	f.panels = []panel{{p, 1}}
	return f, true
}

// Load draws what processes used of the machine. ok is false if there were none.
func Load(r *view.Review) (Figure, bool) {
	used := func(l *view.Lane, of func(view.LoadPoint) float64) (xy plotter.XYs) {
		for _, at := range l.Load {
			xy = append(xy, plotter.XY{X: seconds(at.At), Y: of(at)})
		}
		return xy
	}
	return overTime(r, "load", "processor cores (above) and memory of each process",
		course{"CPU, cores", func(l *view.Lane) plotter.XYs { return used(l, func(p view.LoadPoint) float64 { return p.CPU }) }},
		course{"memory, MB", func(l *view.Lane) plotter.XYs {
			return used(l, func(p view.LoadPoint) float64 { return p.Resident / 1e6 })
		}})
}

// course is something that each view has in the course of a match.
type course struct {
	label string
	of    func(*view.Lane) plotter.XYs
}

// overTime draws courses below each other, a line for each view. ok is false if no
// view has any.
func overTime(r *view.Review, name, caption string, courses ...course) (f Figure, ok bool) {
	f = newFigure(name, caption, float64(150*len(courses)))
	for _, c := range courses {
		p := newPlot()
		p.Y.Label.Text = c.label
		shown := 0
		for i := range r.Lanes {
			if xy := c.of(&r.Lanes[i]); len(xy) > 0 {
				if shown++; shown <= len(hues) {
					line(p, shortName(r.Lanes[i].View), thinned(xy), hues[shown-1], 1, false)
				}
			}
		}
		ok = ok || shown > 0
		p.X.Min, p.X.Max, p.Y.Min = 0, max(1, seconds(r.Length)), 0
		f.panels = append(f.panels, panel{p, 1 / float64(len(courses))})
	}
	f.panels[len(f.panels)-1].plot.X.Label.Text = "time, s"
	return f, ok
}

// mostInLine is how many points a line over a whole match has at the most.
const mostInLine = 1500

// thinned leaves out what the eye cannot see, and keeps the least and the most of
// each stretch.
func thinned(xy plotter.XYs) plotter.XYs {
	if len(xy) <= mostInLine {
		return xy
	}
	var kept plotter.XYs
	stretch := 2 * len(xy) / mostInLine
	for start := 0; start < len(xy); start += stretch {
		part := xy[start:min(start+stretch, len(xy))]
		least, most := 0, 0
		for i := range part {
			if part[i].Y < part[least].Y {
				least = i
			}
			if part[i].Y > part[most].Y {
				most = i
			}
		}
		kept = append(kept, part[min(least, most)])
		if least != most {
			kept = append(kept, part[max(least, most)])
		}
	}
	return kept
}

// Measures draws the spread of what was measured of each view, with the limits of
// the plan. ok is false if nothing was.
func Measures(r *view.Review) (f Figure, ok bool) {
	f = newFigure("measures", "median (dot), 95% (bar) and most (tick) for each view; dashed, the plan's limit", 0)
	limit := func(name string) float64 {
		for _, l := range r.Plan.Rules.Limits {
			if l.Measure == name {
				return l.Max
			}
		}
		return 0
	}
	for _, m := range []struct {
		label string
		limit string
		of    func(*metrics.View) *metrics.Spread
	}{
		{"age, ms", "age-p95-ms", func(v *metrics.View) *metrics.Spread { return v.Age }},
		{"response, ms", "response-own-ms", func(v *metrics.View) *metrics.Spread { return v.ResponseOwn }},
		{"corrections", "correction-p95", func(v *metrics.View) *metrics.Spread { return v.Corrections }},
	} {
		p := newPlot()
		p.Y.Label.Text = m.label
		var ticks []plot.Tick
		var median, most plotter.XYs
		top := limit(m.limit)
		for i := range r.Measures.Views {
			v := &r.Measures.Views[i]
			x := float64(i)
			ticks = append(ticks, plot.Tick{Value: x, Label: shortName(v.Name)})
			s := m.of(v)
			if s == nil {
				continue
			}
			area(p, plotter.XYs{{X: x - 0.25, Y: 0}, {X: x + 0.25, Y: 0}, {X: x + 0.25, Y: s.P95}, {X: x - 0.25, Y: s.P95}}, pale)
			median, most = append(median, plotter.XY{X: x, Y: s.Median}), append(most, plotter.XY{X: x, Y: s.Max})
			top = max(top, s.Max)
		}
		if len(median) == 0 {
			continue
		}
		ok = true
		dots(p, "", median, blue, draw.CircleGlyph{}, 2.5)
		dots(p, "", most, vermilion, draw.PlusGlyph{}, 4)
		if l := limit(m.limit); l > 0 {
			lim, err := plotter.NewLine(plotter.XYs{{X: -0.5, Y: l}, {X: float64(len(ticks)) - 0.5, Y: l}})
			if err == nil {
				lim.Color, lim.Dashes = vermilion, []vg.Length{4, 3}
				p.Add(lim)
			}
		}
		p.X.Tick.Marker = plot.ConstantTicks(ticks)
		p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = -0.5, float64(len(ticks))-0.5, 0, top*1.1
		f.panels = append(f.panels, panel{p, 0})
	}
	for i := range f.panels {
		f.panels[i].share = 1 / float64(len(f.panels))
	}
	f.height = vg.Length(130 * len(f.panels))
	return f, ok
}

// All are the figures of a review, in the order of a report.
func All(r *view.Review) []Figure {
	list := []Figure{Timeline(r)}
	add := func(f Figure, ok bool) {
		if ok {
			list = append(list, f)
		}
	}
	for _, c := range r.Curves {
		add(Finding(c, referenceOf(r)))
	}
	add(Measures(r))
	add(Speed(r))
	add(Traffic(r))
	add(Load(r))
	return list
}

func referenceOf(r *view.Review) string {
	if r.Verdict.Reference == rulebook.NoReference {
		return "the others"
	}
	return r.Verdict.Reference
}
