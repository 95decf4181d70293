package cli

import (
	"bytes"
	"encoding/json"

	"github.com/spf13/cobra"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/random"
)

func linksCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "links",
		Short: "List the ready links with their values and delay distributions",
		Long: `Lists the links that every plan can name, the same in both directions, with their
figures and how the delays of 20,000 packets are spread: each bar is the share of
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
			var tried []report.Tried
			for _, l := range link.Ready {
				tried = append(tried, report.Tried{Pair: l, Sample: l.Down.Try(20_000, random.Stream(1, "link/"+l.Name))})
			}
			report.NewText(c.OutOrStdout()).Links(tried)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
