package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func compareCommand() *cobra.Command {
	var o comparison
	var seed uint64
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
			if c.Flags().Changed("seed") {
				o.playing.Seed = &seed
			}
			if err := o.check(c, args); err != nil {
				return err
			}
			crew, ctx, err := o.crew(c, args)
			if err != nil {
				return err
			}
			o.playing.Crew, o.playing.Progress = crew, huntProgress(c)
			before, after, err := o.sides(ctx, c, args)
			if err := o.away.finish(c, err == nil); err != nil {
				return err
			}
			if err != nil || before == nil {
				return err
			}
			return o.tell(c, compare.Sides(before, after, o.errorRate))
		},
	}
	o.away.flags(c)
	f := c.Flags()
	f.BoolVar(&o.resume, "resume", false, "with --on, resume the campaign")
	f.IntVar(&o.playing.Times, "times", 40, "matches of each plan")
	f.Uint64Var(&seed, "seed", 0, "seed of the first match of plans (default the plan's)")
	f.StringVar(&o.playing.Clock, "clock", "", "clock to play plans on: virtual or wall (default the plan's)")
	f.StringVar(&o.baseline, "baseline", "", "compare with the baseline in this file, or save one there")
	f.StringVar(&o.html, "html", "", "write a page to this file too")
	f.BoolVar(&o.asJSON, "json", false, "print JSON instead of text")
	f.Float64Var(&o.errorRate, "error-rate", compare.ErrorRate, "false alarm rate over everything that is compared")
	complete(c, "clock", []string{plan.Virtual, plan.Wall})
	return c
}

// crew is who plays the plans among what is compared.
func (o *comparison) crew(c *cobra.Command, args []string) (played.Crew, context.Context, error) {
	here := played.Here{Wall: wallOptions()}
	if o.away.at.URL == "" {
		return o.away.begin(c, here, nil, false)
	}
	var first *plan.Plan
	var asked []any
	for _, path := range args {
		if !isPlan(path) || filepath.Ext(path) == ".json" {
			continue
		}
		p, err := loadPlan(path)
		if err != nil {
			return nil, nil, err
		}
		of, _, err := played.IdentityOf(p)
		if err != nil {
			return nil, nil, failed(err)
		}
		if asked = append(asked, of.Key()); first == nil {
			first = p
		}
	}
	if first == nil {
		return nil, nil, usage("--on is for plans, and there is none among what is compared")
	}
	return o.away.begin(c, here, first, o.resume, append(asked, o.playing.Clock)...)
}

// comparison is what zwheel compare was asked for.
type comparison struct {
	playing        compare.Playing
	baseline, html string
	asJSON         bool
	errorRate      float64
	away           elsewhere
	resume         bool // the campaign
}

func (o *comparison) check(c *cobra.Command, args []string) error {
	switch {
	case !(o.errorRate > 0 && o.errorRate < 1):
		return usage("--error-rate %v: write a share between 0 and 1, like 0.05", o.errorRate)
	case (o.baseline == "") != (len(args) == 2):
		return usage("name two runs, hunts or plans, or one and --baseline FILE; see %s --help", c.CommandPath())
	case o.playing.Times < 1:
		return usage("--times %d: write at least 1", o.playing.Times)
	case o.playing.Clock != "" && o.playing.Clock != plan.Virtual && o.playing.Clock != plan.Wall:
		return usage("--clock %s: there are %s and %s", o.playing.Clock, plan.Virtual, plan.Wall)
	}
	return nil
}

// sides loads or plays what is compared. There is nothing before if what was named was
// saved as the baseline.
func (o *comparison) sides(ctx context.Context, c *cobra.Command, args []string) (before, after *compare.Side, err error) {
	_, missing := os.Stat(o.baseline)
	keeps := o.baseline != "" && errors.Is(missing, os.ErrNotExist)
	switch {
	case keeps:
	case o.baseline != "":
		if before, err = compare.Baseline(o.baseline); err != nil {
			return nil, nil, &exitError{exitUsage, err}
		}
	default:
		if before, err = o.load(ctx, c, args[0]); err != nil {
			return nil, nil, err
		}
	}
	if before != nil { // what was learned for the one, both are judged by
		if o.playing.Rules, err = before.Rules(); err != nil {
			return nil, nil, &exitError{exitUsage, err}
		}
	}
	if after, err = o.load(ctx, c, args[len(args)-1]); err != nil || !keeps {
		return before, after, err
	}
	if err := after.Keep(o.baseline); err != nil {
		return nil, nil, failed(err)
	}
	fmt.Fprintf(c.OutOrStdout(), "Kept as the baseline: %s, of %d matches. Call this again after a change.\n", o.baseline, len(after.Matches))
	return nil, nil, nil
}

func (o *comparison) load(ctx context.Context, c *cobra.Command, path string) (*compare.Side, error) {
	side, err := compare.Load(ctx, path, o.playing)
	switch {
	case err != nil && c.Context().Err() != nil:
		return nil, &exitError{exitInterrupted, errors.New("interrupted; nothing was compared")}
	case err != nil:
		return nil, &exitError{exitUsage, err}
	}
	return side, nil
}

func (o *comparison) tell(c *cobra.Command, r *compare.Result) error {
	if r.Before.Matches == 0 || r.After.Matches == 0 {
		return failed(errors.New("one side has no match that could be played, so there is nothing to compare"))
	}
	if o.html != "" {
		var text bytes.Buffer
		if err := page.Compare(&text, r); err != nil {
			return failed(err)
		}
		if err := atomicfile.Text(o.html, text.Bytes()); err != nil {
			return failed(err)
		}
	}
	if o.asJSON {
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
}
