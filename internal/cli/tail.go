package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/live"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/rulebook"
)

func tailCommand() *cobra.Command {
	var server, rulesPath, out string
	var clients []string
	var every time.Duration
	c := &cobra.Command{
		Use:   "tail [RUNFOLDER]",
		Short: "Follow a run in progress, or traces that are being written, and judge them live",
		Long: `Follows a run from another terminal, or the traces of a game that you play by hand,
and reports findings as they become certain. It ends when the run ends, with the run's
verdict and exit code, or when it is interrupted.

Traces are plain files that may still grow, or not exist yet, and must share one clock.
For the full verdict of such traces use zwheel check afterwards, or --out here: when you
interrupt it, a run folder is made of them that show, logs and report can read.`,
		Example: `  zwheel tail runs/mine
  zwheel tail --server server.jsonl --client me=me.jsonl --client you=you.jsonl --rules rules.yaml`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			traces := live.Traces{Ended: func() bool { return false }}
			var p *plan.Plan // of a run
			var given feed.Traces
			if len(args) == 1 && out != "" {
				return usage("--out makes a run folder of traces; %s is one already", args[0])
			}
			if len(args) == 1 {
				var err error
				if traces, p, err = followed(args[0]); err != nil {
					return err
				}
			} else {
				var err error
				if given, err = namedTraces(server, clients, rulesPath, false); err != nil {
					return err
				}
				if out != "" {
					if _, err := os.Stat(out); err == nil {
						return usage("--out %s: it exists already and is left as it is", out)
					}
				}
				traces.Sources, traces.Rules = given.Sources, given.Rules
				if server == "" {
					traces.Reference = rulebook.NoReference
				}
			}
			to := c.OutOrStdout()
			traces.Alert = quietAfter(1000, func(text string) { fmt.Fprintln(to, text) })
			next := time.Now()
			traces.Now = func(s live.State) {
				if now := time.Now(); now.After(next) {
					next = now.Add(every)
					in := 0
					for _, v := range s.Views {
						if v.In {
							in++
						}
					}
					fmt.Fprintf(c.ErrOrStderr(), "%8.3f s  %s lines, %d in, %d findings\n", s.At.Seconds(), report.Number(s.Lines), in, s.Findings)
				}
			}
			state, err := live.Run(c.Context(), traces)
			if err != nil {
				return failed(err)
			}
			if state.Lines == 0 {
				return failed(fmt.Errorf("no trace line has come"))
			}
			fmt.Fprintf(to, "followed %s lines up to %.3f s: %d findings\n", report.Number(state.Lines), state.At.Seconds(), state.Findings)
			if p != nil && c.Context().Err() == nil {
				return tellEnd(c, args[0], p)
			}
			if out != "" {
				return keepTraces(c, given, traces.Reference, out)
			}
			if state.Findings > 0 {
				return quiet(exitOutOfSync)
			}
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "", "when you interrupt it, judge the traces as a whole and make a run folder of them")
	c.Flags().StringVar(&server, "server", "", "trace of the server")
	c.Flags().StringArrayVar(&clients, "client", nil, "trace of a client, as NAME=FILE; repeat for more")
	c.Flags().StringVar(&rulesPath, "rules", "", "file with watch rules, or the demo game's name, hillfold (default those of the run's plan)")
	c.Flags().DurationVar(&every, "every", 2*time.Second, "time between lines about how far it is")
	return c
}

// followed are the traces of a run in progress, and its plan.
func followed(path string) (traces live.Traces, p *plan.Plan, err error) {
	folder, p, err := openRun(path)
	if err != nil {
		return traces, nil, err
	}
	if folder.About.How != ending.Running {
		return traces, nil, usage("%s has ended (%s); judge it with zwheel check %s, look into it with zwheel show %s", path, folder.About.How, path, path)
	}
	found := feed.Run(folder, p)
	return live.Traces{Sources: found.Sources, Packets: found.Packets, Rules: found.Rules, Reference: found.Reference, Entities: found.Entities, Ticks: p.Align == feed.Tick,
		Ended: func() bool {
			now, err := run.Open(path)
			return err != nil || now.About.How != ending.Running
		}}, p, nil
}

// keepTraces judges traces that were followed to their end, now that there is one, and makes a run
// folder of them.
func keepTraces(c *cobra.Command, traces feed.Traces, reference, out string) error {
	traces.Reference = cmp.Or(traces.Reference, reference)
	result, err := feed.Judge(context.WithoutCancel(c.Context()), traces) // that it was interrupted is the end that it waited for
	if err != nil {
		return failed(err)
	}
	if err := feed.Keep(out, traces, result, sign); err != nil {
		return &exitError{exitUsage, err}
	}
	report.NewText(c.OutOrStdout()).Headline(result.Verdict)
	fmt.Fprintf(c.OutOrStdout(), "Run folder: %s\n", out)
	return quiet(codeOf(result.Verdict.Outcome))
}

// tellEnd says how a run ended that was followed: more may have been found in the whole of
// it, and a match that did not go as it was to is no pass.
func tellEnd(c *cobra.Command, path string, p *plan.Plan) error {
	folder, err := run.Open(path)
	if err != nil {
		return failed(err)
	}
	said, err := feed.Recorded(c.Context(), folder, p)
	if err != nil {
		return failed(err)
	}
	report.NewText(c.OutOrStdout()).Headline(said.Verdict)
	return quiet(codeOf(said.Verdict.Outcome))
}
