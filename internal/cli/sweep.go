package cli

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/output/chart"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/rulebook"
)

func sweepCommand() *cobra.Command {
	var o sweep.Options
	var here played.Here
	var away elsewhere
	var resume bool
	var vary []string
	var out, clock string
	var tolerate float64
	var show []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "sweep PLAN --vary VALUE=RANGE [--vary VALUE=RANGE]",
		Short: "Find how much delay, loss or other values a game can take",
		Long: `Varies values of a plan and plays matches at points of the grid that they span. A coarse
grid comes first, then only cells whose neighbours differ, so the border takes few matches.
At each point matches are played until it is clear whether the game holds there: whether
at most about --tolerate percent of them fail or break a limit of the plan.

A value is one of a link, which is set both ways on the links of all bots (latency,
jitter, loss, burst, rate and so on; latency is one way); bots, their number; or the way to any
value in the plan, like game.rates.send or links.hill.down.loss. A range is 0..400ms (in at
most 20 round steps), 0..400ms/50ms (in steps of 50 ms), or a list like 10,20,30.

Every point has all measures of its matches: the median of the worst views', with its 95% interval.
--show names those that are told in the table and drawn as curves (docs/measures.md); every point
is then played, also where all around it hold.

Writes a folder with sweep.json, sweep.csv, sweep.png and sweep.html. Exits with 0 if the
points could be played, 3 if none could.`,
		Example: `  zwheel sweep examples/healthy.yaml --vary latency=0..800ms/100ms --vary loss=0..60%/10%
  zwheel sweep examples/healthy.yaml --vary game.rates.send=5,10,20,30
  zwheel sweep examples/healthy.yaml --vary game.rates.send=2,5,10,20,30 --show unevenness,age-p95-ms,down-bytes-per-second`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completePlans,
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlanOn(args[0], clock)
			if err != nil {
				return err
			}
			if len(vary) == 0 {
				return usage("nothing is varied; add --vary latency=0..400ms, or another value")
			}
			for _, text := range vary {
				axis, err := sweep.ParseAxis(text)
				if err != nil {
					return usage("--vary %s: %w", text, err)
				}
				o.Axes = append(o.Axes, axis)
			}
			if o.Tolerate = tolerate / 100; !(o.Tolerate > 0 && o.Tolerate < 1) {
				return usage("--tolerate %v: write percent, above 0 and below 100", tolerate)
			}
			for _, name := range show {
				if !slices.Contains(rulebook.Measures, name) {
					return usage("--show %s: there is no such measure; there are %s", name, join(rulebook.Measures))
				}
			}
			o.Full = o.Full || len(show) > 0
			if out == "" {
				if out, err = freeFolder("sweeps", p); err != nil {
					return err
				}
			} else if _, err := os.Stat(out); err == nil {
				return usage("%s exists already and is left as it is; name another folder with --out", out)
			}
			here.Wall = wallOptions()
			crew, ctx, err := away.begin(c, here, p, resume, vary, o.Tolerate, o.Most, o.Full)
			if err != nil {
				return err
			}
			o.Plan, o.Crew = p, crew
			o.Progress = sweepProgress(c)
			r, err := sweep.Run(ctx, o)
			if err := away.finish(c, err == nil && !r.Stopped); err != nil {
				return err
			}
			switch {
			case errors.Is(err, sweep.ErrValue), errors.Is(err, sweep.ErrLimit):
				return &exitError{exitUsage, err}
			case err != nil:
				return failed(err)
			}
			if err := leaveSweep(out, r, show); err != nil {
				return failed(err)
			}
			if asJSON {
				err = printJSON(c, r)
			} else {
				text := report.NewText(c.OutOrStdout())
				text.Sweep(r)
				text.SweepMeasures(r, show)
				fmt.Fprintf(c.OutOrStdout(), "\nSweep: %s\n", filepath.Join(out, "sweep.html"))
			}
			switch {
			case err != nil:
				return err
			case r.Stopped:
				return &exitError{exitInterrupted, errors.New("interrupted; the map is of what was played until then")}
			case r.Err() != nil:
				return failed(r.Err())
			}
			return nil
		},
	}
	away.flags(c)
	f := c.Flags()
	f.BoolVar(&resume, "resume", false, "with --on, resume the campaign")
	f.StringArrayVar(&vary, "vary", nil, "what is varied, and how; may be given several times")
	f.Float64Var(&tolerate, "tolerate", 10, "percent of matches that may fail where the game holds")
	f.IntVar(&o.Most, "max", 60, "most matches at a point")
	f.BoolVar(&o.Full, "full", false, "play every point of the grid")
	f.StringSliceVar(&show, "show", nil, "measures to tell and draw, like unevenness,down-bytes-per-second")
	f.StringVar(&out, "out", "", "folder to make for the results (default sweeps/TITLE-SEED)")
	f.IntVar(&here.Workers, "at-once", 0, "matches to play at once (default one per core, two on the wall clock)")
	f.StringVar(&clock, "clock", "", "clock to play on: virtual or wall (default the plan's)")
	f.BoolVar(&asJSON, "json", false, "print sweep.json")
	complete(c, "clock", []string{plan.Virtual, plan.Wall})
	complete(c, "show", rulebook.Measures)
	return c
}

// sweepProgress says now and then how far a sweep is.
func sweepProgress(c *cobra.Command) func(points, matches int) {
	last := time.Now()
	return func(points, matches int) {
		if now := time.Now(); now.Sub(last) >= 5*time.Second {
			last = now
			fmt.Fprintf(c.ErrOrStderr(), "%s points, %s matches\n", report.Number(points), report.Number(matches))
		}
	}
}

// leaveSweep leaves the results of a sweep in a folder.
func leaveSweep(folder string, r *sweep.Result, show []string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var html, table bytes.Buffer
	if err := page.Sweep(&html, r, show); err != nil {
		return err
	}
	rows := csv.NewWriter(&table)
	var heads []string
	for _, a := range r.Axes {
		heads = append(heads, a.Path)
	}
	measures := r.Measures()
	heads = append(heads, "mark", "inferred", "failed", "matches", "share_low", "share_high", "first")
	for _, name := range measures {
		heads = append(heads, name, name+" low", name+" high")
	}
	failures := []error{rows.Write(heads)}
	for _, p := range r.Points {
		row := append([]string{}, p.Values...)
		number := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
		row = append(row, string(p.Mark), strconv.FormatBool(p.Inferred), strconv.Itoa(p.Failed), strconv.Itoa(p.Matches), number(p.Low), number(p.High), p.First)
		for _, name := range measures {
			if v, measured := p.Measures[name]; measured {
				row = append(row, number(v.Median), number(v.Low), number(v.High))
			} else {
				row = append(row, "", "", "")
			}
		}
		failures = append(failures, rows.Write(row))
	}
	rows.Flush()
	files := map[string][]byte{"sweep.csv": table.Bytes(), "sweep.html": html.Bytes()}
	if f, ok := chart.Sweep(r); ok {
		var png bytes.Buffer
		failures = append(failures, f.PNG(&png))
		files["sweep.png"] = png.Bytes()
	}
	if f, ok := chart.SweepCurves(r, show); ok {
		var png bytes.Buffer
		failures = append(failures, f.PNG(&png))
		files["curves.png"] = png.Bytes()
	}
	failures = append(failures, atomicfile.JSON(filepath.Join(folder, "sweep.json"), r))
	for name, content := range files {
		failures = append(failures, atomicfile.Text(filepath.Join(folder, name), content))
	}
	return errors.Join(append(failures, rows.Error())...)
}
