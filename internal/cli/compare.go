package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func compareCommand() *cobra.Command {
	playing := compare.Playing{}
	var baseline, html string
	var seed uint64
	var asJSON bool
	var errorRate float64
	c := &cobra.Command{
		Use:   "compare BEFORE [AFTER]",
		Short: "Compare builds before and after a change: what it fixed and what it broke",
		Long: `Compares two runs, two hunts or two plans, before and after a change; plans are played
first, --times matches each with the same seeds. Reports by signature what is fixed, new or
still there, and whether that is more than chance, and how measures changed, with 95% CI.

With --baseline FILE name only one: it is compared with the baseline in FILE, or saved there
if there is no such file. That is for a CI server: it exits with 1 only if something is new,
more frequent or worse, and that is more than chance.

First it asks whether more matches are out of sync, then for each signature and measure. All
of them together raise a false alarm in at most --error-rate of comparisons, so a few
matches tell little; then it says how many more are needed.

Exits with 0 if nothing is significantly new, more frequent or worse, 1 if something is, 3
if it cannot tell.`,
		Example: `  zwheel compare examples/lost-goodbye.yaml examples/healthy.yaml --times 40
  zwheel compare examples/healthy.yaml --baseline healthy.json --times 40`,
		Args: cobra.RangeArgs(1, 2),
		ValidArgsFunction: func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: func(c *cobra.Command, args []string) error {
			if !(errorRate > 0 && errorRate < 1) {
				return usage("--error-rate %v: write a share between 0 and 1, like 0.05", errorRate)
			}
			if (baseline == "") != (len(args) == 2) {
				return usage("name two runs, hunts or plans, or one and --baseline FILE; see %s --help", c.CommandPath())
			}
			if playing.Times < 1 {
				return usage("--times %d: write at least 1", playing.Times)
			}
			if playing.Clock != "" && playing.Clock != plan.Virtual && playing.Clock != plan.Wall {
				return usage("--clock %s: there are %s and %s", playing.Clock, plan.Virtual, plan.Wall)
			}
			if c.Flags().Changed("seed") {
				playing.Seed = &seed
			}
			playing.Wall, playing.Progress = wallOptions(), huntProgress(c)
			load := func(path string) (*compare.Side, error) {
				side, err := compare.Load(c.Context(), path, playing)
				switch {
				case err != nil && c.Context().Err() != nil:
					return nil, &exitError{exitInterrupted, errors.New("interrupted; nothing was compared")}
				case err != nil:
					return nil, &exitError{exitUsage, err}
				}
				return side, nil
			}
			after, err := load(args[len(args)-1])
			if err != nil {
				return err
			}
			if _, err := os.Stat(baseline); baseline != "" && errors.Is(err, os.ErrNotExist) {
				if err := after.Keep(baseline); err != nil {
					return failed(err)
				}
				fmt.Fprintf(c.OutOrStdout(), "Kept as the baseline: %s, of %d matches. Call this again after a change.\n", baseline, len(after.Matches))
				return nil
			}
			var before *compare.Side
			if baseline != "" {
				if before, err = compare.Baseline(baseline); err != nil {
					return &exitError{exitUsage, err}
				}
			} else if before, err = load(args[0]); err != nil {
				return err
			}
			r := compare.Sides(before, after, errorRate)
			if r.Before.Matches == 0 || r.After.Matches == 0 {
				return failed(errors.New("one side has no match that could be played, so there is nothing to compare"))
			}
			if html != "" {
				var text bytes.Buffer
				if err := page.Compare(&text, r); err != nil {
					return failed(err)
				}
				if err := atomicfile.Text(html, text.Bytes()); err != nil {
					return failed(err)
				}
			}
			if asJSON {
				if err := printJSON(c, r); err != nil {
					return err
				}
			} else {
				report.NewText(c.OutOrStdout()).Compare(r)
			}
			if r.Worse() {
				return quiet(exitOutOfSync)
			}
			return nil
		},
	}
	f := c.Flags()
	f.IntVar(&playing.Times, "times", 40, "matches of each plan")
	f.Uint64Var(&seed, "seed", 0, "seed of the first match of plans (default the plan's)")
	f.StringVar(&playing.Clock, "clock", "", "clock to play plans on: virtual or wall (default the plan's)")
	f.StringVar(&baseline, "baseline", "", "compare with the baseline in this file, or save one there")
	f.StringVar(&html, "html", "", "write a page to this file too")
	f.BoolVar(&asJSON, "json", false, "print JSON instead of text")
	f.Float64Var(&errorRate, "error-rate", compare.ErrorRate, "false alarm rate over everything that is compared")
	complete(c, "clock", []string{plan.Virtual, plan.Wall})
	return c
}
