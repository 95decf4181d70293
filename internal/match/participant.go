package match

import (
	"errors"
	"fmt"
	"regexp"
	"sync/atomic"
	"time"

	"zitherwheel/internal/control"
	"zitherwheel/internal/lines"
	"zitherwheel/internal/match/far"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/clocksync"
)

// participant is one side of a match of programs: the server, or a bot with its
// client. Its process may be started more than once.
type participant struct {
	match   *buildMatch
	view    int // -1 if it is not recorded
	name    string
	program *plan.Program
	process program
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
	hand    *handed      // nil unless somebody plays it by hand
	machine *far.Machine // on which its client runs; nil is this one
	there   far.Trace    // where it tells its trace on that machine
	route
	driver

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

func (m *buildMatch) newParticipant(view int, name string, program *plan.Program) *participant {
	var ready *regexp.Regexp
	if program.Ready.Log != "" {
		ready = regexp.MustCompile(program.Ready.Log) // the plan was checked
	}
	return &participant{ready: ready, match: m, view: view, name: name, program: program, reader: trace.NewReader(nil, m.names), mirror: newMirror(m.names, name, &m.build),
		facts: facts{joins: map[string]int{}, entities: map[string]string{}, refused: map[string]bool{}}}
}

func (p *participant) running() bool { return p.process != nil && p.process.Running() }

func (p *participant) say(l control.Line) {
	if p.program.Drive != plan.NoDrive && p.process != nil && !p.process.Say(l.Encode()) {
		p.facts.unsaid++
	}
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
	switch {
	case r.Joined == p.name:
		p.returned(r.T)
	case r.Left == p.name:
		p.departed(r.T)
	}
	p.record(r)
}

// presume takes a client that tells no trace to be in the match as soon as it is ready and has spoken
// with the server.
func (p *participant) presume() {
	if p.asked > 0 && p.running() && !p.mirror.inside && (p.facts.down > 0 || p.program == &p.match.build.Host) && p.match.readyCheck(p).done() {
		p.take(&trace.Record{T: p.match.stage.now(), Joined: p.name})
	}
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
