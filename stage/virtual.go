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
	"zitherwheel/ending"
	"zitherwheel/hillfold"
	"zitherwheel/link"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/sim"
	"zitherwheel/trace"
)

// newMatch puts everything in place.
func newMatch(p *plan.Plan, options Options) (*match, error) {
	m := &match{recorder: recorder{names: trace.NewNames(), views: Views(p)}, plan: p, clock: sim.New()}
	m.prepare(options, m.clock.Now)
	m.options = options
	if !options.Silent && !judgedAfterwards(p) {
		m.bench = audit.NewBench(m.names, m.views, p.Rules, audit.Setting{Reference: p.Reference, Fates: true, Strict: p.Strict, Alert: m.alert})
	}
	faults, err := hillfold.ParseFaults(p.Game.Faults)
	if err != nil {
		return nil, err
	}
	if options.Folder != "" {
		if err := m.open(p, options.Folder); err != nil {
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
	p, r := m.plan, &Result{Ending: ending.Ending{How: ending.Complete}}
	var err error
	if m.options.StopAtFirst || m.options.Progress != nil {
		err = m.playWatched(ctx, r)
	} else {
		err = m.clock.Run(ctx, m.options.length(p))
		if m.options.length(p) < p.Length {
			r.Ending.How = ending.Stopped
		}
	}
	if err != nil {
		r.Ending.How = ending.Interrupted
	}
	r.Played = m.clock.Now()
	r.Malformed = m.server.Malformed
	for _, c := range m.clients {
		r.Malformed += c.game.Malformed
		if c.game.Refused() && p.Game.Places > 0 {
			r.Refused = append(r.Refused, c.name)
		} else if !c.everIn {
			r.NeverIn = append(r.NeverIn, Absent{Name: c.name})
		}
	}
	if m.bench != nil {
		r.Verdict, r.Measures = m.bench.Finish(r.Ending)
		if r.Findings, err = audit.EncodeVerdict(r.Verdict); err != nil {
			return nil, err
		}
	}
	if m.folder != nil {
		m.failed = errors.Join(m.failed, m.folder.Finish(r.Ending, r.Findings, r.Measures))
	}
	if m.failed == nil && m.bench == nil && !m.options.Silent {
		m.failed = r.judgeRecorded(m.folder.Path(), p)
	}
	return r, m.abandon(m.failed)
}

// judgeRecorded judges what was recorded, and keeps the verdict in the folder.
func (r *Result) judgeRecorded(path string, p *plan.Plan) error {
	run, err := runfolder.Open(path)
	if err != nil {
		return err
	}
	said, err := audit.Recorded(context.Background(), run, p)
	if err != nil {
		return err
	}
	r.Verdict, r.Measures, r.Remarks = said.Verdict, said.Measures, said.Remarks
	if r.Findings, err = audit.EncodeVerdict(r.Verdict); err != nil {
		return err
	}
	return run.Keep(r.Findings, r.Measures)
}

// Between two looks at a match that is watched.
const (
	watchedPart   = 100 * time.Millisecond // of the match
	progressEvery = 100 * time.Millisecond // by the wall clock
)

// playWatched lets the match happen in parts, and looks at it between them.
func (m *match) playWatched(ctx context.Context, r *Result) error {
	last := time.Time{}
	for at := watchedPart; ; at += watchedPart {
		if err := m.clock.Run(ctx, min(at, m.options.length(m.plan))); err != nil {
			return err
		}
		ended, early := m.ended(m.clock.Now(), m.options.length(m.plan))
		if early {
			r.Ending.How = ending.Stopped
		}
		if now := time.Now(); m.options.Progress != nil && (ended || now.Sub(last) >= progressEvery) {
			last = now
			p := Progress{At: m.clock.Now(), Length: m.plan.Length}
			for i, c := range m.clients {
				p.Bots = append(p.Bots, BotProgress{Name: c.name, In: c.game.Inside(), Up: m.progress[i+1][link.Up], Down: m.progress[i+1][link.Down]})
				if m.bench != nil {
					p.Findings, p.Bots[i].Now = m.bench.Certain(), m.bench.Standing(i+1)
				}
			}
			m.options.Progress(p)
		}
		if ended {
			return nil
		}
	}
}

// match is a match under way.
type match struct {
	recorder
	options Options
	plan    *plan.Plan
	clock   *sim.Sim
	server  *hillfold.Server
	clients []*clientNode
}

func (m *match) stream(name string) *rand.Rand { return chance.Stream(m.plan.Seed, name) }

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
	m.describe = func(data []byte) string { return m.server.Describe(data) }
	m.server = hillfold.NewServer(config, m.names, m.stream("hillfold/world"), m.say(0), func(text string) { m.log(0, m.clock.Now(), text) })
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
		c.bot = player(m.options, b, bot.Area{Width: hillfold.Width, Height: hillfold.Height}, c.random)
		// Clients do not run in step with each other or with the server.
		phase := time.Duration(c.random.Float64() * float64(time.Second) / float64(own.Rates.Frame)).Round(time.Microsecond)
		c.frame = (time.Second / time.Duration(own.Rates.Frame)).Round(time.Microsecond) // all times of a match are whole microseconds
		c.node = m.clock.Add(c, phase)
		l := p.LinkOf(b)
		c.moves = l.Moves
		for _, d := range []struct {
			direction link.Direction
			from, to  sim.Node
			course    link.Course
		}{{link.Up, c.node, serverNode, l.Up}, {link.Down, serverNode, c.node, l.Down}} {
			line := link.NewLine(d.course, m.stream("link/"+b.Name+"/"+d.direction.String()))
			m.clock.Connect(d.from, d.to, line, func(f link.Fate, data []byte) { m.packet(view, d.direction, f, data) })
		}
		m.clients = append(m.clients, c)
	}
}

// addresses is how many nodes there can be: an address tells a node and how
// often it has changed its address.
const addresses = 1 << 16

// apparent is the address under which the server sees a node.
func (m *match) apparent(now time.Duration, n sim.Node) hillfold.Address {
	moved := 0
	for _, at := range m.clients[n-1].moves {
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
	bot     bot.Player
	did     bot.Recorder
	game    *hillfold.Client
	say     func(*trace.Record)
	frame   time.Duration
	arrived []hillfold.Packet
	moves   []time.Duration // when it appears under a new address
	everIn  bool
	told    string // the input that was told last
	inputs  uint64
}

func (n *clientNode) Step(now time.Duration, arrived []sim.Datagram) time.Duration {
	n.arrived = packets(n.arrived, arrived)
	action := n.bot.Act(now, n)
	n.match.options.acted(&n.did, n.name, now, action)
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
	if text := inputText(a); text != n.told {
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
