package cli

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"zitherwheel/internal/lines"
	"zitherwheel/internal/match/playground"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/output/sanitize"
)

func relayCommand() *cobra.Command {
	var listen, to, network, named, control, outcomes, record string
	var up, down []string
	var every time.Duration
	var seed uint64
	qualities := map[string]*string{}
	c := &cobra.Command{
		Use:   "relay --to HOST:PORT",
		Short: "Run a relay to play by hand on a bad network",
		Long: `Relays packets between clients and a server and impairs them on the way. Point the
game's client at the relay instead of the server. Every client that appears gets a link
of its own, and an address of its own towards the server.

On a terminal, keys change the link while it runs. Commands may also be appended to
the file that --control names, one per line:
  ` + playground.Commands + `

It listens on this machine only, unless --listen says otherwise.`,
		Example: `  zwheel relay --to 127.0.0.1:7400 --listen 7000 --latency 80ms --jitter 25ms --loss 4% --burst 3
  zwheel relay --to 127.0.0.1:7400 --link hill-farm --outcomes outcomes.jsonl --record packets.pcapng
  zwheel relay --to 127.0.0.1:7500 --network tcp --up latency=20ms --down latency=150ms`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			config := playground.Config{Network: network, Seed: seed}
			if network != "udp" && network != "tcp" {
				return usage("--network %s: there are udp and tcp", network)
			}
			if to == "" {
				return usage("relay needs the server's address; add --to HOST:PORT")
			}
			if config.To, err = addressOf(to); err != nil {
				return usage("--to %s: %w", to, err)
			}
			if !strings.Contains(listen, ":") {
				listen = "127.0.0.1:" + listen
			}
			if config.Listen, err = addressOf(listen); err != nil {
				return usage("--listen %s: %w", listen, err)
			}
			if err := setQualities(&config, named, qualities, up, down); err != nil {
				return err
			}
			var files []*os.File
			for path, into := range map[string]*io.Writer{outcomes: &config.Outcomes, record: &config.Capture} {
				if path == "" {
					continue
				}
				f, err := os.Create(path)
				if err != nil {
					return usage("%w", err)
				}
				files = append(files, f)
				*into = f
			}
			board, err := playground.Open(config)
			if err != nil {
				return failed(err)
			}
			where := "on this machine only"
			if !board.At().Addr().IsLoopback() {
				where = "OPEN TO OTHER MACHINES"
			}
			title := fmt.Sprintf("relaying %s %s (%s) to %s", network, board.At(), where, config.To)
			err = operate(c, board, title, control, every)
			err = errors.Join(err, board.Close())
			for _, f := range files {
				err = errors.Join(err, f.Close())
			}
			if err != nil {
				return failed(err)
			}
			clients, _ := board.Look()
			report.Clients(c.OutOrStdout(), clients, board.Now())
			fmt.Fprintln(c.OutOrStdout(), report.RelayLateness(board.Stats()))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&listen, "listen", "0", "port, or HOST:PORT, to listen at; 0 takes a free one")
	f.StringVar(&to, "to", "", "the server's address")
	f.StringVar(&network, "network", "udp", "udp or tcp")
	f.StringVar(&named, "link", "", "begin with a ready link, like hill-farm")
	for _, name := range link.WordNames() {
		qualities[name] = f.String(name, "", "of both directions, as in a plan")
	}
	f.StringSliceVar(&up, "up", nil, "towards the server only: NAME=VALUE")
	f.StringSliceVar(&down, "down", nil, "towards the clients only: NAME=VALUE")
	f.StringVar(&control, "control", "", "file from which commands are read as it grows")
	f.StringVar(&outcomes, "outcomes", "", "file to write the outcome of every packet to")
	f.StringVar(&record, "record", "", "file to write all packets to, with payloads, as pcapng")
	f.DurationVar(&every, "every", time.Second, "time between lines, where it is not a terminal")
	f.Uint64Var(&seed, "seed", 1, "random seed of the links")
	return c
}

func addressOf(text string) (netip.AddrPort, error) {
	a, err := net.ResolveUDPAddr("udp", text)
	if err != nil {
		return netip.AddrPort{}, err
	}
	at := a.AddrPort()
	if !at.Addr().IsValid() { // ":7000": every address of this machine
		return netip.AddrPortFrom(netip.IPv4Unspecified(), at.Port()), nil
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), nil
}

// setQualities makes the links from the flags.
func setQualities(c *playground.Config, named string, both map[string]*string, up, down []string) error {
	if named != "" {
		l, known := link.FindReady(named)
		if !known {
			return usage("--link %s: there is no such link; zwheel links lists them", named)
		}
		c.Up, c.Down = l.Up.Conditions, l.Down.Conditions
	}
	for _, q := range []*link.Conditions{&c.Up, &c.Down} {
		for _, name := range link.WordNames() {
			if *both[name] == "" {
				continue
			}
			if err := q.Set(name, *both[name]); err != nil {
				return usage("--%w", err)
			}
		}
	}
	for _, d := range []struct {
		flag  string
		into  *link.Conditions
		pairs []string
	}{{"up", &c.Up, up}, {"down", &c.Down, down}} {
		for _, pair := range d.pairs {
			name, value, _ := strings.Cut(pair, "=")
			if err := d.into.Set(name, value); err != nil {
				return usage("--%s %s: %w", d.flag, pair, err)
			}
		}
	}
	return nil
}

// operate shows what happens and obeys commands until it is told to end.
func operate(c *cobra.Command, board *playground.Board, title, control string, every time.Duration) error {
	var follow commands
	if control != "" {
		follow.file = lines.Follow(control)
	}
	defer follow.close()
	if out := terminal(c.OutOrStdout()); out != nil && isTerminal(os.Stdin) {
		_, err := tea.NewProgram(&panel{board: board, title: title, follow: follow}, tea.WithContext(c.Context()), tea.WithOutput(out)).Run()
		if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
			err = nil // ended from outside, as it may be
		}
		return err
	}
	up, down, cut := board.Link()
	fmt.Fprintf(c.OutOrStdout(), "%s\n%s", title, report.LinkLines(up, down, cut))
	next := time.Now().Add(every)
	for {
		select {
		case <-c.Context().Done():
			return nil
		case <-time.After(lookEvery):
		}
		clients, err := board.Look()
		if err != nil {
			return err
		}
		for _, command := range follow.next() {
			text := "done"
			if err := board.Do(command); err != nil {
				text = err.Error()
			}
			fmt.Fprintf(c.OutOrStdout(), "%9.3f s  %s: %s\n", board.Now().Seconds(), command, text)
		}
		if time.Now().After(next) {
			next = next.Add(every)
			fmt.Fprintln(c.OutOrStdout(), report.RelayLine(clients, board.Now()))
		}
	}
}

const lookEvery = 50 * time.Millisecond

// commands are the lines of a file as it grows. What stands in it at the beginning counts too.
type commands struct{ file *lines.Tail } // nil if there is none

// next are those that have come since the last time.
func (f commands) next() (list []string) {
	if f.file == nil {
		return nil
	}
	_ = f.file.ReadAll(func(text []byte, _ bool) { // what cannot be read yet may be later
		if line := strings.TrimSpace(string(text)); line != "" && !strings.HasPrefix(line, "#") {
			list = append(list, line)
		}
	})
	return list
}

func (f commands) close() {
	if f.file != nil {
		f.file.Close()
	}
}

// panel is the relay on a terminal.
type panel struct {
	board   *playground.Board
	title   string
	follow  commands
	clients []playground.Client
	said    string
	failed  error
}

type lookTime time.Time

func look() tea.Cmd {
	return tea.Tick(4*lookEvery, func(t time.Time) tea.Msg { return lookTime(t) })
}

func (p *panel) Init() tea.Cmd { return look() }

func (p *panel) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	switch m := message.(type) {
	case lookTime:
		if p.clients, p.failed = p.board.Look(); p.failed != nil {
			return p, tea.Quit
		}
		for _, command := range p.follow.next() {
			p.do(command)
		}
		return p, look()
	case tea.KeyPressMsg:
		for _, key := range keysOf(m) {
			if key == "q" || key == "ctrl+c" {
				return p, tea.Quit
			}
			if command := p.command(key); command != "" {
				p.do(command)
			}
		}
	}
	return p, nil
}

func (p *panel) do(command string) {
	p.said = command + ": done"
	if err := p.board.Do(command); err != nil {
		p.said = err.Error()
	}
}

// keysOf are the keys of a message: those that are pressed fast, or pasted, come together.
func keysOf(m tea.KeyPressMsg) (keys []string) {
	if m.Text == "" {
		return []string{m.String()}
	}
	for _, r := range m.Text {
		keys = append(keys, string(r))
	}
	return keys
}

// command is what a key stands for: small letters for less, capitals for more.
func (p *panel) command(key string) string {
	q, _, cut := p.board.Link()
	switch key {
	case "L":
		return fmt.Sprintf("latency %v", q.Latency+20*time.Millisecond)
	case "l":
		return fmt.Sprintf("latency %v", max(0, q.Latency-20*time.Millisecond))
	case "J":
		return fmt.Sprintf("jitter %v", q.Jitter+5*time.Millisecond)
	case "j":
		return fmt.Sprintf("jitter %v", max(0, q.Jitter-5*time.Millisecond))
	case "P":
		return fmt.Sprintf("loss %.2f", min(1, q.Loss+0.01))
	case "p":
		return fmt.Sprintf("loss %.2f", max(0, q.Loss-0.01))
	case "o":
		if cut {
			return "restore"
		}
		return "cut"
	case "m":
		return "move"
	case "r":
		return "reset"
	}
	return ""
}

func (p *panel) View() tea.View {
	var b strings.Builder
	up, down, cut := p.board.Link()
	fmt.Fprintf(&b, "%s, for %.0f s\n\n%s\n", p.title, p.board.Now().Seconds(), report.LinkLines(up, down, cut))
	if len(p.clients) == 0 {
		b.WriteString("  no client yet: point the game's client at the address above\n")
	}
	report.Clients(&b, p.clients, p.board.Now())
	fmt.Fprintf(&b, "\n%s\n\n  keys: l/L latency 20 ms less/more   j/J jitter 5 ms   p/P loss 1%%   o cut or restore   m new address   r reset   q quit\n  %s\n", report.RelayLateness(p.board.Stats()), p.said)
	return tea.NewView(sanitize.Screen(b.String()))
}
