package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func campaignCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "campaign",
		Short: "See and steer what workers play",
		Long: `Lists the campaigns of a hub and the workers that are there, shows one, and tells one to pause, to go
on, or to end. To look takes the key to look; to steer, the key to ask.`,
		Example: `  zwheel campaign list --on nats://127.0.0.1:4222
  zwheel campaign pause night-7 --on nats://127.0.0.1:4222`,
	}
	var asJSON bool
	list := onHub(&cobra.Command{Use: "list", Short: "List campaigns and workers", Args: cobra.NoArgs, Example: "  zwheel campaign list --on nats://127.0.0.1:4222"}, "look", func(c *cobra.Command, l *cluster.Link, _ []string) error {
		all, err := l.Campaigns(c.Context())
		if err != nil {
			return failed(err)
		}
		there, err := l.Workers(c.Context())
		if err != nil {
			return failed(err)
		}
		if asJSON {
			return printJSON(c, map[string]any{"campaigns": all, "workers": there})
		}
		report.NewText(c.OutOrStdout()).Campaigns(all, there)
		return nil
	})
	show := onHub(&cobra.Command{Use: "show NAME", Short: "Show one campaign, with its alarms", Args: cobra.ExactArgs(1), Example: "  zwheel campaign show night-7 --on nats://127.0.0.1:4222"}, "look", func(c *cobra.Command, l *cluster.Link, args []string) error {
		one, err := l.Campaign(c.Context(), args[0])
		if err != nil {
			return campaignError(err)
		}
		alarms, err := l.Alarms(c.Context(), args[0])
		if err != nil {
			return failed(err)
		}
		if asJSON {
			return printJSON(c, map[string]any{"campaign": one, "alarms": alarms})
		}
		report.NewText(c.OutOrStdout()).Campaign(one, alarms)
		return nil
	})
	for _, one := range []*cobra.Command{list, show} {
		one.Flags().BoolVar(&asJSON, "json", false, "print it as JSON")
	}
	c.AddCommand(list, show)
	for _, order := range []struct {
		word, short, done string
		to                cluster.State
	}{
		{"pause", "Have nothing more of a campaign played for now", "paused", cluster.Paused},
		{"resume", "Go on with a campaign that is paused", "goes on", cluster.Running},
		{"cancel", "End a campaign; what was played is kept", "cancelled", cluster.Cancelled},
	} {
		c.AddCommand(onHub(&cobra.Command{Use: order.word + " NAME", Short: order.short, Args: cobra.ExactArgs(1), Example: "  zwheel campaign " + order.word + " night-7 --on nats://127.0.0.1:4222"}, "ask", func(c *cobra.Command, l *cluster.Link, args []string) error {
			if err := l.Order(c.Context(), args[0], order.to); err != nil {
				return campaignError(err)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %s\n", args[0], order.done)
			return nil
		}))
	}
	return c
}

func campaignError(err error) error {
	if errors.Is(err, cluster.ErrNoCampaign) {
		return &exitError{exitUsage, err}
	}
	return failed(err)
}

// onHub makes a command talk to a hub.
func onHub(c *cobra.Command, role string, run func(*cobra.Command, *cluster.Link, []string) error) *cobra.Command {
	var at cluster.Address
	c.RunE = func(c *cobra.Command, args []string) error {
		if at.URL == "" {
			return usage("say which hub: --on nats://HOST:PORT")
		}
		l, err := cluster.Dial(c.Context(), at, role)
		if err != nil {
			return failed(err)
		}
		defer l.Close()
		return run(c, l, args)
	}
	c.Flags().StringVar(&at.URL, "on", "", "address of the hub: nats://HOST:PORT or tls://HOST:PORT")
	joinFlags(c, &at)
	return c
}

// elsewhere is where the matches of a command are played, if not here.
type elsewhere struct {
	at   cluster.Address
	name string
	wait time.Duration
	spot int // one match of so many is played twice
	link *cluster.Link
	crew *cluster.Crew
}

func (e *elsewhere) flags(c *cobra.Command) {
	c.Flags().StringVar(&e.at.URL, "on", "", "have the matches played by the workers of this hub: nats://HOST:PORT")
	c.Flags().StringVar(&e.name, "campaign", "", "with --on, what the campaign is called (default from the plan and the time)")
	c.Flags().DurationVar(&e.wait, "patience", 5*time.Minute, "with --on, how long it is waited for a worker that can play; 0 for ever")
	c.Flags().IntVar(&e.spot, "twice-one-in", cluster.CheckOneIn, "with --on, have one match of so many played by two workers, who must agree (virtual clock); 0 for none")
	joinFlags(c, &e.at)
}

// begin is the crew that plays a plan: the one here, or that of a campaign. What is asked for decides whether a campaign can
// be resumed.
func (e *elsewhere) begin(c *cobra.Command, here played.Here, p *plan.Plan, resume bool, asked ...any) (played.Crew, context.Context, error) {
	if e.at.URL == "" {
		if p != nil && p.Afar() {
			return nil, nil, noWay(p)
		}
		return e.beginOf(c, here, "", "", resume)
	}
	if p.Afar() { // it is played here, and its clients elsewhere: the hub only leads there
		if e.name != "" || resume {
			return nil, nil, usage("%s has clients on other machines (on:), so its matches are played from here and are no campaign: leave --campaign and --resume away", p.Title)
		}
		var err error
		if e.link, err = reach(c, e.at, &here.Wall); err != nil {
			return nil, nil, err
		}
		return here, c.Context(), nil
	}
	of, _, err := played.IdentityOf(p)
	if err != nil {
		return nil, nil, failed(err)
	}
	return e.beginOf(c, here, p.Title, fmt.Sprintf("%s-%d", p.Title, p.Seed), resume, append([]any{of.Key()}, asked...)...)
}

// beginOf is the crew that plays what is no single plan.
func (e *elsewhere) beginOf(c *cobra.Command, here played.Here, title, name string, resume bool, asked ...any) (crew played.Crew, ctx context.Context, err error) {
	switch {
	case e.at.URL == "" && e.name != "":
		return nil, nil, usage("--campaign %s: say on which hub it is, with --on", e.name)
	case e.at.URL == "":
		return here, c.Context(), nil
	case here.Workers > 0:
		return nil, nil, usage("--at-once is for matches that are played here; on a hub the workers' --slots decide")
	case e.name == "":
		e.name = cluster.NameOf(fmt.Sprintf("%s-%s-%s", c.Name(), name, time.Now().Format("20060102-150405")))
	}
	if !cluster.ValidName(e.name) {
		return nil, nil, usage("--campaign %q: letters, digits and - only", e.name)
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%#v", asked))
	if e.link, err = cluster.Dial(c.Context(), e.at, "ask"); err != nil {
		return nil, nil, failed(err)
	}
	e.crew, err = e.link.Crew(c.Context(), cluster.Asked{Campaign: e.name, What: c.Name(), Title: title, Plan: hex.EncodeToString(sum[:]), Resume: resume, Patience: e.wait, Sign: here.Wall.Sign, CheckOneIn: e.spot,
		Tell: func(text string) { fmt.Fprintf(c.ErrOrStderr(), "%s: %s\n", e.name, text) }})
	switch {
	case errors.Is(err, cluster.ErrTaken):
		return nil, nil, usage("%w; name another one with --campaign, or resume it with --resume", err)
	case errors.Is(err, cluster.ErrOther):
		return nil, nil, &exitError{exitUsage, err}
	case err != nil:
		return nil, nil, failed(err)
	}
	fmt.Fprintf(c.ErrOrStderr(), "campaign %s on %s\n", e.name, e.at.URL)
	return e.crew, e.crew.Context(), nil
}

// finish ends the campaign, and says who played. Of a campaign that was cut off it is the error that says by what.
func (e *elsewhere) finish(c *cobra.Command, done bool) error {
	if e.link != nil {
		defer e.link.Close()
	}
	if e.crew == nil {
		return nil
	}
	cause := context.Cause(e.crew.Context())
	e.crew.Close(c.Context(), done && cause == nil)
	summary := e.crew.Summary()
	e.crew = nil
	fmt.Fprintf(c.ErrOrStderr(), "campaign %s: %s\n", e.name, report.PlayedBy(summary))
	switch {
	case errors.Is(cause, cluster.ErrCancelled):
		return &exitError{exitInterrupted, cause}
	case cause != nil && c.Context().Err() == nil:
		return failed(cause)
	}
	return nil
}

// resumeWith is what goes on with a campaign.
func (e *elsewhere) resumeWith() string {
	if e.at.URL == "" || e.name == "" {
		return ""
	}
	return strings.Join([]string{" --campaign", e.name}, " ")
}
