package programs

import (
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/demo/hillfold"
)

// Command is the command line of the  What its commands are called with wrongly is an
// error of PreRunE, what goes wrong as they run one of RunE.
func Command() *cobra.Command {
	c := &cobra.Command{
		Use:   "hillfold",
		Short: "Run the demo game's server or client as a process",
		Long: `The demo game as a build under test: a server and headless clients, over real
sockets. They print trace lines (see docs/trace-lines.md), log text goes to
standard error, and they read control lines from standard input (docs/driving.md).
zwheel run starts them by itself for a plan with clock: wall.`,
		Args:         cobra.NoArgs,
		SilenceUsage: true,
		RunE:         func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(serveCommand(), playCommand())
	return c
}

// gameFlags are what server and client agree on.
type gameFlags struct {
	config hillfold.Config
	faults []string
	seed   uint64
}

func (g *gameFlags) add(c *cobra.Command) {
	g.config.Rates = hillfold.DefaultRates
	f := c.Flags()
	f.IntVar(&g.config.Rates.Tick, "tick", g.config.Rates.Tick, "ticks of the server a second")
	f.IntVar(&g.config.Rates.Send, "send", g.config.Rates.Send, "snapshots sent a second")
	f.IntVar(&g.config.Rates.FPS, "fps", g.config.Rates.FPS, "frames of a client a second")
	f.IntVar(&g.config.Rates.Report, "report", g.config.Rates.Report, "trace lines of a client a second")
	f.StringSliceVar(&g.faults, "faults", nil, "faults to inject; see zwheel faults")
	f.Uint64Var(&g.seed, "seed", 1, "random seed")
}

func (g *gameFlags) complete() error {
	for name, rate := range map[string]int{"tick": g.config.Rates.Tick, "send": g.config.Rates.Send, "fps": g.config.Rates.FPS, "report": g.config.Rates.Report} {
		if rate < 1 || rate > 240 {
			return fmt.Errorf("--%s %d: write 1 to 240", name, rate)
		}
	}
	var err error
	if g.config.Faults, err = hillfold.ParseFaults(g.faults); err != nil {
		return fmt.Errorf("--faults: %w", err)
	}
	return nil
}

func serveCommand() *cobra.Command {
	var g gameFlags
	var listen string
	var length time.Duration
	var at *net.UDPAddr
	c := &cobra.Command{
		Use:     "serve",
		Short:   "Run the server",
		Example: "  zwheel hillfold serve --listen 127.0.0.1:7400",
		Args:    cobra.NoArgs,
		PreRunE: func(*cobra.Command, []string) (err error) {
			if at, err = net.ResolveUDPAddr("udp", listen); err != nil {
				return fmt.Errorf("--listen %s: %w", listen, err)
			}
			return g.complete()
		},
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := net.ListenUDP("udp", at)
			if err != nil {
				return err
			}
			g.config.Round = length - min(3*time.Second, length/4)
			err = Serve(c.Context(), conn, g.config, g.seed, Streams{Control: os.Stdin, Trace: c.OutOrStdout(), Log: c.ErrOrStderr()})
			return programEnd(err)
		},
	}
	g.add(c)
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7400", "address to listen at")
	c.Flags().DurationVar(&length, "duration", time.Hour, "length of the match; the round ends shortly before it")
	c.Flags().IntVar(&g.config.Sheep, "population", 20, "sheep on the field")
	c.Flags().IntVar(&g.config.Places, "max-players", 0, "most players at a time (0: any number)")
	c.Flags().Float64Var(&g.config.Radius, "interest-radius", 0, "how far a player perceives, metres (0: everything)")
	return c
}

func playCommand() *cobra.Command {
	var g gameFlags
	var server, name string
	var at *net.UDPAddr
	c := &cobra.Command{
		Use:     "play",
		Short:   "Run a headless client",
		Example: `  echo '{"do":"join"}' | zwheel hillfold play --server 127.0.0.1:7400 --name fern`,
		Args:    cobra.NoArgs,
		PreRunE: func(*cobra.Command, []string) (err error) {
			if at, err = net.ResolveUDPAddr("udp", server); err != nil {
				return fmt.Errorf("--server %s: %w", server, err)
			}
			if name == "" {
				return errors.New("play needs the player's name; add --name fern")
			}
			return g.complete()
		},
		RunE: func(c *cobra.Command, _ []string) error {
			err := Play(c.Context(), at, name, g.config, g.seed, Streams{Control: os.Stdin, Trace: c.OutOrStdout(), Log: c.ErrOrStderr()})
			return programEnd(err)
		},
	}
	g.add(c)
	c.Flags().StringVar(&server, "server", "127.0.0.1:7400", "address of the server")
	c.Flags().StringVar(&name, "name", "", "the player's name")
	return c
}

// programEnd is the exit of a program that ran until it was told to stop.
func programEnd(err error) error {
	if err != nil && !errors.Is(err, os.ErrClosed) {
		return fmt.Errorf("hillfold: %w", err)
	}
	return nil
}
