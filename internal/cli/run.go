package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/match"
	"zitherwheel/internal/match/far"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/run/trust"
	"zitherwheel/internal/verdict/judge"
)

func runCommand() *cobra.Command {
	var seed uint64
	var out, clock string
	var asJSON, record, stopAtFirst, twice bool
	var byHand []string
	var at cluster.Address
	c := &cobra.Command{
		Use:   "run PLAN",
		Short: "Play one match and judge it",
		Long: `Plays the match of a plan, judges it, prints the verdict with its evidence and
writes a run folder. On the virtual clock the same plan and seed give the same bytes.

With --by-hand you play one of the bots yourself, on its link: the server and the other
bots are brought up, and how to start your client is printed. What it prints is judged
like a bot's, live and at the end. zwheel show --live looks at the match meanwhile.

A bot that says on: NAME in the plan plays on another machine, on which zwheel worker --players --name
NAME runs; --on says by which hub it is reached. The server, and all that judges, run here.`,
		Example: `  zwheel run examples/lost-goodbye.yaml --seed 3 --out runs/mine
  zwheel run examples/millpond/millpond.yaml --by-hand fern:7000`,
		ValidArgsFunction: completePlans,
		Args:              cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := loadPlanOn(args[0], clock)
			if err != nil {
				return err
			}
			if c.Flags().Changed("seed") {
				p.Seed = seed
			}
			if out == "" {
				if out, err = freeFolder("runs", p); err != nil {
					return err
				}
			}
			if record && !p.ByPrograms() {
				return usage("--record keeps what goes over real sockets; add --clock wall")
			}
			if twice && p.Clock != plan.Virtual {
				return usage("--twice: only on the virtual clock is a match the same again; zwheel replay says how closely another follows")
			}
			options := wallOptions()
			options.Record, options.StopAtFirst = record, stopAtFirst
			if options.ByHand, err = playedByHand(p, byHand); err != nil {
				return err
			}
			end, err := machines(c, p, at, &options)
			if err != nil {
				return err
			}
			defer end()
			r, err := play(c, p, out, options, "")
			if err != nil {
				return err
			}
			if asJSON {
				c.OutOrStdout().Write(r.Findings)
			} else {
				fmt.Fprintf(c.OutOrStdout(), "%s: seed %d, %s, %s\n\n", p.Title, p.Seed, report.Span(p.Duration), bots(p))
				text := report.NewText(c.OutOrStdout())
				text.Verdict(r.Verdict)
				text.Measures(r.Measures)
				if err := tellLogs(text, out); err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "Run folder: %s\n", out)
			}
			if twice && r.Played > 0 {
				if err := playTwice(c, out, asJSON); err != nil {
					return err
				}
			}
			return conclude(c, r)
		},
	}
	c.Flags().Uint64Var(&seed, "seed", 0, "seed to play with (default the plan's)")
	c.Flags().StringVar(&clock, "clock", "", "clock to play on: virtual or wall (default the plan's)")
	c.Flags().StringVar(&out, "out", "", "folder to make for the run (default runs/TITLE-SEED)")
	c.Flags().BoolVar(&stopAtFirst, "stop-at-first", false, "end the match two seconds after the first finding is certain")
	c.Flags().BoolVar(&record, "record", false, "capture all packets with payloads, as packets.pcapng (wall clock)")
	machinesFlags(c, &at)
	c.Flags().StringArrayVar(&byHand, "by-hand", nil, "a bot that you play by hand, as NAME or NAME:PORT for the port of its address; repeat for more")
	c.Flags().BoolVar(&twice, "twice", false, "play it once more and say whether it was the same (virtual clock)")
	c.Flags().BoolVar(&asJSON, "json", false, "print findings.json instead of text")
	return c
}

// machines has the other machines reached on which clients of a plan run, if there are any. The function that it returns
// ends that.
func machines(c *cobra.Command, p *plan.Plan, at cluster.Address, options *match.Options) (end func(), err error) {
	switch {
	case p.Afar() && at.URL == "":
		return nil, noWay(p)
	case at.URL == "":
		return func() {}, nil
	}
	l, err := reach(c, at, options)
	if err != nil {
		return nil, err
	}
	return l.Close, nil
}

// noWay is the error of a plan whose clients nobody said how to reach.
func noWay(p *plan.Plan) error {
	return usage("%s has clients on other machines (on:): say by which hub they are reached, with --on", p.Title)
}

// reach has other machines reached by way of a hub.
func reach(c *cobra.Command, at cluster.Address, options *match.Options) (*cluster.Link, error) {
	l, err := cluster.Dial(c.Context(), at, "ask")
	if err != nil {
		return nil, failed(err)
	}
	options.Machines = func(name string, p *plan.Plan) (*far.Machine, error) { return l.Machine(c.Context(), name, p) }
	return l, nil
}

func machinesFlags(c *cobra.Command, at *cluster.Address) {
	c.Flags().StringVar(&at.URL, "on", "", "hub by which other machines are reached, for bots with on: in the plan: nats://HOST:PORT")
	joinFlags(c, at)
}

// playTwice plays the match of a run folder once more, and says whether it was the same.
func playTwice(c *cobra.Command, folder string, silent bool) error {
	recording, err := loadRecording(c, folder)
	if err != nil {
		return err
	}
	again, err := freePath(filepath.Clean(folder) + "-again")
	if err != nil {
		return failed(err)
	}
	followed, _, err := recording.Again(c.Context(), &replay.Lab{Wall: wallOptions()}, again, wallOptions())
	if err != nil {
		return failed(err)
	}
	if !silent {
		report.NewText(c.OutOrStdout()).Followed(followed)
	}
	if !followed.Same {
		return failed(notTheSame(recording.Plan))
	}
	return nil
}

// playedByHand are the bots that somebody plays by hand, and the ports for their clients.
func playedByHand(p *plan.Plan, names []string) (map[string]uint16, error) {
	ports := map[string]uint16{}
	for _, text := range names {
		name, number, numbered := strings.Cut(text, ":")
		port, err := uint64(0), error(nil)
		if numbered {
			port, err = strconv.ParseUint(number, 10, 16)
		}
		switch {
		case err != nil:
			return nil, usage("--by-hand %s: write NAME or NAME:PORT", text)
		case !slices.ContainsFunc(p.Bots, func(b plan.Bot) bool { return b.Name == name }):
			return nil, usage("--by-hand %s: the plan has no bot of that name", text)
		case p.Clock != plan.Wall:
			return nil, usage("--by-hand %s: nobody plays by hand on the %s clock; add --clock wall", text, p.Clock)
		case name == p.Game.Host:
			return nil, usage("--by-hand %s: the host is the server too, and is started by zwheel", text)
		}
		ports[name] = uint16(port)
	}
	return ports, nil
}

// loadPlanOn reads a plan, to be played on a clock if one is asked for.
func loadPlanOn(path, clock string) (*plan.Plan, error) {
	p, err := loadPlan(path)
	if err != nil {
		return nil, err
	}
	return p, setClock(p, clock)
}

// setClock sets the clock of a plan, where that is asked for.
func setClock(p *plan.Plan, clock string) error {
	switch {
	case clock == "":
	case clock != plan.Virtual && clock != plan.Wall:
		return usage("--clock %s: there are %s and %s", clock, plan.Virtual, plan.Wall)
	case clock == plan.Virtual && p.Build.Attach != "":
		return usage("--clock %s: a server that runs already is on the wall clock", clock)
	default:
		p.Clock = clock
	}
	return nil
}

// wallOptions are what a match on the wall clock needs of this program.
func wallOptions() match.Options {
	return match.Options{Guard: []string{guardName}, Sign: sign}
}

// sign makes this user's mark.
func sign(text []byte) string {
	mark, err := trust.Mark(text)
	if err != nil {
		return "" // then its user is asked before it is played again
	}
	return mark
}

// loadPlan reads a plan; whatever is wrong with it is the caller's to mend.
func loadPlan(path string) (*plan.Plan, error) {
	p, err := plan.Load(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage("%s: there is no such plan", path)
	}
	if err != nil {
		return nil, &exitError{exitUsage, err}
	}
	p.Build.TakeIn(os.LookupEnv)
	return p, nil
}

// play runs a match and says on standard error how it went; label stands before each line.
func play(c *cobra.Command, p *plan.Plan, folder string, options match.Options, label string) (*match.Result, error) {
	began := time.Now()
	options.Folder = folder
	r, err := watched(c, p, options, label)
	if errors.Is(err, run.ErrExists) {
		return nil, usage("%s exists already and is left as it is; name another folder with --out", folder)
	}
	if err != nil {
		return nil, failed(err)
	}
	if p.Clock == plan.Wall || r.Played == 0 {
		return r, nil
	}
	took := time.Since(began)
	fmt.Fprintf(c.ErrOrStderr(), "played %.1f s in %.2f s, %.0f times as fast as real time\n", r.Played.Seconds(), took.Seconds(), r.Played.Seconds()/took.Seconds())
	return r, nil
}

// tellLogs writes what the logs of a run tell of errors and warnings.
func tellLogs(text *report.Text, folder string) error {
	run, err := run.Open(folder)
	if err != nil {
		return failed(err)
	}
	told, err := feed.Logs(run)
	text.Logs(told)
	if err != nil {
		return failed(err)
	}
	return nil
}

// conclude turns a result into the exit code.
func conclude(c *cobra.Command, r *match.Result) error {
	if r.Ending.How == ending.Interrupted {
		return &exitError{exitInterrupted, fmt.Errorf("interrupted after %.3f s of the match; the verdict is of what was played, and the run folder is complete up to there", r.Played.Seconds())}
	}
	for _, name := range r.Refused {
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s was refused by the full server, as the plan allows with max-players\n", name)
	}
	if r.Ending.How == ending.Failed && r.Verdict.Outcome != judge.OutOfSync {
		if len(r.Ending.Log) > 0 {
			fmt.Fprintf(c.ErrOrStderr(), "Last log lines of that program:\n  %s\n", strings.Join(r.Ending.Log, "\n  "))
		}
		return failed(fmt.Errorf("the match was cut short: %s", r.Ending.Why))
	}
	for _, absent := range r.NeverIn {
		text := absent.Name + " never got into the match"
		if absent.Why != "" {
			text += ": " + absent.Why
		}
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s\n", text)
	}
	for _, remark := range r.Remarks {
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s\n", remark)
	}
	if r.Ending.How == ending.Stopped {
		fmt.Fprintf(c.ErrOrStderr(), "zwheel: stopped at %.3f s, %v after the first finding had become certain\n", r.Played.Seconds(), match.Aftermath)
	}
	if r.Verdict.Outcome == judge.NothingCompared {
		return failed(errors.New("nothing was compared; check that the bots join and that the watch rules fit the game"))
	}
	return quiet(codeOf(r.Verdict.Outcome))
}

func bots(p *plan.Plan) string {
	if len(p.Bots) == 1 {
		return "1 bot"
	}
	return fmt.Sprintf("%d bots", len(p.Bots))
}
