package match

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
)

// What breaks while a match goes on: programs that end by themselves, ways of trace
// lines, and processes that stand still.

// broke keeps that something broke, and returns it.
func (m *buildMatch) broke(kind ending.Kind, p *participant, at time.Duration, how string) *ending.Break {
	b := ending.Break{Kind: kind, View: p.name, At: trace.Seconds(max(0, at).Round(time.Microsecond)), How: how}
	if kind == ending.Crashed || kind == ending.Quit {
		b.Log = slices.Clone(p.facts.tail)
	}
	m.tell("%s", b)
	m.ending.Breaks = append(m.ending.Breaks, b)
	return &m.ending.Breaks[len(m.ending.Breaks)-1]
}

// sign notes that a participant gave a sign of life.
func (p *participant) sign(t time.Duration) { p.signed = max(p.signed, t) }

// ended takes in that its process has ended.
func (p *participant) ended(process program) {
	if process != p.process {
		return
	}
	m := p.match
	how, asked := process.Exit()
	inside := p.mirror.inside
	if inside && !m.over {
		ended := m.now()
		if p.gone() { // of its machine nothing has been heard for a while
			ended = max(p.latest, min(ended, p.signed))
		}
		p.take(&trace.Record{T: ended, Checkpoint: trace.EndMark, ID: how})
	}
	leaving := p.leaves > 0
	p.leaves = 0
	p.closed = nil
	p.mirror.forget()
	if !asked && !leaving && !m.over {
		p.died(how, process.Failed(), inside)
	}
}

// died takes in that its process has ended by itself.
func (p *participant) died(how string, failed, inside bool) {
	m := p.match
	text := fmt.Sprintf("%s ended by itself (%s)", p.title(), how)
	if p.gone() {
		m.lost(p, how)
		return
	}
	serves := p == m.server || m.server != nil && p == m.clockSource()
	switch {
	case !m.began:
		m.fail(p, text)
	case serves && !failed && !m.anybodyIn():
		m.tell("the server ended when nobody was in the match")
		m.early = true
	case serves && p.program.Restart > 0:
		b := m.broke(ending.Crashed, p, m.now(), how)
		b.Back = b.At + trace.Seconds(p.program.Restart)
		p.restartAt = time.Duration(b.Back)
	case serves:
		m.broke(ending.Crashed, p, m.now(), how)
		m.fail(p, text)
	case !p.facts.everIn && !m.othersGotIn(p):
		m.fail(p, text)
	case failed:
		m.broke(ending.Crashed, p, m.now(), how)
		p.asked = 0
	case inside && p.asked > 0:
		m.broke(ending.Quit, p, m.now(), fmt.Sprintf("%s; its bot was to stay until %s", how, trace.Seconds(p.staysUntil(m.now()))))
		p.asked = 0
	default: // as a program may whose player leaves
		m.tell("%s, after its player had left", text)
		p.asked = 0
	}
}

// staysUntil is until when its bot, which is in, was to stay.
func (p *participant) staysUntil(now time.Duration) time.Duration {
	for _, s := range p.steps.Steps {
		if s.Do == bot.Leave && s.At > now {
			return s.At
		}
	}
	return p.match.plan.Duration
}

// departed takes in that its client says that it left: by itself, if nobody had asked it to.
func (p *participant) departed(at time.Duration) {
	if m := p.match; p.asked > 0 && m.began && !m.over {
		m.broke(ending.Departed, p, at, "")
	}
}

// returned takes in that its client says that it is in.
func (p *participant) returned(at time.Duration) {
	if b := p.match.ending.BreakOf(ending.Departed, p.name); b != nil && b.Back == 0 {
		b.Back = trace.Seconds(at.Round(time.Microsecond))
	}
}

func (m *buildMatch) anybodyIn() bool {
	return slices.ContainsFunc(m.bots, func(b *participant) bool { return b.mirror.inside })
}

// othersGotIn reports whether another client of the same program got in: then the
// program can be played with, and its end is the game's fault.
func (m *buildMatch) othersGotIn(p *participant) bool {
	return slices.ContainsFunc(m.bots, func(b *participant) bool { return b != p && b.program == p.program && b.facts.everIn })
}

// restart starts the server again when that is due.
func (m *buildMatch) restart(now time.Duration) error {
	s := m.server
	if s == nil || s.restartAt == 0 || now < s.restartAt {
		return nil
	}
	s.restartAt = 0
	m.tell("the server is started again")
	return s.start()
}

// closing is that the way of a participant's trace lines was closed.
type closing struct {
	at     time.Duration
	how    string
	broken bool // it has been said
}

// reopensWithin is how long a program has to connect again, or to end, before its trace
// counts as broken.
const reopensWithin = time.Second

// traceClosed takes in that nothing more can come the way trace lines came.
func (p *participant) traceClosed(l process.Line) {
	p.closed = &closing{at: l.At.Sub(p.match.base) - p.match.zero, how: string(l.Text)}
}

// traceLost says that a trace has broken off, when that is certain.
func (p *participant) traceLost(now time.Duration) {
	c := p.closed
	if c == nil || c.broken || now-c.at < reopensWithin || !p.running() || p.leaves > 0 || p != p.match.server && !p.mirror.inside {
		return
	}
	c.broken = true
	p.match.broke(ending.TraceBroken, p, c.at, c.how+", while the program goes on")
}

// heard takes in that a line came of a trace: one that had broken off goes on.
func (p *participant) heard(at time.Duration) {
	p.sign(at)
	if c := p.closed; c != nil {
		if c.broken {
			if b := p.match.ending.BreakOf(ending.TraceBroken, p.name); b != nil {
				b.Back = trace.Seconds(at.Round(time.Microsecond))
			}
		}
		p.closed = nil
	}
}

// notice looks once more at everybody when the match is over: a process that stands
// still says nothing of it.
func (m *buildMatch) notice() {
	if !m.began {
		return
	}
	if m.server != nil && m.plan.Untraced() { // it has been there until now, and nothing else says so
		m.server.record(&trace.Record{T: m.now(), Full: true})
	}
	for _, p := range m.participants {
		p.traceLost(m.now())
		if p.running() && p.machine == nil && process.Stopped(p.process.PID()) {
			m.broke(ending.Silent, p, p.signed, "its process is stopped")
		}
	}
	slices.SortStableFunc(m.ending.Breaks, func(a, b ending.Break) int { return int(a.At - b.At) })
}

// title is how messages call it.
func (p *participant) title() string {
	if p == p.match.server {
		return "the server"
	}
	return p.name + "'s client"
}
