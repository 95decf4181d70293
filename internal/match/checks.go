package match

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/match/supervisor"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// check is one thing that must be right before a match means anything: what is
// tried, when it has come, and what is wrong if it has not. A run goes through the
// same checks as a preflight.
type check struct {
	name        string
	tried       string
	within      time.Duration
	begin       func() error  // or nil
	done        func() bool   // whether it has come
	came        func() string // what has come
	lacks       func() string // what is wrong as long as it has not
	hint        string        // what to try then
	participant *participant  // whose log lines tell more; nil if nobody's do
}

// Wrong is a check that failed.
type StepError struct {
	Check string
	Why   string
	Hint  string
	Log   []string
}

func (w *StepError) Error() string {
	text := w.Check + ": " + w.Why
	if w.Hint != "" {
		text += "; " + w.Hint
	}
	return text
}

// carryOut tries a check until it has come or its time is over.
func (m *buildMatch) carryOut(ctx context.Context, c check) error {
	wrong := func(why string) error {
		w := &StepError{Check: c.name, Why: why, Hint: c.hint}
		if c.participant != nil {
			// What a program said at its end may still be on its way.
			m.settle(ctx, 50*time.Millisecond)
			w.Log = slices.Clone(c.participant.facts.tail)
			m.ending.Log = w.Log
		}
		return w
	}
	if c.begin != nil {
		err := c.begin()
		var refused *supervisor.RefusedError
		if errors.As(err, &refused) { // that is nothing that a check could help with
			return err
		}
		if err != nil {
			return wrong(err.Error())
		}
	}
	until := m.stage.now() + c.within
	err := m.pump(ctx, func() (bool, error) {
		switch {
		case c.done():
			return true, nil
		case m.ending.Why != "":
			return false, wrong(m.ending.Why)
		case m.stage.now() > until:
			return false, wrong(c.lacks())
		}
		return false, nil
	})
	if err == nil && m.ending.Why != "" {
		err = wrong(m.ending.Why)
	}
	return err
}

// settle lets what happens happen for a while.
func (m *buildMatch) settle(ctx context.Context, d time.Duration) {
	until := m.stage.now() + d
	_ = m.pump(ctx, func() (bool, error) { return m.stage.now() > until, nil }) // an interrupt shows in the next step
}

// staysUp is how long a program must run to count as started.
const staysUp = 150 * time.Millisecond

// startChecks are those of a program that is to be started.
func (m *buildMatch) startChecks(p *participant, key string) []check {
	var words []string
	for _, word := range p.program.Run {
		words = append(words, plan.Fill(word, p.values("")))
	}
	command := strings.Join(words, " ")
	return []check{
		{name: p.name + ": the program is found", tried: words[0], participant: nil,
			begin: func() error {
				err := p.start()
				var missing *process.NotFoundError
				if errors.As(err, &missing) {
					return fmt.Errorf("%s: %w", missing.Program, missing.Err)
				}
				return err
			},
			done: p.hasStarted, came: p.startedAs, lacks: func() string { return "" },
			hint: fmt.Sprintf("build: %s: run: names it; paths are relative to the build's folder %s", key, m.build.Folder)},
		{name: p.name + ": it stays up", tried: command, within: time.Second, participant: p,
			done:  func() bool { return p.running() && m.now()-p.started >= staysUp },
			came:  func() string { return "it runs" },
			lacks: func() string { return fmt.Sprintf("%s ended at once", p.title()) },
			hint:  "start it by hand with the same words and see what it says"},
	}
}

func (p *participant) hasStarted() bool { return p.process != nil }

// readyCheck waits until a program is ready.
func (m *buildMatch) readyCheck(p *participant) check {
	ready := p.program.Ready
	var wanted []string
	for _, w := range []struct {
		is   bool
		text string
	}{{ready.Log != "", fmt.Sprintf("a log line like %q", ready.Log)}, {ready.Line, "a trace line"}, {ready.Port, "its ports to be open"}, {ready.After > 0, ready.After.String() + " to pass"}} {
		if w.is {
			wanted = append(wanted, w.text)
		}
	}
	tried := "nothing is waited for"
	if len(wanted) > 0 {
		tried = "waiting for " + strings.Join(wanted, " and ")
	}
	lacking := func() string {
		switch {
		case ready.Log != "" && !p.facts.readyLog:
			return fmt.Sprintf("no log line like %q", ready.Log)
		case ready.Line && p.facts.lines == 0:
			return "no trace line"
		case ready.Port && !m.portsOpen():
			return fmt.Sprintf("nothing listens at %s", strings.Join(m.addresses, ", "))
		case m.now()-p.started < ready.After:
			return "not long enough yet"
		}
		return ""
	}
	return check{name: p.name + ": it is ready", tried: tried, within: ready.Within, participant: p,
		done:  func() bool { return lacking() == "" },
		came:  func() string { return "ready" },
		lacks: func() string { return fmt.Sprintf("not ready after %v: %s", ready.Within, lacking()) },
		hint:  "say under ready: by what it is known, or give it longer with within:"}
}

// portsOpen reports whether the server listens at all of its TCP ports. Where that cannot
// be told it is not waited for.
func (m *buildMatch) portsOpen() bool {
	for i, p := range m.build.Ports {
		if bound, known := m.bound(i); p.Network == "tcp" && known && !bound {
			return false
		}
	}
	return true
}

// bound reports whether somebody listens at a port of the server, and whether that can be
// told. Nothing is sent: a server may take an empty datagram, or a connection that is
// closed at once, for a player's.
func (m *buildMatch) bound(i int) (bound, known bool) {
	at, err := resolve(m.addresses[i])
	if err != nil {
		return false, false
	}
	return m.stage.bound(m.build.Ports[i].Network, at)
}

// attachWithin is how long is waited for a server that is only attached to, and that was started
// just now, perhaps, to listen.
const attachWithin = 2 * time.Second

// portCheck looks whether anybody listens at one of the server's ports.
func (m *buildMatch) portCheck(i int) check {
	port, address := m.build.Ports[i], m.addresses[i]
	state := ""
	asked := time.Duration(-1)
	return check{name: "server: port " + port.Name + " is open", tried: port.Network + " " + address, within: 3 * time.Second, participant: m.server,
		done: func() bool {
			bound, known := m.bound(i)
			if asked < 0 {
				asked = m.stage.now()
			}
			switch {
			case !known:
				state = "not known: it is on another machine, and nothing is sent there unasked"
			case bound:
				state = "somebody listens there"
			case m.build.Attach != "": // perhaps addresses are translated on the way
				state = "not known: this machine's list of sockets has nobody there"
			default:
				state = "nobody listens there"
			}
			return bound || !known || m.build.Attach != "" && m.stage.now()-asked > attachWithin
		},
		came: func() string { return state }, lacks: func() string { return state },
		hint: "does the server listen at {host}:{port}, and on " + port.Network + "?"}
}

// clientChecks are what must be right about a client that is to be in the match, in
// the order in which things go wrong. They hold for one that was started.
func (m *buildMatch) clientChecks(p *participant) []check {
	within := p.program.Ready.Within
	refused := 0
	checks := []check{
		{name: p.name + ": its packets reach the relay", tried: strings.Join(p.at, ", "), within: within, participant: p,
			done: func() bool { return p.facts.up > 0 }, came: func() string { return count(p.facts.up, "packet") + " from it" },
			lacks: func() string { return "no packet has come from it" },
			hint:  "it must connect to {host}:{port}, which is the relay and not the server itself"},
		{name: p.name + ": the server answers it", tried: "packets in both directions", within: within, participant: m.server,
			done: func() bool { return p.facts.down > p.lost(link.Down) }, came: func() string { return fmt.Sprintf("%d up, %d down", p.facts.up, p.facts.down) },
			lacks: func() string {
				if by := p.lostAll(); by != "" {
					return by
				}
				if refused = m.wire.carrier.Stats().Refused; refused > 0 {
					return fmt.Sprintf("%s went to the server, whose port refused %d", count(p.facts.up, "packet"), refused)
				}
				return fmt.Sprintf("%s went to the server and none came back", count(p.facts.up, "packet"))
			},
			hint: "does the server speak the client's version of the protocol? its log may tell"},
		{name: p.name + ": its trace lines are well formed", tried: "trace lines from " + traceOf(p.program), within: within, participant: p,
			done: func() bool { return p.facts.lines > 0 }, came: func() string { return lineCount(p) },
			lacks: func() string { return lacksLines(p) },
			hint:  "see docs/trace-lines.md for what it has to print"},
		{name: p.name + ": it says that it is in", tried: fmt.Sprintf(`{"joined":%q,"entity":...} in its trace`, p.name), within: within, participant: p,
			done: func() bool { return p.facts.everIn }, came: func() string {
				if p.spectates() {
					return "it watches: its line names no entity"
				}
				return "its own is " + p.facts.entities[p.name]
			},
			lacks: func() string {
				if p.refused() {
					return "the server refused it"
				}
				return "it has not said that it joined"
			},
			hint: "its log may tell why it did not get in"},
	}
	if m.plan.Untraced() {
		checks = append(checks[:2], check{name: p.name + ": it is in", tried: m.readyCheck(p).tried, within: within, participant: p,
			done: func() bool { return p.facts.everIn }, came: func() string { return "in, as far as that tells" },
			lacks: func() string { return m.readyCheck(p).lacks() },
			hint:  "say under client: ready: by which line of its log it is known to be in, or after what time"})
	}
	if p.program == &m.build.Host { // nothing of it goes through the relay
		checks = checks[2:]
	}
	if s := m.server; s != nil && s.traced() {
		checks = append(checks,
			check{name: "server: its trace lines are well formed", tried: "trace lines from " + traceOf(s.program), within: within, participant: s,
				done: func() bool { return s.facts.lines > 0 }, came: func() string { return lineCount(s) },
				lacks: func() string { return lacksLines(s) },
				hint:  "see docs/trace-lines.md for what it has to print"},
			check{name: p.name + ": the server says that it is in", tried: fmt.Sprintf(`{"joined":%q} in the server's trace`, p.name), within: within, participant: s,
				done: func() bool { return s.facts.joins[p.name] > 0 || p.spectates() }, came: func() string {
					if s.facts.joins[p.name] == 0 {
						return "it watches, and the server counts it as no player"
					}
					return "as " + s.facts.entities[p.name]
				},
				lacks: func() string { return "the server has not said that it joined" },
				hint:  "the client believes it is in, and the server does not; do both say the same name?"},
			check{name: p.name + ": it is there exactly once", tried: "its entity in both snapshots", within: within, participant: s,
				done: func() bool { return m.spawned(p) == "" }, came: func() string {
					if p.spectates() {
						return "it has none, on either side"
					}
					return s.facts.entities[p.name] + " on both sides"
				},
				lacks: func() string { return m.spawned(p) },
				hint:  "joined must name the player's own entity, and the state must have it"})
	}
	return checks
}

// lost is how many packets of its own the link lost in a direction.
func (p *participant) lost(d link.Direction) int {
	if p.view < 0 || p.view >= len(p.match.progress) {
		return 0
	}
	return p.match.progress[p.view][d].Lost
}

// lostAll says that its link lost whatever was sent in a direction, or is "".
func (p *participant) lostAll() string {
	switch {
	case p.facts.up > 0 && p.lost(link.Up) == p.facts.up:
		return fmt.Sprintf("its link lost %s to the server", all(p.facts.up, "packet"))
	case p.facts.down > 0 && p.lost(link.Down) == p.facts.down:
		return fmt.Sprintf("its link lost %s from the server", all(p.facts.down, "packet"))
	}
	return ""
}

// all writes a number of things that are all there are.
func all(n int, thing string) string {
	if n == 1 {
		return "the only " + thing
	}
	return "all " + count(n, thing)
}

// startedAs is what its process is.
func (p *participant) startedAs() string {
	if p.machine != nil {
		return "started on " + p.machine.Name
	}
	return fmt.Sprintf("started as process %d", p.process.PID())
}

// spectates reports whether its player only watches: it is in, and has no entity.
func (p *participant) spectates() bool { return p.facts.everIn && p.facts.entities[p.name] == "" }

// traced reports whether trace lines of a view can come.
func (p *participant) traced() bool {
	return p.program.Trace != plan.NoTrace || p == p.match.server && p.match.clockSource() != p
}

func traceOf(g *plan.Program) string {
	switch g.Trace {
	case plan.OutputTrace:
		return "its standard output"
	case plan.SocketTrace:
		return "its connection to ZWHEEL_TRACE"
	case plan.NoTrace:
		return "the host"
	}
	return g.Trace
}

func lineCount(p *participant) string {
	text := count(p.facts.lines, "line")
	if p.facts.malformed > 0 {
		text += fmt.Sprintf("; %d malformed, the first: %s", p.facts.malformed, p.facts.firstBad)
	}
	return text
}

// count writes a number of things.
func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

func lacksLines(p *participant) string {
	switch {
	case p.facts.malformed > 0:
		return fmt.Sprintf("%d lines and all malformed, the first: %s", p.facts.malformed, p.facts.firstBad)
	case p.program.Trace == plan.SocketTrace && p.process != nil && !p.process.Connected():
		return "it has not connected to the address in ZWHEEL_TRACE"
	case len(p.facts.tail) > 0:
		return "no trace line has come, only log text"
	}
	return "no trace line has come"
}

// spawned says what is wrong with a player's entity, or "".
func (m *buildMatch) spawned(p *participant) string {
	s := m.server
	entity := s.facts.entities[p.name]
	switch {
	case p.spectates() && entity == "":
		return ""
	case entity == "":
		return "the server's line with joined names no entity"
	case p.facts.entities[p.name] != entity:
		return fmt.Sprintf("its own is %q to the client and %q to the server", p.facts.entities[p.name], entity)
	case s.facts.joins[p.name] > p.facts.started:
		return fmt.Sprintf("the server says %d times that it joined, and it was started %d times", s.facts.joins[p.name], p.facts.started)
	case !s.mirror.has(m.names.Entity(entity)):
		return fmt.Sprintf("the server's snapshot has no %s%s", entity, malformed(s))
	case !p.mirror.has(m.names.Entity(entity)):
		return fmt.Sprintf("the client's snapshot has no %s%s", entity, malformed(p))
	}
	return ""
}

// malformed says what was not understood of what a program told, as far as that may be why something is missing.
func malformed(p *participant) string {
	if p.facts.malformed == 0 {
		return ""
	}
	return "; it told " + lineCount(p)
}

// whyOut says why a bot's client has not got into the match, by the first of the
// checks that fails, and whose log may tell more.
func (p *participant) whyOut() (why string, whose *participant) {
	if p.process == nil {
		return "it was never started", nil
	}
	if how, asked := p.process.Exit(); how != "" && !asked {
		return fmt.Sprintf("%s ended by itself (%s)", p.title(), how), p
	}
	for _, c := range p.match.clientChecks(p) {
		if !c.done() {
			hint := c.hint
			if p.lostAll() != "" {
				hint = "that is the link that the plan gives it, and no fault of the server's"
			}
			return fmt.Sprintf("the first step that fails is %q: %s; %s", strings.TrimPrefix(c.name, p.name+": "), c.lacks(), hint), c.participant
		}
	}
	return "", nil
}

// serverChecks bring the server up, or find the one that runs already.
func (m *buildMatch) serverChecks() (checks []check) {
	if m.server != nil {
		if source := m.clockSource(); source == m.server {
			checks = append(m.startChecks(source, rulebook.Server), m.readyCheck(source))
		} else {
			checks = append(m.startChecks(source, "host"), m.readyCheck(source))
		}
	}
	for i := range m.build.Ports {
		checks = append(checks, m.portCheck(i))
	}
	return checks
}

// bringUp starts the server and the clients whose processes stay, and begins the
// match.
func (m *buildMatch) bringUp(ctx context.Context) error {
	for _, c := range m.serverChecks() {
		if err := m.carryOut(ctx, c); err != nil {
			return err
		}
	}
	m.tell("the server is ready after %.3f s", m.stage.now().Seconds())
	if err := m.begin(); err != nil {
		return err
	}
	// Programs that stay are there from the beginning.
	for _, b := range m.bots {
		if b.program.KeepRunning && b.process == nil {
			if err := b.start(); err != nil {
				return fmt.Errorf("%s: %w", b.title(), err)
			}
		}
	}
	return nil
}

// judged lists the watch rules, and which of them apply to something in both the
// server's snapshot and a client's.
func (m *buildMatch) judged(p *participant) (fit, unfit []string) {
	for _, rule := range m.plan.Rules.Fields {
		if !rule.Judged() {
			continue
		}
		label := rule.Entities + " " + rule.Label()
		found := func(view *mirror) bool {
			for e, fields := range view.things {
				own := e == p.mirror.own
				id := m.names.EntityID(e)
				for _, name := range rule.Fields {
					if !rule.Fits(id, own, name) {
						continue
					}
					if v, ok := fields[m.names.Field(name)]; name == "existence" || ok && v.Kind() != trace.KindNull {
						return true
					}
				}
			}
			return false
		}
		if found(&p.mirror) && (m.server == nil || !m.server.traced() || found(&m.server.mirror)) {
			fit = append(fit, label)
		} else {
			unfit = append(unfit, label)
		}
	}
	return fit, unfit
}
