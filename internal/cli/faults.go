package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/hillfold"
	"zitherwheel/report"
)

func faultsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "faults [NAME...]",
		Short: "List the mistakes that can be planted in the demo game",
		Long: `Lists the mistakes that Hillfold, the demo game, can be told to make, as which kind
of finding each should be reported, and when it shows itself; with names, what
the code does wrong. A plan plants one with game: {faults: [NAME]}.`,
		Example: "  zwheel faults\n  zwheel faults told-twice",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return faultNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := hillfold.ParseFaults(args); err != nil {
				return usage("%w", err)
			}
			list := hillfold.AllFaults
			if len(args) > 0 {
				list = slices.DeleteFunc(slices.Clone(list), func(f hillfold.FaultInfo) bool { return !slices.Contains(args, f.Name) })
			}
			switch {
			case asJSON:
				return printFaults(c, list)
			case len(args) > 0:
				for _, f := range list {
					fmt.Fprintf(c.OutOrStdout(), "%s\n  The mistake:     %s.\n  Shows itself:    %s.\n  To be named:     %s\n", f.Name, f.What, f.Shows, named(f.Kinds))
				}
				return nil
			}
			rows := [][]string{{"mistake", "to be named", "shows itself"}}
			for _, f := range list {
				rows = append(rows, []string{f.Name, named(f.Kinds), f.Shows})
			}
			report.NewText(c.OutOrStdout()).Table(rows)
			fmt.Fprintln(c.OutOrStdout(), "\nPlant one in a plan with  game: {faults: [lost-goodbye]}\nWhat the code does wrong: zwheel faults lost-goodbye")
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func faultNames() (names []string) {
	for _, f := range hillfold.AllFaults {
		names = append(names, f.Name)
	}
	return names
}

func printFaults(c *cobra.Command, faults []hillfold.FaultInfo) error {
	type row struct {
		Name  string   `json:"name"`
		What  string   `json:"what"`
		Shows string   `json:"shows"`
		Kinds []string `json:"kinds"`
	}
	list := []row{}
	for _, f := range faults {
		list = append(list, row{f.Name, f.What, f.Shows, append([]string{}, f.Kinds...)})
	}
	e := json.NewEncoder(c.OutOrStdout())
	e.SetIndent("", "  ")
	return e.Encode(list)
}

func named(kinds []string) string {
	if len(kinds) == 0 {
		return "nothing: it is no mistake"
	}
	return strings.Join(kinds, " or ")
}
