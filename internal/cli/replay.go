package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

func replayCommand() *cobra.Command {
	var out string
	var asJSON, trusts bool
	var at cluster.Address
	c := &cobra.Command{
		Use:   "replay RUNFOLDER",
		Short: "Play a recorded match again and say whether it went the same way",
		Long: `Plays the match of a run folder again and judges it. On the virtual clock it is the
same match, and every line is compared. On the wall clock bots do what was recorded and
the n-th packet of each direction gets the recorded outcome of the n-th; processes do
not keep exact time, so it reports how closely the match followed.

Exits as zwheel run does, and with 3 if a match on the virtual clock was not the same,
as when another version of the program recorded it.`,
		Example:           "  zwheel replay runs/four-dogs-lost-goodbye-seed31",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			recording, err := loadRecording(c, args[0])
			if err != nil {
				return err
			}
			if err := trusted(c, recording, trusts); err != nil {
				return err
			}
			if out == "" {
				if out, err = freePath(filepath.Clean(args[0]) + "-replayed"); err != nil {
					return failed(err)
				}
			}
			wall := wallOptions()
			end, err := machines(c, recording.Plan, at, &wall)
			if err != nil {
				return err
			}
			defer end()
			followed, r, err := recording.Again(c.Context(), &replay.Lab{Wall: wall}, out, wall)
			switch {
			case errors.Is(err, run.ErrExists):
				return usage("%s exists already and is left as it is; name another folder with --out", out)
			case c.Context().Err() != nil:
				return &exitError{exitInterrupted, errors.New("interrupted")}
			case err != nil:
				return failed(err)
			}
			if asJSON {
				if err := printJSON(c, followed); err != nil {
					return err
				}
			} else {
				text := report.NewText(c.OutOrStdout())
				text.Followed(followed)
				fmt.Fprintln(c.OutOrStdout())
				text.Headline(r.Verdict)
				text.Findings(r.Verdict)
				fmt.Fprintf(c.OutOrStdout(), "Run folder: %s\n", out)
			}
			if followed.Clock == plan.Virtual && !followed.Same {
				return failed(notTheSame(recording.Plan))
			}
			if r.Ending.How == ending.Stopped { // as it was recorded
				return quiet(codeOf(r.Verdict.Outcome))
			}
			return conclude(c, r)
		},
	}
	trustFlag(c, &trusts)
	machinesFlags(c, &at)
	c.Flags().StringVar(&out, "out", "", "folder to make for the run (default RUNFOLDER-replayed)")
	c.Flags().BoolVar(&asJSON, "json", false, "print how far it followed as JSON")
	return c
}

// notTheSame is the error of a match on the virtual clock that went another way.
func notTheSame(p *plan.Plan) error {
	if p.ByPrograms() {
		return errors.New("the match was not the same; docs/virtual-builds.md has the usual reasons why programs do not repeat")
	}
	return errors.New("the match was not the same; was it recorded by another version of this program?")
}

func whyCommand() *cobra.Command {
	var lab labOptions
	var asJSON bool
	c := &cobra.Command{
		Use:   "why RUNFOLDER [FINDING]",
		Short: "Prove which packets cause a finding, by playing its match again with them delivered",
		Long: `Plays the match of a run folder again with lost, late or damaged packets delivered, and
finds the smallest set of them that makes the difference: with them delivered the finding
is gone, and with only them lost, late or damaged it is there. If no packet matters it
says so, and varies delay, who plays, who joins late and what they do.

FINDING defaults to the head of the first incident. On the wall clock the recorded match is
played several times first, to know how often it shows the finding; a variant is then played
until it shows it, or until it has not in so many matches that at most one in twenty such
conclusions is wrong.

Exits with 0, or with 3 if the finding does not appear again when the match is played as
recorded.`,
		Example:           "  zwheel why runs/four-dogs-lost-goodbye-seed31 F1",
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: completeFindings,
		RunE: func(c *cobra.Command, args []string) error {
			recording, finding, err := loadFinding(c, args, &lab)
			if err != nil {
				return err
			}
			began := time.Now()
			ctx, err := lab.begin(c, recording.Plan)
			if err != nil {
				return err
			}
			w, err := recording.Why(ctx, &lab.Lab, finding)
			if err := lab.away.finish(c, err == nil); err != nil {
				return err
			}
			if err != nil {
				return replayError(c, err, w.Replays, w.SoFar)
			}
			if asJSON {
				return printJSON(c, w)
			}
			report.NewText(c.OutOrStdout()).Why(w)
			fmt.Fprintf(c.ErrOrStderr(), "%d matches played in %.1f s\n", w.Replays, time.Since(began).Seconds())
			return nil
		},
	}
	labFlags(c, &lab)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON instead of text")
	return c
}

// labOptions are what why and shrink are told of how to play matches again.
type labOptions struct {
	replay.Lab
	trusts bool
	away   elsewhere
}

func labFlags(c *cobra.Command, lab *labOptions) {
	trustFlag(c, &lab.trusts)
	lab.away.flags(c)
	c.Flags().IntVar(&lab.Each, "each", 12, "on the wall clock: matches of one variant at most; the rarer the finding shows, the more it takes")
	c.Flags().IntVar(&lab.Workers, "at-once", 0, "matches to play at once (default one per core, two on the wall clock)")
}

// begin says where variants are played: here, or by workers.
func (lab *labOptions) begin(c *cobra.Command, p *plan.Plan) (context.Context, error) {
	crew, ctx, err := lab.away.begin(c, played.Here{Workers: lab.Workers, Wall: lab.Wall}, p, false, time.Now())
	if here, is := crew.(played.Here); is {
		lab.Wall = here.Wall
	} else if err == nil {
		lab.Crew = crew
	}
	return ctx, err
}

func preparedLab(c *cobra.Command, lab *labOptions) error {
	if lab.Each < 1 {
		return usage("--each %d is not possible; give at least 1", lab.Each)
	}
	lab.Wall = wallOptions()
	lab.Tell = func(text string) { fmt.Fprintln(c.ErrOrStderr(), text) }
	return nil
}

func replayError(c *cobra.Command, err error, replays int, soFar string) error {
	switch {
	case c.Context().Err() != nil && soFar != "":
		return &exitError{exitInterrupted, fmt.Errorf("interrupted after %d matches; so far: %s", replays, soFar)}
	case c.Context().Err() != nil:
		return &exitError{exitInterrupted, fmt.Errorf("interrupted after %d matches; nothing was proved", replays)}
	case errors.Is(err, replay.ErrEnough):
		return failed(fmt.Errorf("%w; allow more with --max", err))
	case errors.Is(err, replay.ErrNotThere):
		return failed(fmt.Errorf("%w; zwheel replay says how closely it follows", err))
	}
	return failed(err)
}

// loadRecording reads a run folder with all that was recorded in it.
func loadRecording(c *cobra.Command, path string) (*replay.Recording, error) {
	run, _, err := openRun(path)
	if err != nil {
		return nil, err
	}
	recording, err := replay.Load(c.Context(), run)
	switch {
	case c.Context().Err() != nil:
		return nil, &exitError{exitInterrupted, errors.New("interrupted")}
	case err != nil:
		return nil, failed(err)
	}
	return recording, nil
}

// loadFinding reads a run folder and one of its findings: the one that is named, or the
// head of the first incident; and makes the lab ready in which it is looked into.
func loadFinding(c *cobra.Command, args []string, lab *labOptions) (*replay.Recording, *judge.Finding, error) {
	if err := preparedLab(c, lab); err != nil {
		return nil, nil, err
	}
	recording, err := loadRecording(c, args[0])
	if err != nil {
		return nil, nil, err
	}
	if err := trusted(c, recording, lab.trusts); err != nil {
		return nil, nil, err
	}
	v := recording.Verdict
	if len(v.Incidents) == 0 {
		return nil, nil, usage("nothing was found in %s, so there is nothing to ask about", args[0])
	}
	name := v.Incidents[0].Head
	if len(args) > 1 {
		name = args[1]
	}
	if i := slices.IndexFunc(v.Findings, func(f *judge.Finding) bool { return strings.EqualFold(f.ID, name) }); i >= 0 {
		return recording, v.Findings[i], nil
	}
	return nil, nil, usage("there is no finding %q in %s; zwheel show %s lists them", name, args[0], args[0])
}

func shrinkCommand() *cobra.Command {
	var lab labOptions
	var out string
	var most int
	var asJSON bool
	c := &cobra.Command{
		Use:   "shrink RUNFOLDER [FINDING]",
		Short: "Shrink a match to the smallest plan that still fails the same way",
		Long: `Plays the match of a run folder again with less of everything, as long as a finding with
the same signature appears: fewer bots, less time, fewer and simpler inputs, and links that
lose only the packets that matter. Writes the result as a plan to keep as a regression
test, with its timeline as a comment.

FINDING defaults to the head of the first incident. When it is interrupted, or has played
--max matches, the smallest plan so far is written. On the wall clock each step is played as
often as it takes to know (see zwheel why), and the smallest plan several times more: how
often it shows the finding is said.`,
		Example:           "  zwheel shrink runs/four-dogs-lost-goodbye-seed31 F1 --out goodbye.yaml",
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: completeFindings,
		RunE: func(c *cobra.Command, args []string) error {
			recording, finding, err := loadFinding(c, args, &lab)
			if err != nil {
				return err
			}
			if out == "" {
				if out, err = freePath(fmt.Sprintf("%s-%s-smallest.yaml", filepath.Clean(args[0]), strings.ToLower(finding.ID))); err != nil {
					return failed(err)
				}
			} else if _, err := os.Stat(out); err == nil {
				return usage("%s exists already and is left as it is; name another file with --out", out)
			}
			began := time.Now()
			ctx, err := lab.begin(c, recording.Plan)
			if err != nil {
				return err
			}
			s, err := recording.Shrink(ctx, &lab.Lab, finding, most)
			if err := lab.away.finish(c, err == nil); err != nil {
				return err
			}
			if err != nil {
				return replayError(c, err, lab.Replays(), "")
			}
			text, err := s.Text(args[0], filepath.Dir(out))
			if err == nil {
				err = atomicfile.Text(out, text)
			}
			if err != nil {
				return failed(err)
			}
			if asJSON {
				if err := printJSON(c, s.Summary(out)); err != nil {
					return err
				}
			} else {
				report.NewText(c.OutOrStdout()).Shrunk(s, string(text))
				fmt.Fprintf(c.OutOrStdout(), "Plan: %s; play it with zwheel run %s\n", out, out)
			}
			fmt.Fprintf(c.ErrOrStderr(), "%d matches played in %.1f s\n", s.Replays, time.Since(began).Seconds())
			if c.Context().Err() != nil {
				return &exitError{exitInterrupted, errors.New("interrupted; the plan is the smallest until then")}
			}
			return nil
		},
	}
	labFlags(c, &lab)
	c.Flags().StringVar(&out, "out", "", "file for the plan (default RUNFOLDER-FINDING-smallest.yaml)")
	c.Flags().IntVar(&most, "max", 300, "most matches to play")
	c.Flags().BoolVar(&asJSON, "json", false, "print what was reached as JSON")
	return c
}
