package cli

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"zitherwheel/examples"
	"zitherwheel/judge"
	"zitherwheel/plan"
	"zitherwheel/report"
	"zitherwheel/runfolder"
	"zitherwheel/stage"
)

func demoCommand() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Play a healthy match and a broken one, and compare the verdicts",
		Long: `Plays two matches of Hillfold, the demo game, with four bots on a bad link: one
as the game should be, and one with a planted mistake. Prints both verdicts side
by side with the evidence, says what the lines mean and what to try next.

Exits with 0 if the healthy match is in sync and the mistake was found and named.`,
		Example: "  zwheel demo",
		Args:    cobra.NoArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return demo(c, out) },
	}
	c.Flags().StringVar(&out, "out", "runs", "folder to make the two run folders in")
	return c
}

func demo(c *cobra.Command, out string) error {
	w := c.OutOrStdout()
	var results [2]*stage.Result
	var folders [2]string
	var plans [2]*plan.Plan
	for i, text := range [2][]byte{examples.Healthy, examples.LostGoodbye} {
		p, err := plan.Parse([2]string{"healthy.yaml", "lost-goodbye.yaml"}[i], text)
		if err != nil {
			return &exit{exitUsage, err}
		}
		folders[i] = freeFolder(out, p)
		r, err := play(c, p, folders[i])
		if err != nil {
			return err
		}
		if r.Ended == runfolder.Interrupted {
			return conclude(c, r)
		}
		results[i], plans[i] = r, p
	}
	healthy, broken := results[0].Verdict, results[1].Verdict
	link := plans[0].LinkOf(plans[0].Bots[0]).Down

	fmt.Fprintf(w, `Two matches of Hillfold, a sheepdog trial: %s, %s, 20 sheep, seed %d.
Every bot is on a link with %s latency, %s jitter and %.0f %% loss in bursts, each
way. oak joins late, at 8 s; ash leaves early, at 20 s. In the second match a mistake
is planted: that something left the world is told once, on the unreliable channel.

`, report.Span(plans[0].Length), bots(plans[0]), plans[0].Seed, report.Span(link.Latency), report.Span(link.Jitter), 100*link.Loss)
	text := report.NewText(w)
	text.SideBySide([2]string{"healthy", "with lost-goodbye"}, [2]*judge.Verdict{healthy, broken})
	fmt.Fprintf(w, "\nThe evidence for the second:\n")
	text.Incidents(broken)
	fmt.Fprintf(w, `
How to read this:
  An incident (I1) is one thing that went wrong; its findings (F1, F2, ...) are the
  views and fields in which it shows. Here a client goes on showing something that
  the server no longer has: a ghost.
  Each row of the table is a moment: what the client showed and what the server
  said then. A value is explained if the server said it recently enough for this
  client to be still right about it, given what its link had delivered. The match
  is out of sync only when that fails for longer than the rule's settle time.
  The packets below it were lost or late on that client's link just before. That is
  where to look first; it is not yet a proof.
  "late, but the link explains it" are values that only a packet still missing
  excuses. They are no findings, in either match.

Try next:
  judge the recording again, from its traces:
    zwheel check %s
  play the same plan with another seed, where other packets are lost:
    zwheel run %s --seed 3
  see which other mistakes the demo game can make:
    zwheel faults
`, folders[1], filepath.Join(folders[1], "plan.yaml"))

	if healthy.Outcome != judge.InSync {
		return failed(errors.New("the healthy match was not found in sync; this is a defect of zwheel or of its demo game"))
	}
	if len(broken.Incidents) == 0 || broken.Incidents[0].Kind != judge.Ghost {
		return failed(errors.New("the planted mistake was not found and named a ghost; this is a defect of zwheel or of its demo game"))
	}
	return nil
}
