package plan

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"zitherwheel/internal/game"
	"zitherwheel/internal/verdict/rulebook"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Build says how the game build under test is brought up.
// The zero value is the demo game's own.
type Build struct {
	Folder      string            // working folder of the programs, absolute
	Env         map[string]string // put into their environment
	Inherit     []string          // names that are put there as this program finds them in its own, see TakeIn
	Ports       []Port            // of the server; the first is the game's
	Attach      string            // host:port of a server that runs already, or ""
	Address     string            // of this machine, as others reach it: for clients on other machines
	Server      Program           // without Run if there is Attach or a host
	Client      Program
	Host        Program    // the client of the bot that is the host
	Place       []string   // the two fields that tell where a thing is on the ground
	Heading     string     // the field that tells where it faces, in degrees counter-clockwise from the first axis; may be ""
	Area        [2]float64 // size of the ground that bots roam, around the origin
	ControlRate int        // control lines a second at most
	MemoryMB    int        // that each program may use, with all that it starts; 0 is no such limit
	Decoder     string     // a file in Folder that says what packets carry; may be ""
	Files       []string   // of Folder, patterns: what belongs to the build, when it goes to other machines; nil is all
	Needs       Machine    // the machine it runs on
	Threads     string     // of one program on the virtual clock, how many may run at a time: OneThread or ManyThreads
	Interleave  string     // which of several ready threads goes on there: FixedOrder or DrawnOrder
}

// How many threads of a program may run at a time on the virtual clock.
const (
	OneThread   = "one"
	ManyThreads = "many"
)

// Which of several threads that can go on does, on the virtual clock: always the same, or one drawn from the seed.
const (
	FixedOrder = "fixed"
	DrawnOrder = "drawn"
)

// Machine is a kind of machine, as Go calls systems and processors.
type Machine struct {
	System    string // like windows; AnySystem is all; "" is that of whoever asks
	Processor string // like arm64; "" is amd64, or that of whoever asks
}

// AnySystem is the system of what runs on all.
const AnySystem = "any"

// Needs is what kind of machine the plan plays on, like linux-amd64, or any.
func (p *Plan) Needs() string {
	system, processor := p.Build.Needs.System, p.Build.Needs.Processor
	switch {
	case p.Clock == Virtual && p.Build.Given():
		return "linux-amd64"
	case !p.Build.Given(), system == AnySystem:
		return AnySystem
	case system == "":
		return runtime.GOOS + "-" + cmp.Or(processor, runtime.GOARCH)
	}
	return system + "-" + cmp.Or(processor, "amd64")
}

// Given reports whether the plan names a build.
func (b *Build) Given() bool { return len(b.Client.Run) > 0 }

// Untraced reports whether no program tells a trace: then nothing is compared, and the match is judged
// by its logs, its packets and whether its programs stay up.
func (p *Plan) Untraced() bool {
	b := &p.Build
	return b.Given() && b.Client.Trace == NoTrace && (p.Game.Host != "" && b.Host.Trace == NoTrace || p.Game.Host == "" && (b.Attach != "" || b.Server.Trace == NoTrace))
}

// Unruled reports whether a build's plan says nothing of what is to be compared, so that it has to be
// learned from the match itself: where the server tells a trace, and clocks or times bring views together.
func (p *Plan) Unruled() bool {
	return p.Build.Given() && len(p.Rules.Fields) == 0 && !p.Untraced() && p.Build.Attach == "" && (p.Reference == "" || p.Reference == rulebook.Server)
}

// Afar reports whether clients run on other machines.
func (p *Plan) Afar() bool {
	return slices.ContainsFunc(p.Bots, func(b Bot) bool { return b.On != "" })
}

// far is what is wrong with a plan whose clients run on other machines, or "".
func (p *Plan) far() string {
	b := &p.Build
	switch {
	case !p.Afar():
		return ""
	case !b.Given():
		return "bots: on: the demo game is part of this program, and starts nowhere else; give the plan a build"
	case p.Clock != Wall:
		return "bots: on: other machines have a clock of their own, which no match on the virtual clock can own; write clock: wall"
	case net.ParseIP(b.Address) == nil:
		return fmt.Sprintf("build: address: %q is no address; for clients on other machines (on:) write the one by which they reach the server, like 10.7.0.1", b.Address)
	case b.Attach != "":
		return "build: attach: a server that runs already and clients on other machines (on:) do not go together yet"
	case !filepath.IsLocal(b.Client.Trace):
		return fmt.Sprintf("build: client: trace: %s is not below the build's folder, and on another machine (on:) a client writes nowhere else", b.Client.Trace)
	case slices.ContainsFunc(p.Bots, func(b Bot) bool { return b.On != "" && b.Name == p.Game.Host }):
		return "bots: on: the host plays on this machine"
	}
	return ""
}

// Tick is the Align of plans whose views are compared at equal ticks.
const Tick = "tick"

// Port is a port of the server.
type Port struct {
	Name    string
	Network string // udp or tcp
	Number  int    // 0 takes a free one
}

// TakeIn puts what the plan inherits from an environment into the plan, so that it is recorded and is the same wherever
// the match is played again.
func (b *Build) TakeIn(lookup func(name string) (value string, is bool)) {
	for _, name := range b.Inherit {
		value, is := lookup(name)
		if _, given := b.Env[name]; given || !is {
			continue
		}
		if b.Env == nil {
			b.Env = map[string]string{}
		}
		b.Env[name] = value
	}
	b.Inherit = nil
}

// Program is one program of a build. In Run, Env and Trace, words in braces stand
// for what they name; see Placeholders.
type Program struct {
	Run         []string          // the program and its arguments
	Env         map[string]string // beside that of the build
	Trace       string            // where its trace lines come from: OutputTrace, SocketTrace, NoTrace, or the path of a file
	Drive       string            // where it reads control lines: InputDrive, SocketDrive or NoDrive
	KeepRunning bool              // a client's process goes on when its player leaves; otherwise it is stopped, and started anew
	Ready       Ready
	Stop        Stop

	Restart time.Duration // a server that ended by itself is started again so much later; 0 means that the match ends
}

// Where trace lines come from and control lines go to.
const (
	OutputTrace = "output" // standard output
	SocketTrace = "socket" // a connection to the address in ZWHEEL_TRACE
	NoTrace     = "none"

	InputDrive  = "input"  // standard input
	SocketDrive = "socket" // back over the connection of the trace
	NoDrive     = "none"
)

// Ready says when a program is ready: when all that is given has come. The zero
// value is as soon as its ports are open, or at once for a client.
type Ready struct {
	Log    string        // a log line matches this pattern
	Line   bool          // a trace line has come
	Port   bool          // the server's TCP ports can be connected to
	After  time.Duration // so much time has passed
	Within time.Duration // and not later than this, or it has failed
}

// Stop says how a program is stopped: first by a control line if it reads them,
// then by a signal, then it is killed with all that it started.
type Stop struct {
	Signal string        // terminate or interrupt
	Within time.Duration // after each of the first two
}

// Placeholders are the words in braces that programs may use.
var placeholders = []string{"host", "port", "name", "seed", "trace", "tick", "send", "fps", "report", "faults", "duration", "zwheel"}

func defaultProgram(drive string, ready time.Duration) Program {
	return Program{Trace: OutputTrace, Drive: drive, Ready: Ready{Within: ready}, Stop: Stop{Signal: "terminate", Within: 2 * time.Second}}
}

func defaultBuild() Build {
	return Build{Server: defaultProgram(NoDrive, 15*time.Second), Client: defaultProgram(InputDrive, 15*time.Second),
		Host: defaultProgram(InputDrive, 15*time.Second), Place: []string{"x", "y"}, Area: [2]float64{100, 100}, ControlRate: 20, Threads: OneThread, Interleave: FixedOrder}
}

func (p *Plan) buildKey() key {
	b := &p.Build
	keys := []key{
		textKey("folder", &b.Folder),
		envKey("env", &b.Env),
		wordsKey("inherit", &b.Inherit),
		{name: "ports", schema: schema{"type": "object", "additionalProperties": schema{"type": "string", "pattern": "^(udp|tcp)(:[0-9]+)?$"}}, read: func(n ast.Node) error { return readPorts(n, &b.Ports) }, write: func() any { return writePorts(b.Ports) }},
		textKey("attach", &b.Attach),
		textKey("address", &b.Address),
		nestedKey("server", b.Server.keys()),
		nestedKey("client", b.Client.keys()),
		nestedKey("host", b.Host.keys()),
		wordsKey("place", &b.Place),
		textKey("heading", &b.Heading),
		areaKey(&b.Area),
		wholeKey("control-rate", &b.ControlRate, 1, 240),
		optional(wholeKey("memory-mb", &b.MemoryMB, 1, 1<<24), &b.MemoryMB),
		textKey("decoder", &b.Decoder),
		wordsKey("files", &b.Files),
		nestedKey("needs", []key{textKey("system", &b.Needs.System), textKey("processor", &b.Needs.Processor)}),
		wordKey("threads", &b.Threads, []string{OneThread, ManyThreads}),
		wordKey("interleave", &b.Interleave, []string{FixedOrder, DrawnOrder}),
	}
	k := nestedKey("build", keys)
	write := k.write
	k.write = func() any {
		if !b.Given() {
			return nil
		}
		return write()
	}
	return k
}

func (g *Program) keys() []key {
	return []key{
		commandKey("run", &g.Run),
		envKey("env", &g.Env),
		textKey("trace", &g.Trace),
		wordKey("drive", &g.Drive, []string{InputDrive, SocketDrive, NoDrive}),
		flagKey("keep-running", &g.KeepRunning),
		nestedKey("ready", []key{
			patternKey("log", &g.Ready.Log),
			flagKey("line", &g.Ready.Line),
			flagKey("port", &g.Ready.Port),
			durationKey("after", &g.Ready.After),
			always(durationKey("within", &g.Ready.Within), &g.Ready.Within),
		}),
		nestedKey("stop", []key{
			wordKey("signal", &g.Stop.Signal, []string{"terminate", "interrupt"}),
			always(durationKey("within", &g.Stop.Within), &g.Stop.Within),
		}),
		durationKey("restart", &g.Restart),
	}
}

// areaKey is written also where it is nothing, which is not what a plan that leaves it out
// has.
func areaKey(into *[2]float64) key {
	k := pointKey("area", into)
	k.write = func() any { return []float64{into[0], into[1]} }
	return k
}

// commandKey reads a command as a list of words, or as a line that is split as a
// shell splits it. No shell runs it.
func commandKey(name string, into *[]string) key {
	return then(wordsKey(name, into), func(n ast.Node) error {
		if line, ok := scalar(n); ok {
			words, err := splitWords(line)
			if err != nil {
				return fmt.Errorf("%s cannot be split into words: %w", show(n), err)
			}
			*into = words
		}
		if len(*into) == 0 {
			return errors.New("it names no program")
		}
		for _, word := range *into {
			for _, m := range inBraces.FindAllStringSubmatch(word, -1) {
				if !slices.Contains(placeholders, m[1]) && !strings.HasPrefix(m[1], "port-") {
					if now, is := called(m[1], placeholders); is {
						return fmt.Errorf("there is nothing called {%s}%s", m[1], now)
					}
					return fmt.Errorf("there is nothing called {%s}; there are {%s}, and {port-NAME}", m[1], strings.Join(placeholders, "}, {"))
				}
			}
		}
		return nil
	})
}

var inBraces = regexp.MustCompile(`\{([a-z][a-z0-9-]*)\}`)

// Fill puts values in place of the words in braces.
func Fill(text string, values map[string]string) string {
	return inBraces.ReplaceAllStringFunc(text, func(word string) string {
		if v, ok := values[word[1:len(word)-1]]; ok {
			return v
		}
		return word
	})
}

func patternKey(name string, into *string) key {
	return then(textKey(name, into), func(ast.Node) error {
		_, err := regexp.Compile(*into)
		return err
	})
}

func envKey(name string, into *map[string]string) key {
	return key{name: name, schema: schema{"type": "object", "additionalProperties": schema{"type": []string{"string", "number", "boolean"}}}, read: func(n ast.Node) error {
		mapping, ok := n.(ast.MapNode)
		if !ok {
			return fmt.Errorf("%s is not a mapping from names to values", show(n))
		}
		*into = map[string]string{}
		entries, err := entriesOf(mapping)
		for _, e := range entries {
			value, ok := scalar(unwrap(e.value))
			if !ok {
				return wrong(e.value, "%s: %s is not text", name, show(e.value))
			}
			(*into)[e.key.GetToken().Value] = value
		}
		return err
	}, write: func() any {
		var out yaml.MapSlice
		for _, k := range slices.Sorted(maps.Keys(*into)) {
			out = append(out, yaml.MapItem{Key: k, Value: (*into)[k]})
		}
		if out == nil {
			return nil
		}
		return out
	}}
}

// readPorts reads ports by name: NAME: NETWORK, or NAME: NETWORK:NUMBER.
func readPorts(n ast.Node, into *[]Port) error {
	mapping, ok := n.(ast.MapNode)
	if !ok {
		return fmt.Errorf("%s is not a mapping from names to ports, like game: udp:7000", show(n))
	}
	*into = nil
	entries, err := entriesOf(mapping)
	if err != nil {
		return err
	}
	for _, e := range entries {
		p := Port{Name: e.key.GetToken().Value}
		text, _ := scalar(unwrap(e.value))
		network, number, numbered := strings.Cut(text, ":")
		p.Network = network
		var err error
		if numbered {
			p.Number, err = strconv.Atoi(number)
		}
		if err != nil || p.Number < 0 || p.Number > 65535 || network != "udp" && network != "tcp" {
			return wrong(e.value, "ports: %s is not a port; write udp or tcp, or with its number, like udp:7000", show(e.value))
		}
		*into = append(*into, p)
	}
	return nil
}

func writePorts(ports []Port) any {
	var out yaml.MapSlice
	for _, p := range ports {
		text := p.Network
		if p.Number > 0 {
			text += ":" + strconv.Itoa(p.Number)
		}
		out = append(out, yaml.MapItem{Key: p.Name, Value: text})
	}
	if out == nil {
		return nil
	}
	return out
}

// completeBuild fills in what depends on other parts, and checks what no single
// key can be blamed for. Folders are relative to that of the plan.
func (p *Plan) completeBuild(file string) error {
	b := &p.Build
	if p.Clock == Recorded {
		if b.Given() {
			return errors.New("clock: recorded is of traces from elsewhere; to play the build write clock: virtual or wall")
		}
		return nil
	}
	if !b.Given() {
		if _, known := p.Game.Played(); !known {
			return fmt.Errorf("game: %q is no demo game of ours; say how it is started under build, or write name: %s", p.Game.Name, strings.Join(game.Names(), " or "))
		}
		if len(b.Server.Run) > 0 || b.Attach != "" {
			return errors.New("build: it says nothing of clients; say under client how one is run")
		}
		if far := p.far(); far != "" {
			return errors.New(far)
		}
		return nil
	}
	if p.Clock == Virtual && b.Attach != "" {
		return errors.New("clock: a server that runs already (attach:) is on the wall clock; write clock: wall")
	}
	hosted := p.Game.Host != ""
	given := 0
	for _, is := range []bool{len(b.Server.Run) > 0, b.Attach != "", hosted} {
		if is {
			given++
		}
	}
	switch {
	case given != 1:
		return errors.New("build: the server is one of three: server: with run:, attach: with the address of one that runs, or game: host: with the name of a bot")
	case hosted && len(b.Host.Run) == 0:
		return fmt.Errorf("build: %s is the host, so say under host how it is run", p.Game.Host)
	case len(b.Place) != 2:
		return fmt.Errorf("build: place: name the two fields that tell where a thing is on the ground, like [x, z]")
	case len(p.Rules.Fields) == 0 && !p.Untraced() && !p.Unruled():
		return errors.New("watch: there are no rules, so nothing would be compared; say which fields are to agree, see docs/integrating.md. If no program tells a trace yet, write trace: none under server and client: the match is then judged by its logs")
	case b.Threads == ManyThreads && b.Interleave == DrawnOrder:
		return errors.New("build: interleave: drawn needs threads: one; with many, nobody says who goes on")
	case p.far() != "":
		return errors.New(p.far())
	case len(p.Rules.Fields) > 0 && p.Untraced():
		return errors.New("watch: no program tells a trace (trace: none), so there is nothing that these rules could compare")
	}
	if b.Attach != "" {
		_, port, err := net.SplitHostPort(b.Attach)
		number, bad := strconv.Atoi(port)
		if err != nil || bad != nil || number < 1 || number > 65535 {
			return fmt.Errorf("build: attach: %q is not an address; write HOST:PORT", b.Attach)
		}
		if len(b.Ports) == 0 {
			b.Ports = []Port{{Name: "game", Network: "udp"}}
		}
		b.Ports[0].Number = number
		b.Server.Trace = NoTrace
		if (p.Reference == "" || p.Reference == rulebook.Server) && !p.Untraced() {
			return errors.New("reference: a server that is only attached to says nothing, so nothing can be held against it; write a bot's name, or none")
		}
	}
	if len(b.Ports) == 0 {
		b.Ports = []Port{{Name: "game", Network: "udp"}}
	}
	if !filepath.IsAbs(b.Folder) {
		folder, err := filepath.Abs(filepath.Join(filepath.Dir(file), b.Folder))
		if err != nil {
			return err
		}
		b.Folder = folder
	}
	if b.Client.Restart > 0 || b.Host.Restart > 0 {
		return errors.New("build: restart: only a server of its own can be started again; a client comes back with a bot's step do: rejoin")
	}
	for _, g := range []*Program{&b.Server, &b.Client, &b.Host} {
		if g.Drive == SocketDrive && g.Trace != SocketTrace {
			return errors.New("build: drive: control lines can only come over a socket if the trace goes there: write trace: socket too")
		}
	}
	return nil
}

// ByPrograms reports whether a match of this plan is played by programs that are started: a
// build's, or on the wall clock the demo game's.
func (p *Plan) ByPrograms() bool { return p.Clock == Wall || p.Build.Given() }

// ToBringUp is the build that is brought up on the wall clock: the plan's, or the
// demo game as processes of this program.
func (p *Plan) ToBringUp() Build {
	if p.Build.Given() {
		return p.Build
	}
	b := p.Build
	played, known := p.Game.Played()
	if !known {
		return b
	}
	programs := played.Programs(p.Setup())
	b.Ports = []Port{{Name: "game", Network: "udp"}}
	b.Heading = programs.Heading
	b.Area = [2]float64{played.Area().Width, played.Area().Height}
	b.ControlRate = 60
	b.Server.Run, b.Client.Run = programs.Server, programs.Client
	b.Server.Drive = InputDrive
	b.Server.Ready.Line = true
	b.Client.KeepRunning = true
	return b
}
