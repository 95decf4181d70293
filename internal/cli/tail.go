package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/audit"
	"zitherwheel/ending"
	"zitherwheel/follow"
	"zitherwheel/plan"
	"zitherwheel/report"
	"zitherwheel/runfolder"
)

func tailCommand() *cobra.Command {
	var server, rulesPath string
	var clients []string
	var every time.Duration
	c := &cobra.Command{
		Use:   "tail [RUNFOLDER]",
		Short: "Follow a run in progress, or traces that are being written, and judge them live",
		Long: `Follows a run from another terminal, or the traces of a game that somebody plays by
hand, and tells of findings as they become certain. It ends with the run, says the run's
verdict and exits by it; or when it is interrupted.

Traces are plain files that may still grow, or not be there yet. Their clocks must be
one. The whole verdict of such traces is that of zwheel check afterwards.`,
		Example: `  zwheel tail runs/mine
  zwheel tail --server server.jsonl --client me=me.jsonl --client you=you.jsonl --rules rules.yaml`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			traces := follow.Traces{Ended: func() bool { return false }}
			var p *plan.Plan // of a run
			if len(args) == 1 {
				run, err := runfolder.Open(args[0])
				if err != nil {
					return &exit{exitUsage, err}
				}
				if run.About.How != ending.Running {
					return usage("%s has ended (%s); judge it with zwheel check %s", args[0], run.About.How, args[0])
				}
				if p, err = loadPlan(run.PlanPath()); err != nil {
					return err
				}
				found := audit.Run(run, p)
				traces.Sources, traces.Packets, traces.Rules, traces.Reference, traces.Entities = found.Sources, found.Packets, found.Rules, found.Reference, found.Entities
				traces.Ended = func() bool {
					now, err := runfolder.Open(args[0])
					return err != nil || now.About.How != ending.Running
				}
			} else {
				given, err := namedTraces(server, clients, rulesPath, false)
				if err != nil {
					return err
				}
				traces.Sources, traces.Rules = given.Sources, given.Rules
				if server == "" {
					traces.Reference = audit.Nobody
				}
			}
			out := c.OutOrStdout()
			traces.Alert = quietAfter(1000, func(text string) { fmt.Fprintln(out, text) })
			next := time.Now()
			traces.Now = func(s follow.State) {
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
			state, err := follow.Run(c.Context(), traces)
			if err != nil {
				return failed(err)
			}
			if state.Lines == 0 {
				return failed(fmt.Errorf("no trace line has come"))
			}
			fmt.Fprintf(out, "followed %s lines up to %.3f s: %d findings\n", report.Number(state.Lines), state.At.Seconds(), state.Findings)
			if p != nil && c.Context().Err() == nil {
				return tellEnd(c, args[0], p)
			}
			if state.Findings > 0 {
				return quiet(exitOutOfSync)
			}
			return nil
		},
	}
	c.Flags().StringVar(&server, "server", "", "trace of the server")
	c.Flags().StringArrayVar(&clients, "client", nil, "trace of a client, as NAME=FILE; repeat for more")
	c.Flags().StringVar(&rulesPath, "rules", "", "file with watch rules (default those of the run's plan, or of the demo game)")
	c.Flags().DurationVar(&every, "every", 2*time.Second, "time between lines about how far it is")
	return c
}

// tellEnd says how a run ended that was followed: more may have been found in the whole of
// it, and a match that did not go as it was to is no pass.
func tellEnd(c *cobra.Command, folder string, p *plan.Plan) error {
	run, err := runfolder.Open(folder)
	if err != nil {
		return failed(err)
	}
	said, err := audit.Recorded(c.Context(), run, p)
	if err != nil {
		return failed(err)
	}
	report.NewText(c.OutOrStdout()).Headline(said.Verdict)
	return quiet(codeOf(said.Verdict.Outcome))
}
