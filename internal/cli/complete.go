package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
)

// What the shell completes: plans, run folders, findings, and words of flags.

// complete offers words for a flag.
func complete(c *cobra.Command, flag string, words []string) {
	_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)) // only without such a flag
}

func completePlans(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
}

// completeRuns offers the run folders below the folders that are named so far, or in
// runs.
func completeRuns(_ *cobra.Command, args []string, begun string) (list []string, _ cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, pattern := range []string{begun + "*", filepath.Join(begun, "*"), filepath.Join("runs", "*")} {
		paths, _ := filepath.Glob(pattern) // a pattern that is none finds nothing
		for _, path := range paths {
			if _, err := os.Stat(filepath.Join(path, "about.json")); err == nil && strings.HasPrefix(path, begun) && !slices.Contains(list, path) {
				list = append(list, path)
			}
		}
	}
	if list == nil {
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}

// completeFindings offers run folders, and then the findings of the one that was
// named.
func completeFindings(c *cobra.Command, args []string, begun string) (list []string, _ cobra.ShellCompDirective) {
	if len(args) == 0 {
		return completeRuns(c, args, begun)
	}
	run, err := run.Open(args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	p, err := plan.Load(run.PlanPath())
	if err != nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	said, err := feed.Recorded(c.Context(), run, p)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, f := range said.Verdict.Findings {
		list = append(list, f.ID+"\t"+string(f.Kind)+" "+f.View+" "+f.Entity)
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}

// manCommand writes manual pages from the same help that --help prints.
func manCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "man FOLDER",
		Short:   "Write manual pages for all commands into a folder",
		Example: "  zwheel man man1 && man man1/zwheel-run.1",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return failed(err)
			}
			c.Root().DisableAutoGenTag = true
			if err := doc.GenManTree(c.Root(), &doc.GenManHeader{Title: "ZWHEEL", Section: "1", Source: "zwheel", Manual: "Zither Wheel"}, args[0]); err != nil {
				return failed(err)
			}
			return nil
		},
	}
}
