package cli

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func huntCommand() *cobra.Command {
	var o hunt.Options
	var here played.Here
	var away elsewhere
	var seed uint64
	var clock string
	var asJSON bool
	c := &cobra.Command{
		Use:   "hunt PLAN",
		Short: "Play a match with many seeds and group its failures",
		Long: `Plays the match of a plan again and again, each time with the next seed, on all cores,
and groups failures by signature: the rate with its 95% CI, the seeds, who is affected,
and under which conditions more often. The earliest example of each is played again and
recorded.

A journal has a line for each match, so that a hunt can be resumed however it ended.
Give at least one limit: --times, --for or --until-found.

Exits with 0 if no match failed, 1 if one did, 3 if no match could be played.`,
		Example: `  zwheel hunt examples/lost-goodbye.yaml --times 200
  zwheel hunt examples/lost-goodbye.yaml --until-found 3 --for 10m
  zwheel hunt examples/lost-goodbye.yaml --times 400 --out hunts/goodbye --resume`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completePlans,
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlanOn(args[0], clock)
			if err != nil {
				return err
			}
			if o.Times <= 0 && o.For <= 0 && o.UntilFound <= 0 {
				return usage("a hunt needs a limit: --times N, --for 10m or --until-found N")
			}
			if o.First = p.Seed; c.Flags().Changed("seed") {
				o.First = seed
			}
			if o.Folder == "" {
				if o.Folder, err = freeFolder("hunts", p); err != nil {
					return err
				}
			}
			here.Wall = wallOptions()
			crew, ctx, err := away.begin(c, here, p, o.Resume, o.First)
			if err != nil {
				return err
			}
			o.Plan, o.Crew = p, crew
			o.Progress = huntProgress(c)
			r, err := hunt.Run(ctx, o)
			if err := away.finish(c, err == nil && !r.Stopped); err != nil {
				return err
			}
			switch {
			case errors.Is(err, hunt.ErrJournal):
				return usage("%s has a hunt in it already; resume it with --resume, or name another folder with --out", o.Folder)
			case errors.Is(err, hunt.ErrOther):
				return usage("the hunt in %s is of another plan or another first seed, or another version of this program began it; name another folder with --out", o.Folder)
			case errors.Is(err, hunt.ErrBuild):
				return &exitError{exitUsage, err}
			case err != nil:
				return failed(err)
			}
			if err := huntPage(o.Folder, r); err != nil {
				return failed(err)
			}
			if asJSON {
				if err := printJSON(c, r); err != nil {
					return err
				}
			} else {
				report.NewText(c.OutOrStdout()).Hunt(r)
				fmt.Fprintf(c.OutOrStdout(), "Hunt: %s\n", filepath.Join(o.Folder, "hunt.html"))
			}
			switch {
			case r.Stopped:
				return &exitError{exitInterrupted, fmt.Errorf("interrupted after %d matches; resume with: %s", r.Matches, resumed(c, args[0], o.Folder)+away.resumeWith())}
			case len(r.Signatures) > 0:
				return quiet(exitOutOfSync)
			case r.InSync == 0:
				return failed(errors.New("no match could be played, or nothing was compared in any"))
			}
			return nil
		},
	}
	away.flags(c)
	f := c.Flags()
	f.IntVar(&o.Times, "times", 0, "stop after this many matches")
	f.DurationVar(&o.For, "for", 0, "stop after this time")
	f.IntVar(&o.UntilFound, "until-found", 0, "stop after this many failing matches")
	f.Uint64Var(&seed, "seed", 0, "seed of the first match (default the plan's)")
	f.StringVar(&o.Folder, "out", "", "folder of the hunt (default hunts/TITLE-SEED)")
	f.BoolVar(&o.Resume, "resume", false, "resume the hunt in the folder")
	f.IntVar(&here.Workers, "at-once", 0, "matches to play at once (default one per core, two on the wall clock)")
	f.StringVar(&clock, "clock", "", "clock to play on: virtual or wall (default the plan's)")
	f.BoolVar(&asJSON, "json", false, "print hunt.json")
	complete(c, "clock", []string{plan.Virtual, plan.Wall})
	return c
}

// resumed is the command that goes on with a hunt: as it was called, but for its folder.
func resumed(c *cobra.Command, plan, folder string) string {
	words := []string{"zwheel", "hunt", plan}
	c.Flags().Visit(func(f *pflag.Flag) {
		if f.Name != "out" && f.Name != "resume" && f.Name != "campaign" {
			words = append(words, "--"+f.Name+"="+f.Value.String())
		}
	})
	words = append(words, "--out", folder, "--resume")
	for i, word := range words {
		if strings.ContainsAny(word, " \t'\"\\$&;|<>()*?") {
			words[i] = "'" + strings.ReplaceAll(word, "'", `'\\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

// huntPage leaves the page of a hunt in its folder.
func huntPage(folder string, r *hunt.Result) error {
	var text bytes.Buffer
	if err := page.Hunt(&text, r); err != nil {
		return err
	}
	return atomicfile.Text(filepath.Join(folder, "hunt.html"), text.Bytes())
}

// huntProgress says a few times a minute how far a hunt is.
func huntProgress(c *cobra.Command) func(hunt.Progress) {
	messages := c.ErrOrStderr()
	every, end := 5*time.Second, "\n"
	if terminal(messages) != nil {
		every, end = 200*time.Millisecond, "    \r"
	}
	last := time.Now()
	return func(p hunt.Progress) {
		now := time.Now()
		if now.Sub(last) < every && (p.Of == 0 || p.Matches < p.Of) {
			return
		}
		last = now
		text := fmt.Sprintf("%s matches, something found in %d", report.Number(p.Matches), p.Found)
		if p.Of > 0 {
			text = fmt.Sprintf("%s of %s matches, something found in %d", report.Number(p.Matches), report.Number(p.Of), p.Found)
			if left := float64(p.Of-p.Matches) / float64(max(1, p.Now)) * p.Took.Seconds(); left >= 1 {
				text += fmt.Sprintf(", about %.0f s left", left)
			}
		}
		if seconds := p.Took.Seconds(); seconds >= 1 && p.Now > 0 {
			text += fmt.Sprintf(", %.2g a second", float64(p.Now)/seconds)
		}
		if p.Failed > 0 {
			text += fmt.Sprintf(", %d could not be played", p.Failed)
		}
		fmt.Fprint(messages, text, end)
	}
}
