package match

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/sim"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/random"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
)

// newMatch puts everything in place.
func newMatch(p *plan.Plan, options Options) (*virtualMatch, error) {
	m := &virtualMatch{recorder: recorder{names: trace.NewNames(), views: viewsOf(p)}, plan: p, clock: sim.New()}
	m.prepare(options, m.clock.Now)
	m.options = options
	if !options.Silent && !judgedAfterwards(p) {
		m.bench = feed.NewBench(m.names, m.views, p.Watched(), feed.Setting{Reference: p.Reference, Ticks: p.Align == feed.Tick, Outcomes: true, Strict: p.Strict, Alert: m.alert})
	}
	if options.Folder != "" {
		if err := m.open(p, options.Folder); err != nil {
			return nil, err
		}
	}
	if err := m.set(); err != nil {
		return nil, m.abandon(err)
	}
	if options.Look != nil {
		m.clock.Add(&lookNode{m, options.Look}, 0)
	}
	return m, nil
}

// play lets the match happen and sums it up.
func (m *virtualMatch) play(ctx context.Context) (*Result, error) {
	p, r := m.plan, &Result{Ending: ending.Ending{How: ending.Complete}}
	var err error
	if !m.options.StopAtFirst && m.options.Alert == nil { // else what is found matters while the match goes on
		m.beside()
	}
	if m.options.StopAtFirst || m.options.Progress != nil {
		err = m.playWatched(ctx, r)
	} else {
		err = m.clock.Run(ctx, m.options.length(p))
		if m.options.length(p) < p.Duration {
			r.Ending.How = ending.Stopped
		}
	}
	if err != nil {
		r.Ending.How = ending.Interrupted
	}
	m.heard()
	r.Played = m.clock.Now()
	r.Malformed = m.server.Malformed()
	for _, c := range m.clients {
		r.Malformed += c.game.Malformed()
		if c.game.Refused() && (p.Game.MaxPlayers > 0 || slices.Contains(p.Watched().Refused, c.name)) {
			r.Refused = append(r.Refused, c.name)
		} else if !c.everIn {
			r.NeverIn = append(r.NeverIn, Absent{Name: c.name})
		}
	}
	if m.bench != nil {
		r.Verdict, r.Measures = m.bench.Finish(r.Ending)
		if r.Findings, err = feed.EncodeVerdict(r.Verdict); err != nil {
			return nil, err
		}
	}
	if m.folder != nil {
		m.failed = errors.Join(m.failed, m.folder.Finish(r.Ending, r.Findings, r.Measures))
	}
	if m.failed == nil && m.bench == nil && !m.options.Silent {
		m.failed = r.judgeRecorded(m.folder.Path(), p, m.sign)
	}
	return r, m.abandon(m.failed)
}

// judgeRecorded judges what was recorded, and keeps the verdict in the folder.
func (r *Result) judgeRecorded(path string, p *plan.Plan, sign run.Sign) error {
	run, err := run.Open(path)
	if err != nil {
		return err
	}
	said, err := feed.Recorded(context.Background(), run, p)
	if err != nil {
		return err
	}
	r.Verdict, r.Measures, r.Remarks = said.Verdict, said.Measures, said.Remarks
	if r.Findings, err = feed.EncodeVerdict(r.Verdict); err != nil {
		return err
	}
	return run.Keep(r.Findings, r.Measures, sign)
}

// Between two looks at a match that is watched.
const (
	watchedPart   = 100 * time.Millisecond // of the match
	progressEvery = 100 * time.Millisecond // by the wall clock
)

// playWatched lets the match happen in parts, and looks at it between them.
func (m *virtualMatch) playWatched(ctx context.Context, r *Result) error {
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
			m.hands.Wait()
			p := Progress{At: m.clock.Now(), Length: m.plan.Duration}
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
type virtualMatch struct {
	recorder
	options Options
	plan    *plan.Plan
	clock   *sim.Sim
	server  game.Server
	clients []*clientNode
}

func (m *virtualMatch) stream(name string) *rand.Rand { return random.Stream(m.plan.Seed, name) }

// set puts everybody in place.
func (m *virtualMatch) set() (err error) {
	p := m.plan
	played, known := p.Game.Played()
	if !known {
		return fmt.Errorf("game: there is no game %q that can be played on the virtual clock", p.Game.Name)
	}
	setup := p.Setup()
	m.describe = func(data []byte, _ link.Direction) string { return m.server.Describe(data) }
	m.server, err = played.NewServer(setup, game.Env{Names: m.names, Random: m.stream(played.Name() + "/world"), Say: m.say(0), Log: func(text string) { m.log(0, m.clock.Now(), text) }})
	if err != nil {
		return err
	}
	serverNode := m.clock.Add(&serverNode{match: m}, 0)
	for i, b := range p.Bots {
		c := &clientNode{match: m, name: b.Name, server: serverNode, random: m.stream("bot/" + b.Name)}
		view := i + 1
		own := setup
		if b.FPS > 0 {
			own.Rates.FPS = b.FPS
			own.Rates.Report = min(own.Rates.Report, b.FPS)
		}
		c.game, err = played.NewClient(own, b.Name, game.Env{Names: m.names, Random: m.stream(played.Name() + "/" + b.Name), Say: m.say(view)})
		if err != nil {
			return err
		}
		c.say = m.say(view)
		c.bot = player(m.options, b, played.Area(), whim(p), c.random)
		// Clients do not run in step with each other or with the server.
		phase := time.Duration(c.random.Float64() * float64(time.Second) / float64(own.Rates.FPS)).Round(time.Microsecond)
		c.frame = (time.Second / time.Duration(own.Rates.FPS)).Round(time.Microsecond) // all times of a match are whole microseconds
		c.node = m.clock.Add(c, phase)
		l := p.LinkOf(b)
		c.moves = l.Moves
		for _, d := range []struct {
			direction link.Direction
			from, to  sim.Node
			course    link.Course
		}{{link.Up, c.node, serverNode, l.Up}, {link.Down, serverNode, c.node, l.Down}} {
			line := link.NewLine(d.course, m.stream("link/"+b.Name+"/"+d.direction.String()))
			m.clock.Connect(d.from, d.to, line, func(f link.Outcome, data []byte) {
				m.packet(view, link.Packet{Direction: d.direction, Outcome: f}, data)
			})
		}
		m.clients = append(m.clients, c)
	}
	return nil
}

// whim is what bots that roam press now and then: nothing in a game of which nothing is known.
func whim(p *plan.Plan) string {
	if played, known := p.Game.Played(); known && len(played.Inputs().Press) > 0 {
		return played.Inputs().Press[0]
	}
	return ""
}

// addresses is how many nodes there can be: an address tells a node and how
// often it has changed its address.
const addresses = 1 << 16

// apparent is the address under which the server sees a node.
func (m *virtualMatch) apparent(now time.Duration, n sim.Node) game.Address {
	moved := 0
	for _, at := range m.clients[n-1].moves {
		if now >= at {
			moved++
		}
	}
	return game.Address(n) + addresses*game.Address(moved)
}

// serverNode runs the game's server on the clock.
type serverNode struct {
	match   *virtualMatch
	arrived []game.Packet
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

// lookNode lets somebody look at the match from the inside.
type lookNode struct {
	match *virtualMatch
	look  func(now time.Duration, server game.Server, clients []game.Client) time.Duration
}

func (n *lookNode) Step(now time.Duration, _ []sim.Datagram) time.Duration {
	clients := make([]game.Client, len(n.match.clients))
	for i, c := range n.match.clients {
		clients[i] = c.game
	}
	return n.look(now, n.match.server, clients)
}

func packets(list []game.Packet, arrived []sim.Datagram) []game.Packet {
	list = list[:0]
	for _, d := range arrived {
		list = append(list, game.Packet{Peer: game.Address(d.From), Data: d.Data})
	}
	return list
}

// clientNode runs a bot and its client on the clock.
type clientNode struct {
	match   *virtualMatch
	name    string
	node    sim.Node
	server  sim.Node
	random  *rand.Rand
	bot     bot.Player
	did     bot.Recorder
	game    game.Client
	say     func(*trace.Record)
	frame   time.Duration
	arrived []game.Packet
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
		n.say(&trace.Record{T: now, Checkpoint: trace.AskMark})
		n.game.Join(now)
	}
	if action.Leave {
		n.game.Leave(now)
	}
	if cheat := action.Cheat; cheat != nil {
		n.game.Cheat(now, game.Cheat{Sets: cheat.Sets, To: cheat.To})
		tellSet(now, cheat, n.say)
	}
	if n.game.Idle() {
		return now + n.frame
	}
	in := game.Input{Turn: action.Turn, Move: action.Move + action.Hurry, Run: action.Run, Press: action.Press}
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
	if text := a.Text(); text != n.told {
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
