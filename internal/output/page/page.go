// Package page writes a review as one HTML file that needs nothing else: no network,
// no other file. It opens from disk, prints, and can be read without colour, in
// light and dark, and without a script; only playing back the world needs one.
//
// Everything that came from a game is text to it and is escaped as such.
package page

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zitherwheel/internal/output/chart"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/review/view"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

//go:embed page.html
var pageText string

//go:embed page.css
var style string

//go:embed page.js
var script string

var pages = template.Must(template.New("page").Funcs(template.FuncMap{
	"crashed":  func(f *judge.Finding) bool { return f.Kind == judge.Crashed },
	"seconds":  func(s judge.Seconds) string { return fmt.Sprintf("%.3f s", time.Duration(s).Seconds()) },
	"moment":   func(d time.Duration) string { return fmt.Sprintf("%.3f s", d.Seconds()) },
	"steps":    func() []float64 { return metrics.Steps },
	"gap":      func(f *judge.Finding) string { return fmt.Sprintf("%.4g", *f.Gap) },
	"sentence": report.Sentence,
	"number":   report.Number,
	"join":     strings.Join,
	"way":      func(r judge.ValueRow) string { return report.Explanation(r) },
	"outcome":  report.Outcome,
	"wire":     func(e judge.Evidence) string { return report.Wire(&e) },
	"spread":   report.Spread,
	"percent":  report.Percent,
	"p95":      report.P95,
	"longest":  report.Longest,
	"times":    report.Times,
	"logshead": report.LogsHead,
	"ages":     ages,
	"unseen":   report.Unseen,
	"bytes":    func(n float64) string { return report.Number(int(n)) },
}).Parse(pageText))

// data is what the page is filled with.
type data struct {
	Style    template.CSS
	Script   template.JS
	Title    string
	Review   *view.Review
	Summary  string
	Word     string // the verdict's class
	Repeat   string
	Beside   []string // what did not go as it was to, or was not compared
	Timeline template.HTML
	Figures  []shown // measures, traffic, load
	Cards    []incident
	World    template.JS // JSON, or "null"
	Thinned  string
	Plan     string
	Distrust string
	Timeless bool // computing took no time
}

// shown is a figure on the page.
type shown struct {
	Caption string
	SVG     template.HTML
}

// incident is one with its findings, the head first.
type incident struct {
	judge.Incident
	Head  card
	Cards []card           // with a curve
	Rest  []*judge.Finding // without
}

// card is a finding with what there is to see of it.
type card struct {
	Finding *judge.Finding
	Turn    string // which knob would explain its incident, of the head
	Figure  *shown
	Curve   *view.Curve
}

// Write writes the page.
func Write(w io.Writer, r *view.Review) error {
	planText, err := os.ReadFile(r.Run.PlanPath())
	if err != nil {
		return err
	}
	d := data{Style: template.CSS(style), Script: template.JS(script), Title: r.Run.About.Title, Review: r, Summary: report.Summary(r.Verdict),
		Word: strings.ReplaceAll(string(r.Verdict.Outcome), " ", "-"), Plan: string(planText), World: "null", Distrust: r.Measures.Timing.Distrust(), Timeless: r.Measures.Timing != nil && r.Measures.Timing.Supervised != nil,
		Repeat: fmt.Sprintf("zwheel run %s --seed %d", filepath.Join(r.Run.Path, "plan.yaml"), r.Run.About.Seed)}
	d.Beside = report.Beside(r.Verdict)
	d.Timeline = drawing(chart.Timeline(r)).SVG
	for _, f := range []func(*view.Review) (chart.Figure, bool){chart.Measures, chart.Speed, chart.Traffic, chart.Load} {
		if fig, ok := f(r); ok {
			d.Figures = append(d.Figures, drawing(fig))
		}
	}
	d.incidents()
	if r.World != nil {
		world, err := worldJSON(r)
		if err != nil {
			return err
		}
		d.World = template.JS(world)
		d.Thinned = fmt.Sprintf("%s points; what lay within %.3g of the straight way between its neighbours is left out", report.Number(r.World.Points), r.World.Thinned)
	}
	return pages.Execute(w, &d)
}

func (d *data) incidents() {
	r := d.Review
	curves := map[string]*view.Curve{}
	for _, c := range r.Curves {
		curves[c.Finding.ID] = c
	}
	reference := r.Verdict.Reference
	if reference == rulebook.NoReference {
		reference = "the others"
	}
	findings := map[string]*judge.Finding{}
	for _, f := range r.Verdict.Findings {
		findings[f.ID] = f
	}
	for _, in := range r.Verdict.Incidents {
		one := incident{Incident: in}
		for _, id := range in.Findings {
			f, c := findings[id], curves[id]
			if c == nil {
				one.Rest = append(one.Rest, f)
				continue
			}
			card := card{Finding: f, Curve: c}
			if fig, ok := chart.Finding(c, reference); ok {
				s := drawing(fig)
				card.Figure = &s
			}
			if id == in.Head {
				one.Head = card
			} else {
				one.Cards = append(one.Cards, card)
			}
		}
		if one.Head.Finding == nil {
			one.Head = card{Finding: findings[in.Head]}
		}
		one.Head.Turn = report.Knob(&in, r.Verdict.Rules)
		d.Cards = append(d.Cards, one)
	}
}

// drawing is a figure as it stands in a page.
func drawing(f chart.Figure) shown {
	svg := f.SVG()
	if i := bytes.Index(svg, []byte("<svg")); i > 0 {
		svg = svg[i:] // a page has no XML declaration inside
	}
	return shown{f.Caption, template.HTML(svg)} // its texts are escaped where it is drawn
}

// worldJSON writes the ways of things in whole milliseconds and hundredths of the
// unit of places, each point as its difference from the one before.
func worldJSON(r *view.Review) ([]byte, error) {
	type track struct {
		View   int   `json:"v"`
		Entity int   `json:"e"`
		Layer  int   `json:"l,omitempty"` // as view.Layer has it
		End    int64 `json:"end"`
		Points []int `json:"p"`
	}
	type moment struct {
		ID     string `json:"id"`
		At     int64  `json:"t"`
		View   string `json:"view"`
		Entity string `json:"entity"`
		Text   string `json:"text"`
	}
	world := struct {
		Views    []string   `json:"views"`
		Entities []string   `json:"entities"`
		Tracks   []track    `json:"tracks"`
		Findings []moment   `json:"findings"`
		Length   int64      `json:"length"`
		Bounds   [4]float64 `json:"bounds"` // least x, least y, most x, most y
	}{Views: r.World.Views, Entities: r.World.Entities, Tracks: []track{}, Findings: []moment{}, Length: r.Length.Milliseconds(),
		Bounds: [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}}
	for _, t := range r.World.Tracks {
		out := track{View: t.View, Entity: t.Entity, Layer: int(t.Layer), End: t.End.Milliseconds()}
		var last [3]int
		for _, p := range t.Points {
			now := [3]int{int(p.T.Milliseconds()), int(math.Round(p.X * 100)), int(math.Round(p.Y * 100))}
			out.Points = append(out.Points, now[0]-last[0], now[1]-last[1], now[2]-last[2])
			last = now
			world.Bounds = [4]float64{min(world.Bounds[0], p.X), min(world.Bounds[1], p.Y), max(world.Bounds[2], p.X), max(world.Bounds[3], p.Y)}
		}
		world.Tracks = append(world.Tracks, out)
	}
	for _, f := range r.Verdict.Findings {
		world.Findings = append(world.Findings, moment{f.ID, time.Duration(f.BeganAt).Milliseconds(), f.View, f.Entity, string(f.Kind) + ": " + report.Sentence(f)})
	}
	return json.Marshal(world) // with <, > and & escaped, so that no text can end the script
}
