package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/cluster"
	"zitherwheel/internal/match"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func preflightCommand() *cobra.Command {
	var asJSON bool
	var at cluster.Address
	c := &cobra.Command{
		Use:   "preflight PLAN",
		Short: "Check step by step that a build starts, connects and can be tested",
		Long: `Starts the server and up to two clients of a plan's build, each over its link,
and checks what must work before a match means anything: programs are found, start
and stay up, the port is open, packets go both ways, the client joins and the server
says so, trace lines are well formed, the watch rules match something, inputs arrive
and move only the player's own entity, a second client sees the first, and a client
that leaves despawns everywhere. With --on it tries a client on each other machine that the
plan names, too. It stops at the first failure, with the last log
lines of that program and what to try.

Exits with 0 if every step passed, 3 if one failed.`,
		Example:           "  zwheel preflight examples/healthy.yaml",
		ValidArgsFunction: completePlans,
		Args:              cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlan(args[0])
			if err != nil {
				return err
			}
			if !p.Build.Given() {
				p.Clock = plan.Wall
			}
			options := wallOptions()
			end, err := machines(c, p, at, &options)
			if err != nil {
				return err
			}
			defer end()
			text := report.NewText(c.OutOrStdout())
			steps := []match.Step{}
			ok, err := match.Preflight(c.Context(), p, options, func(s match.Step) {
				if steps = append(steps, s); !asJSON {
					text.Step(s)
				}
			})
			if asJSON {
				if err := printJSON(c, steps); err != nil {
					return err
				}
			}
			switch {
			case c.Context().Err() != nil:
				return &exitError{exitInterrupted, fmt.Errorf("interrupted")}
			case err != nil:
				return failed(err)
			case !ok:
				return quiet(exitFailed)
			}
			if !asJSON {
				fmt.Fprintf(c.OutOrStdout(), "All %d steps passed. Next: zwheel run %s%s\n", len(steps), args[0], flagsOf(p, at))
			}
			return nil
		},
	}
	machinesFlags(c, &at)
	c.Flags().BoolVar(&asJSON, "json", false, "print the steps as JSON")
	return c
}

// flagsOf is what must be added to have a plan played as it was tried.
func flagsOf(p *plan.Plan, at cluster.Address) string {
	switch {
	case p.Afar():
		return " --on " + at.URL
	case p.Build.Given():
		return ""
	}
	return " --clock wall"
}

const guardName = "guard"

// standInCommand is the process that stands in for one that somebody plays by hand.
func standInCommand() *cobra.Command {
	return &cobra.Command{
		Use:    match.StandInName + " [FILE]",
		Short:  "Stand in for a client that is played by hand (started by itself)",
		Hidden: true,
		Args:   cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return match.StandIn(c.Context(), strings.Join(args, ""), c.OutOrStdout())
		},
	}
}

// guardCommand is the process that ends what a run leaves behind when it is killed.
func guardCommand() *cobra.Command {
	return &cobra.Command{
		Use:    guardName + " MARK",
		Short:  "End the processes of a run when this program is killed (started by itself)",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		Run: func(c *cobra.Command, args []string) {
			process.RunGuard(io.Reader(c.InOrStdin()), strings.TrimSpace(args[0]))
		},
	}
}
