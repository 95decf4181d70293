package cli

import (
	"bytes"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/output/sanitize"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/inspect"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

func showCommand() *cobra.Command {
	var moment string
	var tick int64
	var around, asJSON, plain, goesOn, asPage bool
	c := &cobra.Command{
		Use:   "show RUNFOLDER [FINDING | ENTITY | ENTITY.FIELD]...",
		Short: "Show one entity at one moment, in every view",
		Long: `Shows one entity as the server and every client had it, side by side, with differences
marked and how long each value had been held. On a terminal the arrow keys step
through time. With --around it prints the timeline of a finding: states, inputs,
events, checkpoints, joins, packets and the logs of both sides.

Without an entity or a finding it lists the findings of the run.

With --live it looks at a run in progress: all entities with their differences marked,
one or several of them in every view, frozen and stepped back at will, and it goes to
the next finding by itself. --page shows the same in a browser on this machine.`,
		Example: `  zwheel show runs/mine
  zwheel show runs/mine F1
  zwheel show runs/mine F1 --around
  zwheel show runs/mine dog/fern.stamina --at 12.5s
  zwheel show --live runs/mine dog/fern bell/b
  zwheel show --live --page runs/mine`,
		ValidArgsFunction: completeFindings,
		Args:              cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case goesOn:
				return lookLive(c, args[0], args[1:], asPage, plain, asJSON)
			case asPage:
				return usage("--page goes with --live; zwheel report writes a page of a run that has ended")
			case len(args) > 2:
				return usage("one entity or finding at a time; several go with --live")
			}
			run, p, err := openRun(args[0])
			if err != nil {
				return err
			}
			said, err := feed.Recorded(c.Context(), run, p)
			if err != nil {
				return failed(err)
			}
			verdict := said.Verdict
			text := report.NewText(c.OutOrStdout())
			if len(args) == 1 && asJSON {
				return printJSON(c, verdict)
			}
			if len(args) == 1 {
				text.Headline(verdict)
				text.Findings(verdict)
				return nil
			}
			target, err := targetOf(verdict, args[1], moment)
			if err != nil {
				return err
			}
			if around {
				return tellStory(c, run, p, verdict, target, asJSON)
			}
			if c.Flags().Changed("tick") {
				target.tick = &tick
			}
			rules, err := feed.Rules(c.Context(), run, p)
			if err != nil {
				return failed(err)
			}
			if target.tick != nil {
				return showTick(c, run, rules, verdict, target, asJSON)
			}
			w, err := inspect.Open(c.Context(), run, rules, verdict, target.entity, target.at-stepRoom, target.at+stepRoom)
			if err != nil {
				return &exitError{exitUsage, err}
			}
			if terminal(c.OutOrStdout()) != nil && !plain && !asJSON && isTerminal(os.Stdin) {
				open := func(at time.Duration) (*inspect.Window, error) {
					return inspect.Open(c.Context(), run, rules, verdict, target.entity, at-stepRoom, at+stepRoom)
				}
				_, err := tea.NewProgram(&stepper{window: w, open: open, at: target.at, field: target.field}, tea.WithContext(c.Context()), tea.WithOutput(terminal(c.OutOrStdout()))).Run()
				return err
			}
			s := only(w.At(target.at), target.field)
			if asJSON {
				return printJSON(c, s)
			}
			text.Sheet(s)
			return nil
		},
	}
	c.Flags().StringVar(&moment, "at", "", "the moment, like 12.5s (default the start of the finding, or the end)")
	c.Flags().Int64Var(&tick, "tick", 0, "the tick instead of a moment (default the first of the finding, where ticks were compared)")
	c.Flags().BoolVar(&around, "around", false, "print the timeline of a finding, from a second before it to two after")
	c.Flags().BoolVar(&goesOn, "live", false, "look at a run in progress")
	c.Flags().BoolVar(&asPage, "page", false, "with --live: as a page for a browser on this machine")
	c.Flags().BoolVar(&plain, "plain", false, "print a table even on a terminal")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON; without an entity or a finding, the verdict")
	return c
}

// stepRoom is how far a window reaches to either side, before more is read.
const stepRoom = 5 * time.Second

// target is what is to be shown, and when.
type target struct {
	entity  string
	field   string // or "" for all
	at      time.Duration
	tick    *int64 // instead of a moment
	finding *judge.Finding
}

func targetOf(v *judge.Verdict, name, moment string) (t target, err error) {
	t.at = time.Duration(v.To)
	i := slices.IndexFunc(v.Findings, func(f *judge.Finding) bool { return strings.EqualFold(f.ID, name) })
	if i >= 0 {
		t.finding = v.Findings[i]
		t.entity, t.at = t.finding.Entity, time.Duration(t.finding.BeganAt)
		if t.finding.Ticks && moment == "" {
			t.tick = &t.finding.Tick
		}
	} else {
		t.entity = name
		// A dot may be part of a name: the last one parts a field from its thing.
		if dot := strings.LastIndex(name, "."); dot > strings.LastIndex(name, "/") {
			t.entity, t.field = name[:dot], name[dot+1:]
		}
		if !strings.Contains(t.entity, "/") {
			return t, usage("there is no finding %q, and an entity is named like dog/fern or dog/fern.x; zwheel show RUNFOLDER lists the findings", name)
		}
	}
	if moment != "" {
		if t.at, err = time.ParseDuration(moment); err != nil {
			return t, usage("--at %s: write a time span like 12.5s", moment)
		}
	}
	return t, nil
}

// showTick shows a thing at a tick.
func showTick(c *cobra.Command, run *run.Run, rules rulebook.Rules, v *judge.Verdict, t target, asJSON bool) error {
	s, err := inspect.AtTick(c.Context(), run, rules, v, t.entity, *t.tick)
	if err != nil {
		return &exitError{exitUsage, err}
	}
	s = only(s, t.field)
	if asJSON {
		return printJSON(c, s)
	}
	report.NewText(c.OutOrStdout()).Sheet(s)
	return nil
}

// only leaves the rows of one field, if one is asked for.
func only(s inspect.Sheet, field string) inspect.Sheet {
	if field != "" {
		s.Rows = slices.DeleteFunc(s.Rows, func(r inspect.Row) bool { return r.Field != field })
	}
	return s
}

func tellStory(c *cobra.Command, run *run.Run, p *plan.Plan, v *judge.Verdict, t target, asJSON bool) error {
	if t.finding == nil {
		return usage("--around needs a finding; name one, like F1")
	}
	cargo, err := feed.Carried(c.Context(), run, p)
	if err != nil {
		return failed(err)
	}
	chapters, err := inspect.Story(c.Context(), run, cargo, t.finding, v.Reference, max(0, t.at-time.Second), t.at+2*time.Second)
	if err != nil {
		return failed(err)
	}
	if asJSON {
		return printJSON(c, chapters)
	}
	report.NewText(c.OutOrStdout()).Story(t.finding, chapters)
	return nil
}

// stepper steps through time on a terminal.
type stepper struct {
	window *inspect.Window
	open   func(time.Duration) (*inspect.Window, error)
	at     time.Duration
	field  string
	said   string
}

func (s *stepper) Init() tea.Cmd { return nil }

func (s *stepper) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	key, ok := message.(tea.KeyPressMsg)
	if !ok {
		return s, nil
	}
	steps := map[string]time.Duration{"left": -50 * time.Millisecond, "right": 50 * time.Millisecond, "h": -50 * time.Millisecond, "l": 50 * time.Millisecond,
		"down": -time.Second, "up": time.Second, "j": -time.Second, "k": time.Second}
	for _, key := range keysOf(key) {
		if step, known := steps[key]; known {
			s.step(max(0, s.at+step))
		} else if key == "q" || key == "ctrl+c" || key == "esc" {
			return s, tea.Quit
		}
	}
	return s, nil
}

// step goes to a moment, and reads more where that is needed.
func (s *stepper) step(at time.Duration) {
	if at < s.window.From || at > s.window.Until {
		w, err := s.open(at)
		if err != nil {
			s.said = err.Error()
			return
		}
		s.window = w
	}
	s.at, s.said = at, ""
}

func (s *stepper) View() tea.View {
	var b bytes.Buffer
	report.NewText(&b).Sheet(only(s.window.At(s.at), s.field))
	return tea.NewView(sanitize.Screen(b.String() + "\n  left and right step 50 ms, up and down a second, q quits\n  " + s.said + "\n"))
}
