package cli

import (
	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/review/view"
)

func costCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "cost RUNFOLDER",
		Short: "Tell what each field of the state costs on the wire, and what would do",
		Long: `Reckons from what the server of a recorded run told how often each field of each sort of
entity changes, over which range, in which steps, and how many bits its values need: as they are told
now, and at the tolerance of the plan's rules. Beside it stand the traffic that was measured, what other
send rates would cost, and what would do with less, the greatest gain first. Numbers that are about to
outgrow 8 or 16 bits are noted.

It knows nothing of how the game packs its messages: ids and headers come on top.`,
		Example: "  zwheel cost runs/mine\n  zwheel cost runs/mine --json",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := view.Cost(c.Context(), args[0])
			if err != nil {
				return &exitError{exitUsage, err}
			}
			if asJSON {
				return printJSON(c, r)
			}
			report.NewText(c.OutOrStdout()).Cost(r)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
