package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/output/chart"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/review/view"
)

func reportCommand() *cobra.Command {
	var out, png, svg, junit, markdown string
	c := &cobra.Command{
		Use:   "report RUNFOLDER",
		Short: "Write a run as one HTML file, as charts, JUnit or Markdown",
		Long: `Writes a run as one self-contained HTML file: the verdict, every incident with the
curves of both sides and what its link did, a timeline, events, measures, what was
compared, the plan, and the world played back from above.`,
		Example: `  zwheel report runs/mine
  zwheel report runs/mine --out mine.html --png figures --junit junit.xml --markdown summary.md`,
		ValidArgsFunction: completeRuns,
		Args:              cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := view.Read(c.Context(), args[0])
			switch {
			case c.Context().Err() != nil:
				return &exitError{exitInterrupted, errors.New("interrupted; nothing was written")}
			case err != nil:
				return &exitError{exitUsage, err}
			}
			if out == "" {
				out = filepath.Join(args[0], "report.html")
			}
			if err := atomicfile.Write(out, func(w io.Writer) error { return page.Write(w, r) }); err != nil {
				return failed(err)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s\n", out, report.Summary(r.Verdict))
			for _, set := range []struct {
				folder, ending string
				write          func(chart.Figure, io.Writer) error
			}{{png, ".png", chart.Figure.PNG}, {svg, ".svg", func(f chart.Figure, w io.Writer) error { _, err := w.Write(f.SVG()); return err }}} {
				if set.folder == "" {
					continue
				}
				if err := os.MkdirAll(set.folder, 0o755); err != nil {
					return failed(err)
				}
				figures := chart.All(r)
				for _, f := range figures {
					path := filepath.Join(set.folder, unsafeInNames.ReplaceAllString(f.Name, "-")+set.ending)
					if err := atomicfile.Write(path, func(w io.Writer) error { return set.write(f, w) }); err != nil {
						return failed(err)
					}
				}
				fmt.Fprintf(c.OutOrStdout(), "%s: %d figures\n", set.folder, len(figures))
			}
			if junit != "" {
				err := atomicfile.Write(junit, func(w io.Writer) error {
					return report.JUnit(w, r.Run.About.Title, r.Verdict, r.Plan.Rules.Limits)
				})
				if err != nil {
					return failed(err)
				}
				fmt.Fprintln(c.OutOrStdout(), junit)
			}
			if markdown != "" {
				err := atomicfile.Write(markdown, func(w io.Writer) error {
					report.Markdown(w, r.Run.About.Title, r.Run.About.Seed, r.Verdict, args[0])
					return nil
				})
				if err != nil {
					return failed(err)
				}
				fmt.Fprintln(c.OutOrStdout(), markdown)
			}
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "", "the HTML file (default report.html in the run folder)")
	c.Flags().StringVar(&png, "png", "", "folder for the figures as PNG")
	c.Flags().StringVar(&svg, "svg", "", "folder for the figures as SVG")
	c.Flags().StringVar(&junit, "junit", "", "file for JUnit's XML: a test case for each watch rule, event and limit")
	c.Flags().StringVar(&markdown, "markdown", "", "file for a short summary in Markdown")
	return c
}

var unsafeInNames = regexp.MustCompile(`[^A-Za-z0-9-]+`)
