// Package stage plays a match: it puts the plan's game, bots and links on a
// clock, and hands what every view says, and what becomes of every packet, to
// the judge and to the run folder.
package stage

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"zitherwheel/audit"
	"zitherwheel/bot"
	"zitherwheel/chance"
	"zitherwheel/hillfold"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/measure"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/sim"
	"zitherwheel/trace"
)

// Views are the names of the views of a match: the server's, then the bots' in
// the plan's order.
func Views(p *plan.Plan) []string {
	views := []string{audit.Server}
	for _, b := range p.Bots {
		views = append(views, b.Name)
	}
	return views
}

// Result is what came of a match.
type Result struct {
	Verdict   *judge.Verdict
	Findings  []byte // the verdict as findings.json has it
	Measures  *measure.Measures
	Ended     string // runfolder.Complete or runfolder.Interrupted
	Played    time.Duration
	Refused   []string // bots that the full server did not let in, as the plan asked for
	NeverIn   []string // bots whose clients never got into the match
	Malformed int      // packets that the game found malformed
}

// Options say what is done with a match beside playing it.
type Options struct {
	Folder string // where the run folder is made; "" records nothing
	Silent bool   // without judge

	Witness *hillfold.Witness // looks at the game from the inside, for trials
}

// Run plays a match under the virtual clock, judges it as it goes and records
// it. When ctx is done it stops and keeps what there is. The error of a folder
// that cannot be made wraps runfolder.ErrExists if it is there already.
func Run(ctx context.Context, p *plan.Plan, options Options) (*Result, error) {
	m, err := newMatch(p, options)
	if err != nil {
		return nil, err
	}
	return m.play(ctx)
}

// newMatch puts everything in place.
func newMatch(p *plan.Plan, options Options) (*match, error) {
	m := &match{plan: p, names: trace.NewNames(), clock: sim.New(), views: Views(p)}
	if !options.Silent {
		m.bench = audit.NewBench(m.names, m.views, p.Rules, audit.Setting{Reference: p.Reference, Fates: true})
	}
	faults, err := hillfold.ParseFaults(p.Game.Faults)
	if err != nil {
		return nil, err
	}
	if options.Folder != "" {
		text, err := p.YAML()
		if err != nil {
			return nil, err
		}
		about := runfolder.About{Title: p.Title, Seed: p.Seed, Clock: p.Clock, Length: p.Length.Seconds(), Views: m.views}
		if m.folder, err = runfolder.Create(options.Folder, about, text, m.names); err != nil {
			return nil, err
		}
	}
	m.set(faults)
	if options.Witness != nil {
		m.clock.Add(&witnessNode{m, options.Witness}, 0)
	}
	return m, nil
}

// play lets the match happen and sums it up.
func (m *match) play(ctx context.Context) (*Result, error) {
	p, r := m.plan, &Result{Ended: runfolder.Complete}
	var err error
	if err := m.clock.Run(ctx, p.Length); err != nil {
		r.Ended = runfolder.Interrupted
	}
	r.Played = m.clock.Now()
	r.Malformed = m.server.Malformed
	for _, c := range m.clients {
		r.Malformed += c.game.Malformed
		if c.game.Refused() && p.Game.Places > 0 {
			r.Refused = append(r.Refused, c.name)
		} else if !c.everIn {
			r.NeverIn = append(r.NeverIn, c.name)
		}
	}
	if m.bench != nil {
		r.Verdict, r.Measures = m.bench.Finish()
		if r.Findings, err = audit.EncodeVerdict(r.Verdict); err != nil {
			return nil, err
		}
	}
	if m.folder != nil {
		m.failed = errors.Join(m.failed, m.folder.Finish(r.Ended, r.Findings, r.Measures))
	}
	return r, m.failed
}

// match is a match under way.
type match struct {
	plan    *plan.Plan
	names   *trace.Names
	clock   *sim.Sim
	views   []string
	bench   *audit.Bench
	folder  *runfolder.Folder
	server  *hillfold.Server
	clients []*clientNode
	failed  error // the first failure to record
}

// set puts everybody in place.
func (m *match) set(faults hillfold.Faults) {
	p := m.plan
	config := hillfold.Config{
		Rates:  hillfold.Rates{Tick: p.Game.Tick, Send: p.Game.Send, Frame: p.Game.Frame, Report: p.Game.Report},
		Sheep:  p.Game.Sheep,
		Round:  p.Length - min(3*time.Second, p.Length/4),
		Places: p.Game.Places,
		Radius: p.Game.Radius,
		Faults: faults,
	}
	m.server = hillfold.NewServer(config, m.names, m.stream("hillfold/world"), m.say(0), func(text string) { m.log(0, text) })
	serverNode := m.clock.Add(&serverNode{match: m}, 0)
	for i, b := range p.Bots {
		c := &clientNode{match: m, name: b.Name, server: serverNode, random: m.stream("bot/" + b.Name)}
		view := i + 1
		own := config
		if b.Frame > 0 {
			own.Rates.Frame = b.Frame
			own.Rates.Report = min(own.Rates.Report, b.Frame)
		}
		c.game = hillfold.NewClient(own, b.Name, m.names, m.stream("hillfold/"+b.Name), m.say(view))
		c.say = m.say(view)
		c.bot = bot.New(b.Steps, bot.Area{Width: hillfold.Width, Height: hillfold.Height}, c.random)
		// Clients do not run in step with each other or with the server.
		phase := time.Duration(c.random.Float64() * float64(time.Second) / float64(own.Rates.Frame)).Round(time.Microsecond)
		c.frame = (time.Second / time.Duration(own.Rates.Frame)).Round(time.Microsecond) // all times of a match are whole microseconds
		c.node = m.clock.Add(c, phase)
		l := p.LinkOf(b)
		for _, d := range []struct {
			direction link.Direction
			from, to  sim.Node
			course    link.Course
		}{{link.Up, c.node, serverNode, l.Up}, {link.Down, serverNode, c.node, l.Down}} {
			line := link.NewLine(d.course, m.stream("link/"+b.Name+"/"+d.direction.String()))
			m.clock.Connect(d.from, d.to, line, func(f link.Fate) { m.packet(view, d.direction, f) })
		}
		m.clients = append(m.clients, c)
	}
}

func (m *match) stream(name string) *rand.Rand { return chance.Stream(m.plan.Seed, name) }

// say returns what takes in the records of a view.
func (m *match) say(view int) func(*trace.Record) {
	return func(r *trace.Record) {
		r.Round()
		if m.bench != nil {
			m.bench.Record(view, r)
		}
		if m.folder != nil {
			m.note(m.folder.Record(view, r))
		}
	}
}

func (m *match) packet(view int, d link.Direction, f link.Fate) {
	if m.bench != nil {
		m.bench.Packet(view, d, f)
	}
	if m.folder != nil {
		m.note(m.folder.Packet(view, d, f))
	}
}

func (m *match) log(view int, text string) {
	if m.folder != nil {
		m.note(m.folder.Log(view, m.clock.Now(), text))
	}
}

func (m *match) note(err error) {
	if m.failed == nil {
		m.failed = err
	}
}

// addresses is how many nodes there can be: an address tells a node and how
// often it has changed its address.
const addresses = 1 << 16

// apparent is the address under which the server sees a node.
func (m *match) apparent(now time.Duration, n sim.Node) hillfold.Address {
	moved := 0
	for _, at := range m.plan.LinkOf(m.plan.Bots[n-1]).Moves {
		if now >= at {
			moved++
		}
	}
	return hillfold.Address(n) + addresses*hillfold.Address(moved)
}

// serverNode runs the game's server on the clock.
type serverNode struct {
	match   *match
	arrived []hillfold.Packet
}

func (n *serverNode) Step(now time.Duration, arrived []sim.Datagram) time.Duration {
	n.arrived = packets(n.arrived, arrived)
	for i := range n.arrived {
		n.arrived[i].Peer = n.match.apparent(now, sim.Node(n.arrived[i].Peer))
	}
	for _, p := range n.match.server.Step(now, n.arrived) {
		if node := sim.Node(p.Peer % addresses); n.match.apparent(now, node) == p.Peer { // what goes to an address of old is lost
			n.match.clock.Send(0, node, p.Data)
		}
	}
	return n.match.server.Next()
}

// witnessNode lets a witness look at the match.
type witnessNode struct {
	match   *match
	witness *hillfold.Witness
}

func (n *witnessNode) Step(now time.Duration, _ []sim.Datagram) time.Duration {
	clients := make([]*hillfold.Client, len(n.match.clients))
	for i, c := range n.match.clients {
		clients[i] = c.game
	}
	n.witness.Look(now, n.match.server, clients)
	return now + hillfold.WitnessEvery
}

func packets(list []hillfold.Packet, arrived []sim.Datagram) []hillfold.Packet {
	list = list[:0]
	for _, d := range arrived {
		list = append(list, hillfold.Packet{Peer: hillfold.Address(d.From), Data: d.Data})
	}
	return list
}

// clientNode runs a bot and its client on the clock.
type clientNode struct {
	match   *match
	name    string
	node    sim.Node
	server  sim.Node
	random  *rand.Rand
	bot     *bot.Bot
	game    *hillfold.Client
	say     func(*trace.Record)
	frame   time.Duration
	arrived []hillfold.Packet
	everIn  bool
	told    string // the input that was told last
	inputs  uint64
}

func (n *clientNode) Step(now time.Duration, arrived []sim.Datagram) time.Duration {
	n.arrived = packets(n.arrived, arrived)
	action := n.bot.Act(now, n)
	if action.Join && n.game.Idle() {
		n.game.Join(now)
	}
	if action.Leave {
		n.game.Leave(now)
	}
	if cheat := action.Cheat; cheat != nil {
		n.game.Cheat(now, hillfold.Cheat{X: cheat.To[0], Y: cheat.To[1], Moves: slices.Contains(cheat.Sets, "place"), Stamina: slices.Contains(cheat.Sets, "stamina")})
	}
	if n.game.Idle() {
		return now + n.frame
	}
	in := hillfold.Input{Turn: action.Turn, Move: action.Move + action.Hurry, Run: action.Run, Bark: action.Press == "bark"}
	for _, p := range n.game.Step(now, n.arrived, in) {
		n.match.clock.Send(n.node, n.server, p.Data)
	}
	if n.game.Inside() {
		n.everIn = true
		n.tellInput(now, action)
	}
	return n.game.Next()
}

// tellInput puts what the bot does into its view's trace when it changes.
func (n *clientNode) tellInput(now time.Duration, a bot.Action) {
	text := "stand"
	switch {
	case a.Move > 0 && a.Run:
		text = "run"
	case a.Move > 0:
		text = "trot"
	}
	if a.Press != "" {
		text += " " + a.Press
	}
	if text != n.told {
		n.told = text
		n.inputs++
		n.say(&trace.Record{T: now, Input: text, Seq: n.inputs})
	}
}

// What the bot sees is what its client shows.

func (n *clientNode) Inside() bool                          { return n.game.Inside() }
func (n *clientNode) Own() (x, y, heading float64, ok bool) { return n.game.Own() }
func (n *clientNode) Nearest(kind string) (x, y float64, ok bool) {
	return n.game.Nearest(kind)
}
