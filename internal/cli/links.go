package cli

import (
	"bytes"
	"encoding/json"

	"github.com/spf13/cobra"

	"zitherwheel/plan"
	"zitherwheel/report"
)

func linksCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "links",
		Short: "List the ready links, with their figures and the spread of their delays",
		Long: `Lists the links that every plan can name, the same in both directions, with their
figures and how the delays of 20 000 packets are spread: each bar is the share of
packets, from the least delay to the most.`,
		Example: "  zwheel links",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if asJSON {
				text, err := plan.ReadyLinksJSON()
				if err != nil {
					return failed(err)
				}
				var indented bytes.Buffer
				if err := json.Indent(&indented, text, "", "  "); err != nil {
					return failed(err)
				}
				_, err = indented.WriteTo(c.OutOrStdout())
				return err
			}
			report.NewText(c.OutOrStdout()).Links(plan.ReadyLinks)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
