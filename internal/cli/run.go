package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/judge"
	"zitherwheel/plan"
	"zitherwheel/report"
	"zitherwheel/runfolder"
	"zitherwheel/stage"
)

func runCommand() *cobra.Command {
	var seed uint64
	var out string
	var asJSON bool
	c := &cobra.Command{
		Use:   "run PLAN",
		Short: "Play one match and judge it",
		Long: `Plays the match of a plan, judges it as it goes, prints the verdict with its
evidence and leaves a run folder behind. The same plan and seed give the same
bytes.`,
		Example: "  zwheel run examples/lost-goodbye.yaml --seed 3 --out runs/mine",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlan(args[0])
			if err != nil {
				return err
			}
			if c.Flags().Changed("seed") {
				p.Seed = seed
			}
			if out == "" {
				out = freeFolder("runs", p)
			}
			r, err := play(c, p, out)
			if err != nil {
				return err
			}
			if asJSON {
				c.OutOrStdout().Write(r.Findings)
			} else {
				fmt.Fprintf(c.OutOrStdout(), "%s: seed %d, %s, %s\n\n", p.Title, p.Seed, report.Span(p.Length), bots(p))
				text := report.NewText(c.OutOrStdout())
				text.Verdict(r.Verdict)
				text.Measures(r.Measures)
				fmt.Fprintf(c.OutOrStdout(), "Run folder: %s\n", out)
			}
			return conclude(c, r)
		},
	}
	c.Flags().Uint64Var(&seed, "seed", 0, "play with this seed instead of the plan's")
	c.Flags().StringVar(&out, "out", "", "folder to make for the run (default runs/TITLE-SEED)")
	c.Flags().BoolVar(&asJSON, "json", false, "print findings.json instead of text")
	return c
}

// loadPlan reads a plan; whatever is wrong with it is the caller's to mend.
func loadPlan(path string) (*plan.Plan, error) {
	p, err := plan.Load(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage("%s: there is no such plan", path)
	}
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	return p, nil
}

// play runs a match and says on standard error how it went.
func play(c *cobra.Command, p *plan.Plan, folder string) (*stage.Result, error) {
	began := time.Now()
	r, err := stage.Run(c.Context(), p, stage.Options{Folder: folder})
	if errors.Is(err, runfolder.ErrExists) {
		return nil, usage("%s exists already and is left as it is; name another folder with --out", folder)
	}
	if err != nil {
		return nil, failed(err)
	}
	took := time.Since(began)
	fmt.Fprintf(c.ErrOrStderr(), "played %.1f s in %.2f s, %.0f times as fast as real time\n", r.Played.Seconds(), took.Seconds(), r.Played.Seconds()/took.Seconds())
	return r, nil
}

// conclude turns a result into the exit code.
func conclude(c *cobra.Command, r *stage.Result) error {
	if r.Ended == runfolder.Interrupted {
		return &exit{exitInterrupted, fmt.Errorf("interrupted after %.3f s of the match; the verdict is of what was played, and the run folder is complete up to there", r.Played.Seconds())}
	}
	for _, name := range r.Refused {
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s was refused by the full server, as a plan with places may want it\n", name)
	}
	for _, name := range r.NeverIn {
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s never got into the match\n", name)
	}
	code := codeOf(r.Verdict.Outcome)
	if code == exitInSync && len(r.NeverIn) > 0 {
		code = exitFailed
	}
	if r.Verdict.Outcome == judge.NothingCompared {
		return failed(errors.New("nothing was compared; check that the bots join and that the watch rules fit the game"))
	}
	return quiet(code)
}

func bots(p *plan.Plan) string {
	if len(p.Bots) == 1 {
		return "1 bot"
	}
	return fmt.Sprintf("%d bots", len(p.Bots))
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// freeFolder names a folder below parent that does not exist yet.
func freeFolder(parent string, p *plan.Plan) string {
	slug := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(p.Title), "-"), "-")
	base := filepath.Join(parent, fmt.Sprintf("%s-seed%d", slug, p.Seed))
	path := base
	for i := 2; ; i++ {
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			return path
		}
		path = fmt.Sprintf("%s-%d", base, i)
	}
}
