package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"

	"github.com/spf13/cobra"

	"zitherwheel/examples"
	"zitherwheel/internal/demo/programs"
	"zitherwheel/internal/match"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

func demoCommand() *cobra.Command {
	var out string
	var real bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Play a healthy and a broken match and compare the verdicts",
		Long: `Plays two matches of Hillfold, the demo game, with four bots on a bad link: a healthy one
and one with an injected fault. Prints both verdicts side by side with the evidence,
explains the lines, and says what to try next.

With --real the server and clients are processes, and their packets go over real sockets
through the relay; both matches run at once, in real time.

Exits with 0 if the healthy match is in sync and the fault was found and named.`,
		Example: "  zwheel demo\n  zwheel demo --real",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if real {
				return realShow.play(c, out, plan.Wall)
			}
			return virtualShow.play(c, out, plan.Virtual)
		},
	}
	c.Flags().StringVar(&out, "out", "runs", "folder to make the two run folders in")
	c.Flags().BoolVar(&real, "real", false, "play with processes and real sockets")
	return c
}

// show is a demonstration: two matches that differ by one injected fault.
type show struct {
	plans   [2][]byte
	fault   string
	what    string // the fault does
	shows   string // in the evidence
	finds   judge.Kind
	nextTry string // with the second plan's path in place of %s
}

var virtualShow = show{
	plans: [2][]byte{examples.Healthy, examples.LostGoodbye},
	fault: "lost-goodbye",
	what:  `that something left the world is told once, on the unreliable channel`,
	shows: `Here a client goes on showing something that
  the server no longer has: a ghost.`,
	finds: judge.Ghost,
	nextTry: `play the same plan with another seed, where other packets are lost:
    zwheel run %s --seed 3`,
}

// On the wall clock it depends on the moment which packet is lost, so the fault
// is one that needs no loss.
var realShow = show{
	plans: [2][]byte{examples.Healthy, examples.KeptToItself},
	fault: "kept-to-itself",
	what:  `running costs stamina on the player's own client only, and the server never hears of it`,
	shows: `Here each player's own client shows
  a stamina that the server never sent.`,
	finds: judge.NeverSent,
	nextTry: `play the same plan on the virtual clock, in a second, and find the same:
    zwheel run %s --clock virtual`,
}

// demoPrograms is the command line of the demo game's programs, with exit codes.
func demoPrograms() *cobra.Command {
	c := programs.Command()
	for _, sub := range c.Commands() {
		run := sub.RunE
		sub.RunE = func(c *cobra.Command, args []string) error {
			if err := run(c, args); err != nil {
				return failed(err)
			}
			return nil
		}
	}
	return c
}

func (s *show) play(c *cobra.Command, out, clock string) error {
	w := c.OutOrStdout()
	var results [2]*match.Result
	var folders [2]string
	var plans [2]*plan.Plan
	var failures [2]error
	var playing sync.WaitGroup
	for i, text := range s.plans {
		p, err := plan.Parse([2]string{"healthy.yaml", s.fault + ".yaml"}[i], text)
		if err != nil {
			return &exitError{exitUsage, err}
		}
		p.Clock = clock
		plans[i] = p
		if folders[i], err = freeFolder(out, p); err != nil {
			return err
		}
		label := ""
		if clock == plan.Wall { // both at once
			label = [2]string{"healthy", s.fault}[i] + ": "
		}
		one := func() { results[i], failures[i] = play(c, p, folders[i], wallOptions(), label) }
		if clock == plan.Virtual {
			one()
		} else {
			playing.Go(one)
		}
	}
	playing.Wait()
	for i, r := range results {
		if failures[i] != nil {
			return failures[i]
		}
		if !r.Ending.Well() {
			return conclude(c, r)
		}
	}
	healthy, broken := results[0].Verdict, results[1].Verdict
	link := plans[0].LinkOf(plans[0].Bots[0]).Down

	fmt.Fprintf(w, `Two matches of Hillfold, a sheepdog trial: %s, %s, 20 sheep, seed %d.
Every bot is on a link with %s latency, %s jitter and %.0f%% loss in bursts, each
way. oak joins late, at 8 s; ash leaves early, at 20 s. The second match has an
injected fault: %s.
`, report.Span(plans[0].Duration), bots(plans[0]), plans[0].Seed, report.Span(link.Latency), report.Span(link.Jitter), 100*link.Loss, s.what)
	if clock == plan.Wall {
		fmt.Fprint(w, "Server and clients were processes of their own, and all packets went over real sockets.\n")
	}
	text := report.NewText(w)
	fmt.Fprintln(w)
	text.SideBySide([2]string{"healthy", "with " + s.fault}, [2]*judge.Verdict{healthy, broken})
	fmt.Fprintf(w, "\nThe evidence for the second:\n")
	text.Incidents(broken)
	for _, r := range results {
		if why := r.Measures.Timing.Distrust(); why != "" {
			fmt.Fprintf(w, "\nTiming is not reliable to the millisecond: %s\n", why)
		}
	}
	fmt.Fprintf(w, `
How to read this:
  An incident (I1) is one thing that went wrong; its findings (F1, F2, ...) are the
  views and fields in which it shows. %s
  Each row of the table is a moment: what the client showed and what the server
  said then. A value is explained if the server said it recently enough for this
  client to be still right about it, given what its link had delivered. The match
  is out of sync only when that fails for longer than the rule's min-duration.
  The packets below the table were lost or late on that client's link just before. That is
  where to look first; it is not yet a proof.
  "late, but the link explains it" are values that only a packet still missing
  excuses. They are no findings, in either match.

Try next:
  judge the recording again, from its traces:
    zwheel check %s
  %s
  see which other faults the demo game can have:
    zwheel faults
`, s.shows, folders[1], fmt.Sprintf(s.nextTry, filepath.Join(folders[1], "plan.yaml")))

	if healthy.Outcome != judge.InSync {
		return failed(errors.New("the healthy match was not found in sync; this is a defect of zwheel or of its demo game"))
	}
	if len(broken.Incidents) == 0 || broken.Incidents[0].Kind != s.finds {
		return failed(fmt.Errorf("the injected fault was not found and named %s; this is a defect of zwheel or of its demo game", s.finds))
	}
	return nil
}
