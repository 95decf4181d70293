package cli

import (
	"github.com/spf13/cobra"

	"zitherwheel/internal/match"
	"zitherwheel/internal/output/report"
)

func machineCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "machine",
		Short: "Say what this machine allows, like the virtual clock for builds",
		Long: `Tries what this machine allows: whether builds can be played on the virtual clock, in
a network of their own; and lists the runtimes that the examples need.

Exits with 0 whatever it finds.`,
		Example: "  zwheel machine",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			list := match.Machine(c.Context())
			if asJSON {
				return printJSON(c, list)
			}
			report.NewText(c.OutOrStdout()).Machine(list)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print it as JSON")
	return c
}
