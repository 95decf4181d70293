package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/plan"
	"zitherwheel/report"
	"zitherwheel/trial"
)

func trialCommand() *cobra.Command {
	var o trial.Options
	var asJSON, real bool
	c := &cobra.Command{
		Use:   "trial",
		Short: "Measure how far the verdict can be trusted",
		Long: `Plays the demo game with every mistake that can be planted in it, with the decoys
and without any, on links from clean to terrible and with many seeds, and counts
what was found, how it was named, and what was flagged although nothing was wrong.
Whether a mistake showed itself in a match at all is told by a witness inside the
game, which knows nothing of the judge.

With --real every match is played from the same plan on both clocks: the virtual
one, and with processes and real sockets; the table shows what was found on each.

Exits with 0 if everything that showed itself was found and nothing else was.`,
		Example: "  zwheel trial --seeds 2 --faults lost-goodbye,healthy\n  zwheel trial --real --seeds 1 --links hill-farm",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			for _, name := range o.Links {
				if !slices.ContainsFunc(plan.ReadyLinks, func(l plan.Link) bool { return l.Name == name }) {
					return usage("--links %s: there is no such ready link; zwheel links lists them", name)
				}
			}
			began := time.Now()
			progress := c.ErrOrStderr()
			terminal := terminal(progress) != nil
			last := time.Time{}
			o.Progress = func(done, all int) {
				if now := time.Now(); now.Sub(last) > 2*time.Second || done == all {
					last = now
					end := "\n"
					if terminal {
						end = "\r"
					}
					left := time.Duration(float64(now.Sub(began)) / float64(done) * float64(all-done)).Round(time.Second)
					fmt.Fprintf(progress, "%d of %d matches played, about %v left   %s", done, all, left, end)
				}
			}
			if real {
				return trialOfBoth(c, o, asJSON)
			}
			rows, err := trial.Run(c.Context(), o)
			if err != nil {
				return usage("%w", err)
			}
			fmt.Fprintf(progress, "%d s with %d links: %s\n", int(time.Since(began).Seconds()), len(links(o)), join(links(o)))
			if asJSON {
				if err := printJSON(c, rows); err != nil {
					return err
				}
			} else {
				report.NewText(c.OutOrStdout()).Trial(rows)
			}
			if c.Context().Err() != nil {
				return &exit{exitInterrupted, fmt.Errorf("interrupted; the figures are of what was played")}
			}
			for _, r := range rows {
				if r.Alarms > 0 || r.Found < r.Showed {
					return quiet(exitOutOfSync)
				}
			}
			return nil
		},
	}
	c.Flags().StringSliceVar(&o.Faults, "faults", nil, "mistakes to plant, healthy among them (default all)")
	c.Flags().StringSliceVar(&o.Links, "links", nil, "ready links to play on (default "+join(trial.Links)+")")
	c.Flags().IntVar(&o.Seeds, "seeds", 10, "matches of each mistake on each link")
	c.Flags().IntVar(&o.Matches, "healthy", 0, "matches of the healthy game, in all (default --seeds on each link)")
	c.Flags().BoolVar(&real, "real", false, "play each match on both clocks")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// trialOfBoth plays on both clocks.
func trialOfBoth(c *cobra.Command, o trial.Options, asJSON bool) error {
	pairs, err := trial.Both(c.Context(), o, wallOptions())
	if err != nil {
		return failed(err)
	}
	if asJSON {
		if err := printJSON(c, pairs); err != nil {
			return err
		}
	} else {
		report.NewText(c.OutOrStdout()).Pairs(pairs)
	}
	if c.Context().Err() != nil {
		return &exit{exitInterrupted, fmt.Errorf("interrupted; the table is of what was played")}
	}
	for _, p := range pairs {
		if len(p.Expected) == 0 && len(p.Virtual.Kinds)+len(p.Real.Kinds) > 0 || p.Showed && !(p.Virtual.Named && p.Real.Named) {
			return quiet(exitOutOfSync)
		}
	}
	return nil
}

func links(o trial.Options) []string {
	if o.Links != nil {
		return o.Links
	}
	return trial.Links
}
