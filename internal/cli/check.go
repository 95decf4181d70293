package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/game"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

func checkCommand() *cobra.Command {
	var server, rulesPath, out string
	var clients []string
	var align, reference string
	var asJSON, strict, keep, suggests bool
	var mustFind []string
	var entities int
	c := &cobra.Command{
		Use:   "check [RUNFOLDER]",
		Short: "Judge recorded traces",
		Long: `Judges the traces of a run folder again, with the rules of its plan or others, or
any trace files (plain, gzip or zstd): one of the server and one of each client.

Views are compared with the server's, or with a named view, or with --reference none
with each other, which names the odd one out. All views share one clock (shared), or
equal ticks are compared (tick), or the clock of each view is fitted from its ping
and server_t lines, or else from how entities move (estimated).

With --suggest, of a run that you know to be healthy, it says which knobs of which rules would
have to be turned, and how far, for it to be in sync; and with --must-find, what of the findings
of other runs that would hide.`,
		Example: `  zwheel check runs/mine
  zwheel check --server server.jsonl --client fern=fern.jsonl.gz --rules rules.yaml
  zwheel check --server server.jsonl --client fern=fern.jsonl --rules rules.yaml --out runs/by-hand
  zwheel check --client a=a.jsonl --client b=b.jsonl --client c=c.jsonl --rules rules.yaml --reference none`,
		ValidArgsFunction: completeRuns,
		Args:              cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if align != "" && !slices.Contains(feed.Alignments, align) {
				return usage("--align %s: there are %s", align, join(feed.Alignments))
			}
			traces, run, err := tracesOf(args, server, clients, rulesPath)
			if err != nil {
				return err
			}
			switch {
			case keep && run == nil:
				return usage("--keep goes with a run folder, where the verdict is kept")
			case out != "" && run != nil:
				return usage("--out makes a run folder of traces; %s is one already", args[0])
			case keep && run.About.How == ending.Running:
				return usage("--keep: %s is being written, or was cut off; what is recorded of it is judged each time anew", args[0])
			}
			if align != "" {
				traces.Align = align
			}
			traces.Strict = traces.Strict || strict
			if c.Flags().Changed("max-entities") {
				traces.Entities = entities
			}
			if reference != "" {
				traces.Reference = reference
			}
			if err := known(traces); err != nil {
				return err
			}
			if len(mustFind) > 0 && !suggests {
				return usage("--must-find goes with --suggest: it says what the changes that are suggested would hide")
			}
			if suggests {
				return suggestFor(c, traces, mustFind, asJSON)
			}
			result, err := feed.Judge(c.Context(), traces)
			if c.Context().Err() != nil {
				return &exitError{exitInterrupted, errors.New("interrupted; nothing was judged")}
			}
			if err != nil {
				return failed(err)
			}
			verdict := result.Verdict
			if text := unsealed(run); text != "" {
				fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s\n", text)
			}
			for _, r := range result.Remarks {
				fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s\n", r)
			}
			encoded, err := feed.EncodeVerdict(verdict)
			if err != nil {
				return failed(err)
			}
			if keep {
				if err := run.Keep(encoded, result.Measures, sign); err != nil {
					return failed(err)
				}
			}
			if out != "" {
				if err := feed.Keep(out, traces, result, sign); err != nil {
					return &exitError{exitUsage, err}
				}
			}
			if asJSON {
				c.OutOrStdout().Write(encoded)
			} else {
				text := report.NewText(c.OutOrStdout())
				text.Verdict(verdict)
				text.Measures(result.Measures)
				if run != nil {
					if err := tellLogs(text, run.Path); err != nil {
						return err
					}
				}
				if out != "" {
					fmt.Fprintf(c.OutOrStdout(), "Run folder: %s\n", out)
				}
			}
			if verdict.Outcome == judge.NothingCompared {
				return failed(errors.New("nothing was compared; check that the watch rules fit the entities and fields of the traces, and that the views overlap in time"))
			}
			return quiet(codeOf(verdict.Outcome))
		},
	}
	c.Flags().StringVar(&server, "server", "", "trace of the server")
	c.Flags().StringArrayVar(&clients, "client", nil, "trace of a client, as NAME=FILE; repeat for more")
	c.Flags().StringVar(&align, "align", "", "how clocks are aligned: "+join(feed.Alignments)+" (default the plan's, or shared)")
	c.Flags().StringVar(&reference, "reference", "", "what views are compared with: server, a view's name, or none (default the plan's, or server)")
	c.Flags().StringVar(&rulesPath, "rules", "", "file with watch rules, or the demo game's name, hillfold (default those of the run's plan)")
	c.Flags().BoolVar(&asJSON, "json", false, "print the verdict as JSON, like findings.json")
	c.Flags().BoolVar(&strict, "strict", false, "a match is no pass if anything that should have been compared was not")
	c.Flags().IntVar(&entities, "max-entities", trace.MostEntities, "how many entities the traces may name (default the plan's)")
	c.Flags().StringVar(&out, "out", "", "make a run folder of the traces, for show, report and cost")
	c.Flags().BoolVar(&suggests, "suggest", false, "say which knobs of the rules would have to be turned for a healthy run to be in sync")
	c.Flags().StringArrayVar(&mustFind, "must-find", nil, "a run folder with a mistake: say which of its findings that would hide; repeat for more")
	c.Flags().BoolVar(&keep, "keep", false, "save the verdict in the run folder, for report, show and compare")
	return c
}

// known reports a reference that is not there.
func known(t feed.Traces) error {
	if t.Reference == rulebook.NoReference {
		return nil
	}
	name := t.Reference
	if name == "" {
		name = rulebook.Server
	}
	var views []string
	for _, s := range t.Sources {
		views = append(views, s.View)
	}
	if !slices.Contains(views, name) {
		if name == rulebook.Server {
			return usage("there is no trace of the server; give one with --server FILE, or compare the clients with --reference none")
		}
		return usage("--reference %s: there is no such view; there are %s", name, join(views))
	}
	return nil
}

// tracesOf finds what is to be judged, by which rules.
func tracesOf(args []string, server string, clients []string, rulesPath string) (feed.Traces, *run.Run, error) {
	var none feed.Traces
	var rules rulebook.Rules
	var err error
	if rulesPath != "" {
		if rules, err = loadRules(rulesPath); err != nil {
			return none, nil, err
		}
	}
	if len(args) == 1 {
		if server != "" || len(clients) > 0 {
			return none, nil, usage("check takes either a run folder, or --server and --client, not both")
		}
		run, p, err := openRun(args[0])
		if err != nil {
			return none, nil, err
		}
		traces := feed.Run(run, p)
		if rulesPath != "" {
			traces.Rules, traces.Frozen = rules, false
		}
		return traces, run, nil
	}
	traces, err := namedTraces(server, clients, rulesPath, true)
	return traces, nil, err
}

// loadRules reads a file of rules, or takes those of a game that is called so.
func loadRules(path string) (rulebook.Rules, error) {
	if played, known := game.Find(path); known {
		return plan.GameRules(played), nil
	}
	rules, err := plan.LoadRules(path)
	if err != nil {
		if p, ok := plan.Load(path); ok == nil { // the rules of a plan are rules too
			return p.Rules, nil
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return rules, usage("--rules %s: there is no such file", path)
	}
	if err != nil {
		return rules, &exitError{exitUsage, err}
	}
	return rules, nil
}

// namedTraces are those that flags name; whether they must be there already is said
// by there.
func namedTraces(server string, clients []string, rulesPath string, there bool) (feed.Traces, error) {
	var none feed.Traces
	if len(clients) == 0 {
		return none, usage("give a run folder, or --server FILE and at least one --client NAME=FILE")
	}
	var traces feed.Traces
	if server != "" {
		traces.Sources = append(traces.Sources, feed.Source{View: rulebook.Server, Path: server})
	}
	for _, c := range clients {
		name, path, ok := strings.Cut(c, "=")
		if !ok || name == "" || path == "" {
			return none, usage("--client %s: write it as NAME=FILE", c)
		}
		for _, s := range traces.Sources {
			if s.View == name {
				return none, usage("--client %s: there is a view %s already", c, name)
			}
		}
		traces.Sources = append(traces.Sources, feed.Source{View: name, Path: path})
	}
	for _, s := range traces.Sources {
		if _, err := os.Stat(s.Path); there && err != nil {
			return none, usage("%s: there is no such trace", s.Path)
		}
	}
	if rulesPath == "" {
		return none, usage("nothing says which fields are compared, and how: add --rules FILE, a file with watch rules (docs/integrating.md), or --rules hillfold for traces of the demo game")
	}
	var err error
	traces.Rules, err = loadRules(rulesPath)
	return traces, err
}
