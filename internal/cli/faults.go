package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/hillfold"
)

func faultsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:     "faults",
		Short:   "List the mistakes that can be planted in the demo game",
		Long:    "Lists the mistakes that Hillfold, the demo game, can be told to make: what each does\nwrong, when it shows itself, and as which kind of finding it should be reported.\nA plan plants one with game: {faults: [NAME]}.",
		Example: "  zwheel faults",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if asJSON {
				type row struct {
					Name  string   `json:"name"`
					What  string   `json:"what"`
					Shows string   `json:"shows"`
					Kinds []string `json:"kinds"`
				}
				var list []row
				for _, f := range hillfold.AllFaults {
					list = append(list, row{f.Name, f.What, f.Shows, append([]string{}, f.Kinds...)})
				}
				e := json.NewEncoder(c.OutOrStdout())
				e.SetIndent("", "  ")
				return e.Encode(list)
			}
			for _, f := range hillfold.AllFaults {
				fmt.Fprintf(c.OutOrStdout(), "%s\n  The mistake:     %s.\n  Shows itself:    %s.\n  To be named:     %s\n\n", f.Name, f.What, f.Shows, named(f.Kinds))
			}
			fmt.Fprintln(c.OutOrStdout(), "Plant one in a plan with  game: {faults: [lost-goodbye]}")
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func named(kinds []string) string {
	if len(kinds) == 0 {
		return "nothing: it must not be reported"
	}
	return strings.Join(kinds, " or ")
}
