package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/selftest"
	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/game"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/verdict/judge"
)

func faultsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "faults [NAME...]",
		Short: "List the faults that can be injected into the demo game",
		Long: `Lists the faults that Hillfold, the demo game, can be told to have, the kind of finding
each should be reported as, and when it shows; with names, what the code does wrong.
A plan injects one with game: {faults: [NAME]}.`,
		Example: "  zwheel faults\n  zwheel faults told-twice",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return faultNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			if err := game.CheckFaults(hillfold.Game{}, args); err != nil {
				return usage("%w", err)
			}
			list := hillfold.Game{}.Faults()
			if len(args) > 0 {
				list = slices.DeleteFunc(slices.Clone(list), func(f game.Fault) bool { return !slices.Contains(args, f.Name) })
			}
			switch {
			case asJSON:
				return printFaults(c, list)
			case len(args) > 0:
				for _, f := range list {
					fmt.Fprintf(c.OutOrStdout(), "%s\n  Fault:         %s.\n  Shows:         %s.\n  Reported as:   %s\n", f.Name, f.What, f.Shows, named(selftest.Expected(f.Name)))
				}
				return nil
			}
			rows := [][]string{{"fault", "reported as", "shows"}}
			for _, f := range list {
				rows = append(rows, []string{f.Name, named(selftest.Expected(f.Name)), f.Shows})
			}
			report.NewText(c.OutOrStdout()).Table(rows)
			fmt.Fprintln(c.OutOrStdout(), "\nInject one in a plan with  game: {faults: [lost-goodbye]}\nWhat the code does wrong: zwheel faults lost-goodbye")
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func faultNames() (names []string) {
	for _, f := range (hillfold.Game{}).Faults() {
		names = append(names, f.Name)
	}
	return names
}

func printFaults(c *cobra.Command, faults []game.Fault) error {
	type row struct {
		Name  string       `json:"name"`
		What  string       `json:"what"`
		Shows string       `json:"shows"`
		Kinds []judge.Kind `json:"kinds"`
	}
	list := []row{}
	for _, f := range faults {
		list = append(list, row{f.Name, f.What, f.Shows, append([]judge.Kind{}, selftest.Expected(f.Name)...)})
	}
	return printJSON(c, list)
}

func named(kinds []judge.Kind) string {
	if len(kinds) == 0 {
		return "nothing: it is a control"
	}
	var names []string
	for _, k := range kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, " or ")
}
