package match

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/match/decoder"
	"zitherwheel/internal/match/far"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/random"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// buildMatch is a match of programs, on the wall clock or on a virtual one: its stage knows
// which. Everything that happens comes as an event to one goroutine, which alone touches
// what is here.
//
// Times count from base until the match begins, and from then on, zero later, in
// the times of the match.
type buildMatch struct {
	recorder
	stage        stage
	plan         *plan.Plan
	build        plan.Build
	options      Options
	seat         *process.Seat
	guard        *process.Guard
	decoder      *decoder.Decoder // nil if nobody has written one
	wire         wire
	held         []io.Closer    // ports, until the server is started
	server       *participant   // nil if it is only attached to
	participants []*participant // by view
	bots         []*participant
	machines     []*far.Machine // other ones, on which clients run
	base         time.Time
	zero         time.Duration
	began        bool
	over         bool
	values       map[string]string
	addresses    []string // of the server, by its ports
	loads
	flushed  time.Duration
	ending   ending.Ending // as it is known so far; Failed when the match cannot go on
	stopped  bool          // at the first finding
	early    bool          // it is over, because the server has ended well with nobody in it
	listened time.Duration // when what had come was judged last
	told     time.Time     // when progress was told last
}

// event is a line of a process, its end, or what processes use of the machine.
type event struct {
	participant *participant
	line        process.Line
	ended       program
	loads       map[int]process.Load // of those here, by their processes
	load        *process.Load        // of one on another machine
}

// newBuild puts everything in place and starts nothing.
func newBuild(ctx context.Context, p *plan.Plan, options Options) (*buildMatch, error) {
	m := &buildMatch{recorder: recorder{names: namesOf(p)}, plan: p, build: p.ToBringUp(), options: options}
	self := options.Zwheel
	if self == "" {
		var err error
		if self, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	m.values = map[string]string{"zwheel": self, "seed": strconv.FormatUint(p.Seed, 10), "duration": p.Duration.String(), "faults": strings.Join(p.Game.Faults, ","),
		"tick": strconv.Itoa(p.Game.Tick), "send": strconv.Itoa(p.Game.Send), "fps": strconv.Itoa(p.Game.FPS), "report": strconv.Itoa(p.Game.Report)}
	if m.build.Folder != "" {
		if info, err := os.Stat(m.build.Folder); err != nil || !info.IsDir() {
			return nil, fmt.Errorf("the build's folder %s is not there; if the plan or run folder came from elsewhere, put the build there or change folder under build: in the plan", m.build.Folder)
		}
	}
	if m.build.Decoder != "" {
		var err error
		if m.decoder, err = decoder.Load(filepath.Join(m.build.Folder, m.build.Decoder)); err != nil {
			return nil, err
		}
	}
	hosted := p.Game.Host != "" && p.Build.Given()
	if m.build.Attach == "" {
		program := &m.build.Server
		if hosted {
			program = &plan.Program{Trace: plan.NoTrace, Drive: plan.NoDrive}
		}
		m.server = m.newParticipant(0, rulebook.Server, program)
		m.participants = append(m.participants, m.server)
	}
	for _, b := range p.Bots {
		program := &m.build.Client
		if hosted && b.Name == p.Game.Host {
			program = &m.build.Host
		}
		var hand *handed
		if port, is := options.ByHand[b.Name]; is {
			var err error
			if hand, program, b, err = m.byHand(b, port); err != nil {
				return nil, err
			}
		}
		c := m.newParticipant(len(m.participants), b.Name, program)
		c.hand = hand
		if b.On != "" {
			var err error
			if c.machine, err = m.machineOf(b.On, options); err != nil {
				m.leaveMachines()
				return nil, err
			}
		}
		random := random.Stream(p.Seed, "bot/"+b.Name)
		c.bot = player(options, b, game.Area{Width: m.build.Area[0], Height: m.build.Area[1]}, whim(p), random)
		c.steps = b
		m.participants, m.bots = append(m.participants, c), append(m.bots, c)
	}
	for _, participant := range m.participants {
		m.views = append(m.views, participant.name)
	}
	m.prepare(options, m.now)
	m.stalled = func(view string, at time.Duration) bool { return m.stage.timing().Felt(view, at) }
	if err := m.sit(); err != nil { // before the stage: what it gives to its programs alone is not for the guard
		return nil, err
	}
	var err error
	if m.stage, err = newStage(ctx, m); err != nil {
		return nil, errors.Join(err, m.leave())
	}
	m.base = m.stage.zero()
	if err := m.choosePorts(); err != nil {
		return nil, errors.Join(err, m.leave())
	}
	return m, nil
}

// runBuild plays a match of programs.
func runBuild(ctx context.Context, p *plan.Plan, options Options) (*Result, error) {
	m, err := newBuild(ctx, p, options)
	if err != nil {
		return nil, err
	}
	if options.Folder != "" {
		if err := m.open(p, options.Folder); err != nil {
			return nil, errors.Join(err, m.leave())
		}
	}
	if options.StopAtFirst || options.Alert != nil || options.Progress != nil {
		m.judgeLive()
	}
	err = m.bringUp(ctx)
	if err == nil {
		err = m.play(ctx)
	}
	played := time.Duration(0)
	if m.began {
		played = min(m.now(), options.length(p))
	}
	m.notice()
	if s := m.stage.timing().Supervised; s != nil && s.Wrong > 0 {
		m.fail(nil, m.stage.timing().Distrust())
	}
	m.ending.Unrepeatable = m.stage.timing().Supervised.Unrepeatable()
	m.over = true
	m.stop()
	switch {
	case ctx.Err() != nil:
		m.ending.How = ending.Interrupted
	case err != nil && m.ending.Why == "":
		m.ending.How, m.ending.Why = ending.Failed, err.Error()
	case m.ending.Why != "":
		m.ending.How = ending.Failed
	case m.stopped:
		m.ending.How = ending.Stopped
	default:
		m.ending.How = ending.Complete
	}
	r := &Result{Played: played}
	m.sumUp(r)
	r.Ending = m.ending
	return r, m.abandon(m.failed)
}

// sit takes a seat on this machine for the programs, and a guard over them.
func (m *buildMatch) sit() (err error) {
	if m.seat, err = process.TakeSeat(m.plan.Seed); err != nil {
		return err
	}
	if m.guard, err = process.NewGuard(m.seat.Mark(), m.options.Guard...); err != nil {
		return errors.Join(err, m.seat.Close())
	}
	return nil
}

// leave ends what is left of the programs, and gives the stage and the seat back.
func (m *buildMatch) leave() (err error) {
	if m.stage != nil {
		err = m.stage.close()
	}
	m.guard.Close()
	return errors.Join(err, m.seat.Close())
}

// now is the time of the match, or before it began the time since base.
func (m *buildMatch) now() time.Duration { return m.stage.now() - m.zero }

func (m *buildMatch) tell(format string, args ...any) {
	if m.options.Tell != nil && !m.over {
		at := "before the match"
		if m.began {
			at = fmt.Sprintf("%7.3f s", m.now().Seconds())
		}
		m.options.Tell(at + ": " + fmt.Sprintf(format, args...))
	}
}

// fail says that the match cannot go on, and because of whom.
func (m *buildMatch) fail(p *participant, why string) {
	if m.ending.Why == "" {
		m.ending.Why = why
		if p != nil {
			m.ending.Log = slices.Clone(p.facts.tail)
		}
	}
}

// clockSource is the participant by whose process the server's clock goes.
func (m *buildMatch) clockSource() *participant {
	if m.server != nil && m.server.process == nil {
		for _, b := range m.bots {
			if b.name == m.plan.Game.Host {
				return b
			}
		}
	}
	return m.server
}

// begin lets the match begin: from now on its times count.
func (m *buildMatch) begin() error {
	m.zero = m.stage.now()
	m.began = true
	m.flushed, m.loaded = 0, -time.Second
	for _, p := range m.participants {
		p.started -= m.zero
		for _, r := range p.early {
			r.T = 0
			if r.HasPing {
				r.ServerTime -= m.zero
			}
			p.record(r)
		}
		p.early = nil
	}
	if m.server != nil && m.plan.Untraced() {
		m.server.record(&trace.Record{Full: true})
	}
	return m.openWire()
}

// play lets the bots play until the match is over, cannot go on, or ctx is done.
func (m *buildMatch) play(ctx context.Context) error {
	return m.pump(ctx, func() (bool, error) {
		now := m.now()
		m.listen()
		ended, early := m.ended(now, m.options.length(m.plan))
		if m.stopped = early; ended || m.early {
			return true, nil
		}
		if err := m.restart(now); err != nil {
			m.fail(m.server, err.Error())
			return true, nil
		}
		for _, b := range m.bots {
			if err := b.act(now); err != nil {
				m.fail(b, err.Error())
				return true, nil
			}
			if b.late(now) {
				why, whose := b.whyOut()
				m.fail(whose, fmt.Sprintf("%s never got in: %s", b.name, why))
			}
		}
		return m.ending.Why != "", nil
	})
}

// late reports whether a bot should be in by now and is not, and nobody refused it.
func (p *participant) late(now time.Duration) bool {
	return p.asked > 0 && !p.facts.everIn && !p.refused() && now-max(p.asked, p.started) > p.program.Ready.Within
}

func (p *participant) refused() bool {
	server := p.match.server
	return p.facts.refused[p.name] || server != nil && server.facts.refused[p.name]
}

// pump handles what happens until done says so or fails, which is asked as often
// as bots act, or ctx is done.
func (m *buildMatch) pump(ctx context.Context, done func() (bool, error)) error {
	for {
		if m.began {
			m.attend()
		}
		ok, err := done()
		if ok || err != nil {
			return err
		}
		if err := m.stage.beat(ctx); err != nil {
			return err
		}
		if m.failed != nil {
			m.fail(nil, fmt.Sprintf("the run folder cannot be written: %v", m.failed))
			return nil
		}
	}
}

func (m *buildMatch) handle(e event) {
	switch {
	case e.ended != nil:
		e.participant.ended(e.ended)
	case e.line.Closed:
		e.participant.traceClosed(e.line)
	case e.load != nil:
		e.participant.takeThere(*e.load)
	case e.loads != nil:
		m.takeLoads(e.loads)
	default:
		e.participant.hear(e.line)
	}
}

const (
	flushEvery = 100 * time.Millisecond
	loadEvery  = time.Second
	waitsEvery = 200 * time.Millisecond
)

// attend does what is due from time to time while the match goes on.
func (m *buildMatch) attend() {
	now := m.now()
	for _, p := range m.participants {
		p.traceLost(now)
	}
	m.take()
	for _, b := range m.bots {
		m.note(b.follow(now, m.wire.carrier))
		if m.plan.Untraced() {
			b.presume()
		}
	}
	if m.folder != nil && now-m.flushed >= flushEvery {
		m.flushed = now
		m.note(m.folder.Flush())
	}
	if now-m.waited >= waitsEvery {
		m.waited = now
		m.stage.readWaits()
	}
	if now-m.loaded >= loadEvery {
		m.loaded = now
		m.stage.readLoads()
	}
}

// moment keeps what a bot did.
func (m *buildMatch) moment(name string, moment bot.Moment) error {
	if m.options.Acted != nil {
		m.options.Acted(name, moment)
	}
	if m.folder == nil {
		return nil
	}
	line, err := bot.EncodeMoment(name, moment)
	if err != nil {
		return err
	}
	return m.folder.Input(line)
}

// stop ends all processes, clients first, and closes what is open.
func (m *buildMatch) stop() {
	for _, clients := range []bool{true, false} {
		var list []program
		for _, p := range m.participants {
			if p.process != nil && (p != m.server) == clients {
				list = append(list, p.process)
			}
		}
		m.stage.endAll(list)
	}
	m.note(m.leave())
	m.note(m.wire.close())
	m.releasePorts()
}

// sumUp judges what was recorded and completes the run folder.
func (m *buildMatch) sumUp(r *Result) {
	for _, b := range m.bots {
		switch {
		case b.facts.everIn:
		case b.refused() && (m.plan.Game.MaxPlayers > 0 || slices.Contains(m.plan.Watched().Refused, b.name)):
			r.Refused = append(r.Refused, b.name)
		case b.facts.started > 0 || b.asked > 0:
			why, _ := b.whyOut()
			r.NeverIn = append(r.NeverIn, Absent{b.name, why})
		default:
			r.NeverIn = append(r.NeverIn, Absent{Name: b.name, Why: "it was not to join before the match ended"})
		}
	}
	if m.folder == nil || m.failed != nil {
		return
	}
	if m.began {
		m.note(m.folder.Timing(m.timing()))
	}
	m.note(m.folder.Flush())
	if m.began {
		m.judge(r)
	}
	if r.Verdict == nil {
		r.Verdict, r.Measures = feed.Unjudged(m.ending, m.plan.Reference), &metrics.Measures{}
		r.Verdict.Strict = m.plan.Strict
	}
	var err error
	r.Findings, err = feed.EncodeVerdict(r.Verdict)
	m.note(err)
	m.note(m.folder.Finish(m.ending, r.Findings, r.Measures))
}

// judge judges what was recorded, as zwheel check does.
func (m *buildMatch) judge(r *Result) {
	if s := m.server; s != nil && s.traced() && s.facts.lines == 0 && m.ending.Why == "" && m.ending.How != ending.Interrupted {
		m.ending.How = ending.Failed
		m.fail(s, "the server told nothing in its trace: "+lacksLines(s)+"; see docs/trace-lines.md for what it has to print")
		return
	}
	run, err := run.Open(m.folder.Path())
	if err != nil {
		m.note(err)
		return
	}
	if m.options.Logs {
		r.Logs, err = feed.Logs(run)
		m.note(err)
	}
	traces := feed.Run(run, m.plan)
	traces.Ending = m.ending
	if m.options.Rules != nil && traces.Unruled {
		traces.Freeze(*m.options.Rules)
	}
	result, err := feed.Judge(context.Background(), traces)
	var unusable *feed.UnusableError
	switch {
	case errors.As(err, &unusable):
		if m.ending.How == ending.Complete {
			m.ending.How, m.ending.Why = ending.Failed, unusable.Error()
		}
	case err != nil:
		m.note(err)
	default:
		r.Verdict, r.Measures, r.Remarks = result.Verdict, result.Measures, append(m.misspelt(), result.Remarks...)
		if learned := cmp.Or(result.Learned, m.options.Rules); learned != nil && m.plan.Unruled() {
			text, err := plan.WriteRules(*learned)
			m.note(err)
			m.note(m.folder.Rules(text))
		}
	}
}

// misspelt tells of lines that were to be trace lines and could not be read: they are in the log, where nobody looks
// for them.
func (m *buildMatch) misspelt() (list []feed.Remark) {
	for _, p := range m.participants {
		if n := p.facts.malformed; n > 0 && p.view >= 0 {
			list = append(list, feed.Remark{View: p.name, Text: fmt.Sprintf("%s of %s could not be read as trace lines and are in its log, the first: %s", count(n, "line"), p.name, p.facts.firstBad)})
		}
	}
	return list
}
