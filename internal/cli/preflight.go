package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/build"
	"zitherwheel/plan"
	"zitherwheel/report"
	"zitherwheel/stage"
)

func preflightCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "preflight PLAN",
		Short: "Bring a build up step by step, and stop at the first thing that is wrong",
		Long: `Starts the server and up to two clients of a plan's build, each over its link,
and goes through what must be right before a match means anything: the programs
are found, start and stay up, the port is open, packets go both ways, the client
is in and the server says so, trace lines are well formed, the watch rules find
something, inputs arrive and move only the player's own, a second client sees the
first, and who leaves is gone everywhere. It stops at the first step that fails,
with the last log lines of the program concerned and what to try.

Exits with 0 if all is well, and with 3 if a step failed.`,
		Example:           "  zwheel preflight examples/healthy.yaml",
		ValidArgsFunction: completePlans,
		Args:              cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlan(args[0])
			if err != nil {
				return err
			}
			p.Clock = plan.Wall
			w, text := c.OutOrStdout(), report.NewText(c.OutOrStdout())
			steps := []stage.Step{}
			ok, err := stage.Preflight(c.Context(), p, wallOptions(), func(s stage.Step) {
				if steps = append(steps, s); !asJSON {
					text.Step(s)
				}
			})
			if asJSON {
				encoder := json.NewEncoder(w)
				encoder.SetEscapeHTML(false)
				encoder.SetIndent("", "  ")
				if err := encoder.Encode(steps); err != nil {
					return failed(err)
				}
			}
			switch {
			case c.Context().Err() != nil:
				return &exit{exitInterrupted, fmt.Errorf("interrupted")}
			case err != nil:
				return failed(err)
			case !ok:
				return quiet(exitFailed)
			}
			if !asJSON {
				fmt.Fprintf(w, "All %d steps went well. Next: zwheel run %s%s\n", len(steps), args[0], clockFlag(p))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print the steps as JSON")
	return c
}

// clockFlag is what must be added to play a plan of the demo game as processes.
func clockFlag(p *plan.Plan) string {
	if p.Build.Given() {
		return ""
	}
	return " --clock wall"
}

const guardName = "guard"

// guardCommand is the process that ends what a run leaves behind when it is killed.
func guardCommand() *cobra.Command {
	return &cobra.Command{
		Use:    guardName + " MARK",
		Short:  "End the processes of a run when this program is killed (started by itself)",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		Run: func(c *cobra.Command, args []string) {
			build.RunGuard(io.Reader(c.InOrStdin()), strings.TrimSpace(args[0]))
		},
	}
}
