package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/selftest"
	"zitherwheel/internal/campaign/worlds"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/output/report"
)

func selftestCommand() *cobra.Command {
	var o selftest.Options
	var asJSON, real, ticks, learned bool
	var made int
	var away elsewhere
	var resume bool
	c := &cobra.Command{
		Use:   "selftest",
		Short: "Measure how accurate the verdict is, on the demo game",
		Long: `Plays the demo game with every fault injected, with controls and with none, on links from
clean to terrible and with many seeds, and counts what was found, how it was named, and
false alarms. A witness inside the game, which knows nothing of the judge, says whether a
fault showed in a match at all.

With --worlds it measures on games that nobody knows instead: made-up worlds with drawn
motions, values and views, in each of which one drawn mistake is made, or none (--healthy).
With --ticks these number their steps, and are judged by ticks.

With --real every match is played on both clocks: the virtual one, and with processes and
real sockets; the table shows what was found on each.

With --on the workers of a hub play the matches.

Exits with 0 if every fault that showed was found and there was no false alarm.`,
		Example: "  zwheel selftest --seeds 2 --faults lost-goodbye,healthy\n  zwheel selftest --worlds 40\n  zwheel selftest --real --seeds 1 --links hill-farm",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			for _, name := range o.Links {
				if _, known := link.FindReady(name); !known {
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
			if away.at.URL != "" && (made > 0 || real) {
				return usage("--on is for matches of the demo game on the virtual clock; made-up worlds and --real are played here")
			}
			if made > 0 {
				return selftestOfWorlds(c, worlds.Options{Each: made, Healthy: o.Matches, Ticks: ticks, Learned: learned, Progress: o.Progress}, asJSON)
			}
			if real {
				return selftestOfBoth(c, o, asJSON)
			}
			if err := o.Check(); err != nil {
				return usage("%w", err)
			}
			crew, ctx, err := away.beginOf(c, played.Here{}, "the demo game", "demo", resume, o.Faults, o.Links, o.Seeds, o.Matches)
			if err != nil {
				return err
			}
			o.Crew = crew
			rows, err := selftest.Run(ctx, o)
			if err := away.finish(c, err == nil && ctx.Err() == nil); err != nil {
				return err
			}
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(progress, "%d s with %d links: %s\n", int(time.Since(began).Seconds()), len(links(o)), join(links(o)))
			if asJSON {
				if err := printJSON(c, rows); err != nil {
					return err
				}
			} else {
				report.NewText(c.OutOrStdout()).Selftest(rows)
			}
			if c.Context().Err() != nil {
				return &exitError{exitInterrupted, fmt.Errorf("interrupted; the figures are of what was played")}
			}
			for _, r := range rows {
				if r.Alarms > 0 || r.Found < r.Showed {
					return quiet(exitOutOfSync)
				}
			}
			return nil
		},
	}
	away.flags(c)
	c.Flags().BoolVar(&resume, "resume", false, "with --on, resume the campaign")
	c.Flags().StringSliceVar(&o.Faults, "faults", nil, "faults to inject, or healthy (default all)")
	c.Flags().StringSliceVar(&o.Links, "links", nil, "ready links to play on (default "+join(selftest.Links)+")")
	c.Flags().IntVar(&made, "worlds", 0, "made-up worlds of each mistake, instead of the demo game")
	c.Flags().BoolVar(&learned, "learned", false, "with --worlds: by rules that are learned from a match without a mistake, as zwheel learn does")
	c.Flags().BoolVar(&ticks, "ticks", false, "with --worlds: of games that number their steps")
	c.Flags().IntVar(&o.Seeds, "seeds", 10, "matches of each fault on each link")
	c.Flags().IntVar(&o.Matches, "healthy", 0, "matches of the healthy game, in all (default --seeds on each link)")
	c.Flags().BoolVar(&real, "real", false, "play each match on both clocks")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// selftestOfBoth plays on both clocks.
func selftestOfBoth(c *cobra.Command, o selftest.Options, asJSON bool) error {
	pairs, err := selftest.Both(c.Context(), o, wallOptions())
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
		return &exitError{exitInterrupted, fmt.Errorf("interrupted; the table is of what was played")}
	}
	for _, p := range pairs {
		if len(p.Expected) == 0 && len(p.Virtual.Kinds)+len(p.Real.Kinds) > 0 || p.Showed && !(p.Virtual.Named && p.Real.Named) {
			return quiet(exitOutOfSync)
		}
	}
	return nil
}

func links(o selftest.Options) []string {
	if o.Links != nil {
		return o.Links
	}
	return selftest.Links
}

// selftestOfWorlds measures on made-up worlds.
func selftestOfWorlds(c *cobra.Command, o worlds.Options, asJSON bool) error {
	if o.Healthy == 0 {
		o.Healthy = o.Each
	}
	rows, err := worlds.Run(c.Context(), o)
	if c.Context().Err() != nil {
		return &exitError{exitInterrupted, fmt.Errorf("interrupted; nothing is told of a part of the worlds")}
	}
	if err != nil {
		return failed(err)
	}
	if asJSON {
		if err := printJSON(c, rows); err != nil {
			return err
		}
	} else {
		report.NewText(c.OutOrStdout()).Worlds(rows)
	}
	for _, r := range rows {
		if r.Alarms > 0 || r.Found < r.Showed {
			return quiet(exitOutOfSync)
		}
	}
	return nil
}
