package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/verdict/logs"
	"zitherwheel/internal/verdict/rulebook"
)

func logsCommand() *cobra.Command {
	var q logs.Query
	var lines, asJSON bool
	c := &cobra.Command{
		Use:   "logs RUNFOLDER [PATTERN]",
		Short: "Count lines in the logs of all programs, and put them side by side",
		Long: `Counts in the logs of a run's programs the lines that fit a pattern (a regular expression, RE2).
If the pattern has a group, like "notice for (\w+)", lines are counted for each text that it finds, by
program: who got how many notices for whom. --value keeps to one of these texts and prints its lines from
all programs by time: the story of one notice. Without a pattern, the lines of each program are counted,
and those that tell of errors and warnings are put together.

The same patterns can be rules of a plan, under logs: see docs/plan.md.`,
		Example: `  zwheel logs runs/mine
  zwheel logs runs/mine 'notice for (\w+)'
  zwheel logs runs/mine 'notice for (\w+)' --value oak
  zwheel logs runs/mine 'refused|denied' --in clients --lines`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			r, _, err := openRun(args[0])
			if err != nil {
				return err
			}
			for _, damage := range r.About.Damage {
				fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s\n", damage)
			}
			if len(args) == 2 {
				if q.Pattern, err = regexp.Compile(args[1]); err != nil {
					return &exitError{exitUsage, fmt.Errorf("%q is no regular expression (RE2): %w", args[1], err)}
				}
			}
			if q.In != "" && q.In != rulebook.Clients && !slices.Contains(r.About.Views, q.In) {
				return &exitError{exitUsage, fmt.Errorf("--in: there is no program %q in this run; write clients, or one of %s", q.In, strings.Join(r.About.Views, ", "))}
			}
			found, err := feed.SearchLogs(r, q)
			if err != nil {
				return failed(err)
			}
			if asJSON {
				return printJSON(c, found)
			}
			text := report.NewText(c.OutOrStdout())
			text.Found(found, q.Pattern != nil || q.Value != "", lines || q.Value != "")
			if q.Pattern == nil && q.Value == "" {
				told, err := feed.Logs(r)
				text.Logs(told)
				if err != nil {
					return failed(err)
				}
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&q.In, "in", "", "only in the log of: server, clients, or a bot's name")
	f.DurationVar(&q.From, "from", 0, "only lines from this time of the match on")
	f.DurationVar(&q.To, "to", 0, "only lines up to this time of the match (0: to the end)")
	f.StringVar(&q.Value, "value", "", "only lines in which the pattern's group finds this, by time")
	f.BoolVar(&lines, "lines", false, "print the lines, those of all programs by time")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
