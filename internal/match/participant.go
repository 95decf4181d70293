package match

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/control"
	"zitherwheel/internal/lines"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/clocksync"
)

// participant is one side of a match on the wall clock: the server, or a bot with its
// client. Its process may be started more than once.
type participant struct {
	match   *wallMatch
	view    int // -1 if it is not recorded
	name    string
	program *plan.Program
	process *process.Process
	started time.Duration // when it was started last
	reader  *trace.Reader
	live    clocksync.Live
	latest  time.Duration   // of its view's records
	signed  time.Duration   // when it gave a sign of life last: a line, or a packet
	closed  *closing        // the way of its trace lines, and it has not come back
	early   []*trace.Record // said before the match began
	mirror  mirror
	facts   facts
	dropped atomic.Int64   // lines of log text that came too fast
	ready   *regexp.Regexp // a log line by which it is known to be ready, or nil

	// of a bot
	route
	bot    bot.Player
	did    bot.Recorder
	steps  plan.Bot
	seq    uint64
	told   string       // the input that its view was told last
	sent   control.Line // the input that was sent last
	joins  bool         // it is to join as soon as its process has ended
	leaves time.Duration
	asked  time.Duration // when it was to join last; 0 means never

	restartAt time.Duration // the server; 0 means not
}

// facts are what is known of how a participant gets on.
type facts struct {
	lines     int
	malformed int
	firstBad  string
	joins     map[string]int // how often this view has said that a player joined
	entities  map[string]string
	refused   map[string]bool
	everIn    bool
	up, down  int // packets
	tail      []string
	unsaid    int // control lines that it did not read in time
	started   int // processes
	loading   bool
	readyLog  bool // a log line was like the one by which it is known to be ready
	stopped   bool // its process is, by the last look at it
}

// tailKept is how many of the last log lines are shown with a failure.
const tailKept = 12

func (m *wallMatch) newParticipant(view int, name string, program *plan.Program) *participant {
	var ready *regexp.Regexp
	if program.Ready.Log != "" {
		ready = regexp.MustCompile(program.Ready.Log) // the plan was checked
	}
	return &participant{ready: ready, match: m, view: view, name: name, program: program, reader: trace.NewReader(nil, m.names), mirror: newMirror(m.names, name, &m.build),
		facts: facts{joins: map[string]int{}, entities: map[string]string{}, refused: map[string]bool{}}}
}

// values are what stands for words in braces in its commands.
func (p *participant) values(tracePath string) map[string]string {
	m := p.match
	v := maps.Clone(m.values)
	v["name"], v["trace"] = p.name, tracePath
	frame := m.plan.Game.FPS
	if p.steps.FPS > 0 {
		frame = p.steps.FPS
	}
	v["fps"] = strconv.Itoa(frame)
	v["report"] = strconv.Itoa(min(frame, m.plan.Game.Report))
	addresses := m.addresses
	if len(p.at) > 0 {
		addresses = p.at
	}
	for i, at := range addresses {
		host, port, _ := net.SplitHostPort(at)
		if i == 0 {
			v["host"], v["port"] = host, port
		}
		v["port-"+m.build.Ports[i].Name] = port
	}
	return v
}

// start starts its process.
func (p *participant) start() error {
	m := p.match
	spec := process.Spec{Name: p.title(), Folder: m.build.Folder, DriveInput: p.program.Drive == plan.InputDrive, DriveSocket: p.program.Drive == plan.SocketDrive,
		Signal: p.program.Stop.Signal, StopWithin: p.program.Stop.Within, Guard: m.guard}
	var tracePath string
	var err error
	if spec.Trace, tracePath, err = p.tracePlace(); err != nil {
		return err
	}
	values := p.values(tracePath)
	for _, word := range p.program.Run {
		spec.Run = append(spec.Run, plan.Fill(word, values))
	}
	spec.Env = p.environment(values)
	p.live = clocksync.Live{}
	p.mirror.forget()
	p.sent, p.told = control.Line{}, ""
	p.started = m.now()
	p.facts.started++
	m.releasePorts()
	process, err := process.Start(spec, func(l process.Line) {
		// Trace lines are waited for. A flood of log text is neither to slow the
		// program down nor to hold up what others say.
		if !l.Trace && len(m.events) > logsWaiting {
			p.dropped.Add(1)
			return
		}
		m.events <- event{participant: p, line: l}
	})
	if err != nil {
		if spec.Trace.Socket != nil {
			spec.Trace.Socket.Close()
		}
		return err
	}
	p.process = process
	go func() {
		<-process.Exited()
		m.events <- event{participant: p, ended: process}
	}()
	if p != m.server {
		p.say(control.Line{Do: control.Hello, Version: control.Version, Name: p.name, Seed: m.plan.Seed})
	}
	return nil
}

// tracePlace is where its process is to tell its trace lines: a file, or an address that
// is listened at.
func (p *participant) tracePlace() (place process.Trace, path string, err error) {
	switch p.program.Trace {
	case plan.OutputTrace:
	case plan.NoTrace:
		place.None = true
	case plan.SocketTrace:
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return place, "", fmt.Errorf("listening for the trace of %s: %w", p.title(), err)
		}
		place.Socket, path = listener, listener.Addr().String()
	default:
		path = plan.Fill(p.program.Trace, p.values(""))
		if !filepath.IsAbs(path) {
			path = filepath.Join(p.match.build.Folder, path)
		}
		if err := os.Remove(path); err != nil && !os.IsNotExist(err) { // what an earlier run left there is not this one's
			return place, "", err
		}
		place.File = path
	}
	return place, path, nil
}

// environment is what its process finds in its environment beside this program's.
func (p *participant) environment(values map[string]string) (list []string) {
	env := map[string]string{"ZWHEEL_NAME": p.name, "ZWHEEL_SEED": values["seed"], "ZWHEEL_SERVER": net.JoinHostPort(values["host"], values["port"]), "ZWHEEL_TRACE": values["trace"]}
	for _, more := range []map[string]string{p.match.build.Env, p.program.Env} {
		for k, v := range more {
			env[k] = plan.Fill(v, values)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(env)) {
		list = append(list, k+"="+env[k])
	}
	return list
}

func (p *participant) running() bool { return p.process != nil && p.process.Running() }

func (p *participant) say(l control.Line) {
	if p.program.Drive != plan.NoDrive && p.process != nil && !p.process.Say(l.Encode()) {
		p.facts.unsaid++
	}
}

// drivable reports whether its client reads control lines.
func (p *participant) drivable() bool { return p.program.Drive != plan.NoDrive }

// act lets the bot do what it does now.
func (p *participant) act(now time.Duration) error {
	action := p.bot.Act(now, &p.mirror)
	if p.did.Saw(now, action) {
		p.match.note(p.match.moment(p.name, p.did.Moments[len(p.did.Moments)-1]))
		p.did.Moments = p.did.Moments[:0]
	}
	if action.Leave {
		p.leave(now)
	}
	if action.Join {
		p.joins = true
	}
	if p.joins && p.leaves == 0 {
		p.joins = false
		if err := p.join(now); err != nil {
			return err
		}
	}
	if cheat := action.Cheat; cheat != nil {
		for _, what := range cheat.Sets {
			switch what {
			case "speed": // more than any key gives; see Hurry
			case "place":
				p.say(control.Line{Do: control.Set, What: what, To: cheat.To[:]})
			default:
				p.say(control.Line{Do: control.Set, What: what})
			}
		}
	}
	if p.mirror.inside {
		p.input(now, action)
	}
	return nil
}

// join starts the process if there is none, and asks it to join.
func (p *participant) join(now time.Duration) error {
	p.asked = max(now, 1)
	if !p.running() {
		if err := p.start(); err != nil {
			return err
		}
	}
	p.say(control.Line{Do: control.Join})
	return nil
}

// leaveWithin is how long a client has for its goodbye before it is stopped.
const leaveWithin = 300 * time.Millisecond

// leave asks the client to leave, and ends its process if that is not to stay.
func (p *participant) leave(now time.Duration) {
	p.asked = 0
	if !p.running() {
		return
	}
	p.say(control.Line{Do: control.Leave})
	if p.program.KeepRunning {
		return
	}
	p.leaves = max(now, 1)
	process, wait := p.process, leaveWithin
	if !p.drivable() {
		wait = 0
	}
	time.AfterFunc(wait, func() { process.Stop() })
}

// input hands the client what the bot does, when that changes.
func (p *participant) input(now time.Duration, a bot.Action) {
	round := func(f float64) float64 { return math.Round(f*100) / 100 }
	line := control.Line{Do: control.Input, Move: round(a.Move + a.Hurry), Turn: round(a.Turn), Run: a.Run, Hold: a.Held}
	if !same(line, p.sent) {
		p.sent = line
		p.seq++
		line.Seq = p.seq
		p.say(line)
	}
	if a.Press != "" {
		p.seq++
		p.say(control.Line{Do: control.Press, Seq: p.seq, Input: a.Press})
	}
	if text := a.Text(); text != p.told {
		p.told = text
		p.record(&trace.Record{T: now, Input: text, Seq: p.seq})
	}
}

func same(a, b control.Line) bool {
	return a.Do == b.Do && a.Move == b.Move && a.Turn == b.Turn && a.Run == b.Run && slices.Equal(a.Hold, b.Hold)
}

// hear takes in a line of its process.
func (p *participant) hear(l process.Line) {
	m := p.match
	at := l.At.Sub(m.base)
	if !l.Trace {
		p.note(at, l)
		return
	}
	r := &trace.Record{}
	_, err := p.reader.Parse(l.Text, r)
	if err == nil && l.Cut {
		err = fmt.Errorf("longer than %d bytes", lines.Max)
	}
	var tooMany *trace.TooManyError
	if errors.As(err, &tooMany) {
		m.fail(p, fmt.Sprintf("the trace of %s cannot be taken in: %v", p.name, err))
		return
	}
	if err != nil {
		if p.facts.malformed++; p.facts.malformed == 1 {
			p.facts.firstBad = fmt.Sprintf("%s: %s", err, shorten(string(l.Text)))
		}
		p.note(at, l)
		return
	}
	p.facts.lines++
	p.heard(at - m.zero)
	r.T = p.live.Shared(r.T, at)
	of := p
	if r.View != "" { // a host speaks for the server too
		of = nil
		for _, other := range m.participants {
			if other.name == r.View {
				of = other
			}
		}
		if of == nil {
			return
		}
		if of != p {
			of.facts.lines++
		}
	}
	if r.HasPing && m.clockSource() != nil {
		r.ServerTime += m.clockSource().live.Apart() - m.zero
	}
	of.take(r)
}

// take takes in a record that is stamped by the clock of the match's base.
func (p *participant) take(r *trace.Record) {
	m := p.match
	p.mirror.take(r)
	if r.Joined != "" {
		p.facts.joins[r.Joined]++
		p.facts.entities[r.Joined] = r.Entity
		if r.Joined == p.name && !p.facts.everIn {
			p.facts.everIn = true
			m.tell("%s is in", p.name)
		}
	}
	if r.Refused != "" {
		p.facts.refused[r.Refused] = true
	}
	if !m.began {
		p.early = append(p.early, r)
		return
	}
	r.T -= m.zero
	p.record(r)
}

// record puts a record into the trace of its view. What was said before the match
// began is of its beginning.
func (p *participant) record(r *trace.Record) {
	r.T = max(r.T, p.latest, 0)
	p.latest = r.T
	if p.view >= 0 && !p.match.over {
		p.match.say(p.view)(r)
	}
}

// note keeps a line of log text.
func (p *participant) note(at time.Duration, l process.Line) {
	if n := p.dropped.Swap(0); n > 0 && p.view >= 0 {
		p.match.log(p.view, max(0, at-p.match.zero), fmt.Sprintf("... %d lines of log text are left out: they came faster than they could be kept", n))
	}
	text := string(l.Text)
	if l.Cut {
		text += " ..."
	}
	if p.ready != nil && p.ready.MatchString(text) {
		p.facts.readyLog = true
	}
	if p.facts.tail = append(p.facts.tail, shorten(text)); len(p.facts.tail) > tailKept {
		p.facts.tail = p.facts.tail[1:]
	}
	if p.view >= 0 {
		p.match.log(p.view, max(0, at-p.match.zero), text)
	}
}

func shorten(text string) string {
	if len(text) > 200 {
		return text[:200] + " ..."
	}
	return text
}
