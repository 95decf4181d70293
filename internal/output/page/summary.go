package page

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/stats"
	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/output/chart"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/verdict/judge"
)

//go:embed summary.html
var summaryText string

// barWidth is how wide a share of 100% is drawn, in pixels.
const barWidth = 160

var summaries = template.Must(template.New("summary").Funcs(template.FuncMap{
	"percent": report.Percent,
	"number":  report.Number,
	"pvalue":  report.PValue,
	"figures": report.Figures,
	"signed":  report.Signed,
	"note":    report.CompareNote,
	"rest":    func(s hunt.Signature) string { return strings.TrimPrefix(s.Signature, string(s.Kind)) },
	"px":      func(share float64) string { return fmt.Sprintf("%.1f", share*barWidth) },
	"width":   func(low, high float64) string { return fmt.Sprintf("%.1f", max(1, (high-low)*barWidth)) },
	"seconds": func(s judge.Seconds) string { return fmt.Sprintf("%.3f s", time.Duration(s).Seconds()) },
	"seeds": func(seeds []uint64) string {
		var list []string
		for _, s := range seeds {
			list = append(list, fmt.Sprint(s))
		}
		return strings.Join(list, ", ")
	},
}).Parse(summaryText))

// summary is what the page of several matches is filled with: one of the three.
type summary struct {
	Style   template.CSS
	Title   string
	Facts   []string
	Warning string
	Hunt    *huntData
	Sweep   *sweepData
	Compare *compare.Result
}

type huntData struct {
	*hunt.Result
	Playable int
	Upper    float64 // of a share that was never seen, with 95% confidence
}

type sweepData struct {
	*sweep.Result
	Figure *shown
	Drawn  *shown // measures as curves
	X, Y   string
	Border [][2]string
}

// Hunt writes the page of a hunt.
func Hunt(w io.Writer, r *hunt.Result) error {
	s := summary{Title: r.Title + ", hunted", Facts: []string{fmt.Sprintf("%s matches from seed %d on, %s in sync", report.Number(r.Matches), r.First, report.Number(r.InSync))},
		Hunt: &huntData{r, r.Matches - len(r.Failed), stats.BoundOfNone(r.InSync)}}
	if r.Stopped {
		s.Warning = "It was interrupted; zwheel hunt --resume continues it."
	}
	return s.write(w)
}

// Sweep writes the page of a sweep.
func Sweep(w io.Writer, r *sweep.Result, show []string) error {
	d := &sweepData{Result: r}
	if f, ok := chart.SweepCurves(r, show); ok {
		drawn := drawing(f)
		d.Drawn = &drawn
	}
	if f, ok := chart.Sweep(r); ok {
		drawn := drawing(f)
		d.Figure = &drawn
	}
	if border := r.Border(); border != nil {
		d.X, d.Y = r.Axes[0].Path, r.Axes[1].Path
		for i, upTo := range border {
			d.Border = append(d.Border, [2]string{r.Axes[0].Values[i], upTo.String()})
		}
	}
	s := summary{Title: r.Title + ", swept", Sweep: d, Facts: []string{fmt.Sprintf("%s of %s points played, %s matches. A point holds where at most about %s of matches fail.",
		report.Number(r.Played), report.Number(len(r.Points)), report.Number(r.Matches), report.Percent(r.Tolerate))}}
	if r.Stopped {
		s.Warning = "It was interrupted; the map is of what was played until then."
	}
	return s.write(w)
}

// Compare writes the page of a comparison.
func Compare(w io.Writer, r *compare.Result) error {
	s := summary{Title: r.Before.Title + ", before and after", Compare: r}
	for _, side := range []struct {
		what string
		sum  compare.Summary
	}{{"Before", r.Before}, {"After", r.After}} {
		s.Facts = append(s.Facts, fmt.Sprintf("%s: %s “%s”, %s matches, %s in sync", side.what, side.sum.What, side.sum.Title, report.Number(side.sum.Matches), report.Number(side.sum.InSync)))
	}
	s.Facts = append(s.Facts, fmt.Sprintf("%s matches have the same seed on both sides", report.Number(r.SameSeeds)))
	return s.write(w)
}

func (s *summary) write(w io.Writer) error {
	s.Style = template.CSS(style)
	return summaries.Execute(w, s)
}
