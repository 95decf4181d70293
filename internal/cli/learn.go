package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/learn"
	"zitherwheel/internal/verdict/rulebook"
)

func learnCommand() *cobra.Command {
	var server, out, clock string
	var clients []string
	var although bool
	c := &cobra.Command{
		Use:   "learn [PLAN | RUNFOLDER...]",
		Short: "Learn watch rules from matches that went right",
		Long: `Reads runs that are known to be healthy, or traces, and writes the rules by which a match like
them is judged: for each kind of entity which fields are compared and how, how far off and how late
clients show them, who sees them, and which events come to whom. Each rule comes with what it was
learned from, as a comment. It writes the part of a plan that says what is watched; read it, edit it,
and put it into the plan.

Of a plan it plays four matches to learn from: on the plan's links, on a clean and on a bad one, and
with another seed; on the virtual clock that takes seconds.

Then it judges the same runs by these rules and says what is left: that is suspicious, because a
mistake that is in a match is not to be learned as normal. Runs on different links, with somebody who
comes late and somebody who leaves, teach most. A plan of your own build needs no rules to be played.
A run that its own rules call out of sync is refused, unless you add --although.`,
		Example: `  zwheel learn examples/millpond/millpond.yaml --clock virtual --out watch.yaml
  zwheel learn runs/clean runs/bad-link --out watch.yaml
  zwheel learn --server server.jsonl --client fern=fern.jsonl --client moss=moss.jsonl`,
		ValidArgsFunction: completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			var folders []lessonFolder
			for _, path := range args {
				folders = append(folders, lessonFolder{path, path})
			}
			if len(args) == 1 && isPlan(args[0]) {
				p, err := loadPlanOn(args[0], clock)
				if err != nil {
					return err
				}
				if !p.Build.Given() {
					return usage("%s: the rules of the demo game are known; play it with zwheel run, and learn from its run folder", args[0])
				}
				played, remove, err := playLessons(c, p)
				if err != nil {
					return err
				}
				defer remove()
				folders, although = played, true // by no rules of its own
			}
			lessons, err := toLearnFrom(c.Context(), folders, server, clients, although)
			if err != nil {
				return err
			}
			var matches []*learn.Match
			for _, t := range lessons {
				m, err := feed.Learned(c.Context(), t.traces)
				if err != nil {
					return failed(fmt.Errorf("%s: %w", t.name, err))
				}
				if len(matches) > 0 && !matches[0].Alike(m) {
					return usage("%s and %s have no kind of entity in common: they are not of one game", lessons[0].name, t.name)
				}
				matches = append(matches, m)
			}
			l := learn.Learn(matches)
			if len(l.Rules) == 0 {
				return failed(fmt.Errorf("there is nothing to learn: no client told any field that the server told of the same entity; docs/trace-lines.md says what to emit"))
			}
			text, err := plan.Learned(l)
			if err != nil {
				return failed(err)
			}
			if out != "" {
				if err := atomicfile.Text(out, text); err != nil {
					return failed(err)
				}
			} else {
				c.OutOrStdout().Write(text)
			}
			return judgeLearned(c, lessons, l, out)
		},
	}
	c.Flags().StringVar(&clock, "clock", "", "clock to play a plan on: virtual or wall (default the plan's)")
	c.Flags().StringVar(&server, "server", "", "trace of the server")
	c.Flags().StringArrayVar(&clients, "client", nil, "trace of a client, as NAME=FILE; repeat for more")
	c.Flags().StringVar(&out, "out", "", "file to write the rules to (default: they are printed)")
	c.Flags().BoolVar(&although, "although", false, "learn also from runs that their own rules call out of sync")
	return c
}

// taught is what is learned from.
type taught struct {
	name   string
	traces feed.Traces
}

// lessonFolder is a run folder, and what it is called.
type lessonFolder struct{ name, path string }

func toLearnFrom(ctx context.Context, folders []lessonFolder, server string, clients []string, although bool) (list []taught, err error) {
	if len(folders) == 0 {
		traces, err := namedTraces(server, clients, "hillfold", true) // whatever rules: they are not asked
		if err != nil {
			return nil, err
		}
		if server == "" {
			return nil, usage("learn needs the server's trace: what views show is held against what the server had")
		}
		return []taught{{"the traces", traces}}, nil
	}
	for _, folder := range folders {
		path := folder.path
		r, p, err := openRun(path)
		if err != nil {
			return nil, err
		}
		if len(r.About.Damage) > 0 {
			return nil, failed(fmt.Errorf("%s is not what was recorded, so nothing is learned from it: %s", path, r.About.Damage[0]))
		}
		if p.Untraced() || r.About.Views[0] != rulebook.Server {
			return nil, usage("%s: its server told no trace, so there is nothing to hold against", path)
		}
		said, err := feed.Recorded(ctx, r, p)
		if err != nil {
			return nil, failed(err)
		}
		if said.Verdict.Outcome == judge.OutOfSync && !although {
			return nil, usage("%s is out of sync by its own rules (%s); learn from a match that went right, or add --although if the rules are wrong", path, report.Summary(said.Verdict))
		}
		list = append(list, taught{folder.name, feed.Run(r, p)})
	}
	return list, nil
}

// judgeLearned judges what was learned from by what was learned.
func judgeLearned(c *cobra.Command, list []taught, l *learn.Lesson, out string) error {
	w := c.ErrOrStderr()
	if out != "" {
		w = c.OutOrStdout()
		fmt.Fprintf(w, "%s: %s and %s\n", out, number(len(l.Rules), "watch rule"), number(len(l.Events), "event rule"))
	}
	for _, text := range l.Asked {
		fmt.Fprintf(w, "decide: %s\n", text)
	}
	for _, text := range l.Unsure {
		fmt.Fprintf(w, "not learned: %s\n", text)
	}
	for _, t := range list {
		t.traces.Rules, t.traces.Frozen = l.Watched(), false
		result, err := feed.Judge(c.Context(), t.traces)
		if err != nil {
			return failed(err)
		}
		suspicious(w, t.name, result.Verdict)
	}
	return nil
}

// suspicious says what the rules find in a match that they were learned from.
func suspicious(w io.Writer, name string, v *judge.Verdict) {
	if len(v.Incidents) == 0 {
		fmt.Fprintf(w, "%s: %s by these rules\n", name, v.Outcome)
		return
	}
	fmt.Fprintf(w, "%s: SUSPICIOUS, %s by these rules:\n", name, number(len(v.Incidents), "incident"))
	for _, in := range v.Incidents {
		for _, f := range v.Findings {
			if f.ID == in.Head {
				fmt.Fprintf(w, "  %s  %s: %s\n", f.Kind, report.Sentence(f), f.Why)
			}
		}
	}
}

func number(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
