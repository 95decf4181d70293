package stage

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"zitherwheel/build"
	"zitherwheel/drive"
	"zitherwheel/plan"
	"zitherwheel/trace"
)

// Step is one step of a preflight, as it went.
type Step struct {
	Name    string        `json:"step"`
	Tried   string        `json:"tried"`
	Came    string        `json:"came,omitempty"`
	Wrong   string        `json:"wrong,omitempty"`
	Hint    string        `json:"hint,omitempty"`
	Log     []string      `json:"log,omitempty"` // the last log lines of the process concerned
	Skipped bool          `json:"skipped,omitempty"`
	Took    time.Duration `json:"-"`
	TookMs  float64       `json:"took_ms"`
}

// Preflight brings a build up step by step, in the order in which people meet what
// can be wrong, and stops at the first thing that is. It hands every step to each
// as it was done, and reports whether all went well.
func Preflight(ctx context.Context, p *plan.Plan, options Options, each func(Step)) (bool, error) {
	m, err := newReal(p, options)
	if err != nil {
		return false, err
	}
	m.views = nil
	for _, party := range m.parties {
		party.view = -1 // nothing is recorded
	}
	if m.guard, err = build.NewGuard(options.Guard...); err != nil {
		return false, err
	}
	defer func() {
		m.over = true
		m.stop()
	}()
	f := &preflight{real: m, ctx: ctx, each: each}
	ok := f.all(m.serverChecks()...) && f.begin() && f.players()
	return ok && ctx.Err() == nil, ctx.Err()
}

// preflight is a preflight under way.
type preflight struct {
	*real
	ctx  context.Context
	each func(Step)
}

func (f *preflight) all(checks ...check) bool {
	for _, c := range checks {
		if !f.one(c) {
			return false
		}
	}
	return true
}

// one carries out a check and tells how it went.
func (f *preflight) one(c check) bool {
	began := time.Now()
	err := f.carryOut(f.ctx, c)
	took := time.Since(began)
	s := Step{Name: c.name, Tried: c.tried, Took: took, TookMs: float64(took.Microseconds()) / 1e3}
	var wrong *Wrong
	switch {
	case err == nil:
		s.Came = c.came()
	case errors.As(err, &wrong):
		s.Wrong, s.Hint, s.Log = wrong.Why, wrong.Hint, wrong.Log
	default:
		s.Wrong = "interrupted"
	}
	f.each(s)
	return err == nil
}

func (f *preflight) skip(name, why string) bool {
	f.each(Step{Name: name, Tried: "not tried", Came: why, Skipped: true})
	return true
}

func (f *preflight) begin() bool {
	if err := f.real.begin(); err != nil {
		f.each(Step{Name: "the relay listens", Tried: "a port for every bot", Wrong: err.Error()})
		return false
	}
	return true
}

// players goes through the checks of a first client, and of a second one.
func (f *preflight) players() bool {
	first := f.bots[0]
	if !f.enter(first) || !f.rules(first) || !f.inputs(first) {
		return false
	}
	if len(f.bots) < 2 {
		return f.skip("a second client", "the plan has only one bot")
	}
	second := f.bots[1]
	return f.enter(second) && f.meet(first, second) && f.only(first, second) && f.leave(first, second)
}

// enter brings a client into the match.
func (f *preflight) enter(p *party) bool {
	key := "client"
	if p.program == &f.build.Host {
		key = "host"
	}
	if p.process == nil && !f.all(f.startChecks(p, key)...) {
		return false
	}
	p.asked = max(f.now(), 1)
	p.say(drive.Line{Do: drive.Join})
	return f.all(f.clientChecks(p)...)
}

// rules checks that there is something for the watch rules to compare.
func (f *preflight) rules(p *party) bool {
	return f.one(check{name: "the fields fit the watch rules", tried: fmt.Sprintf("%d rules on both pictures", len(f.plan.Rules.Fields)), within: 3 * time.Second, party: p,
		done: func() bool {
			fit, unfit := f.judged(p)
			return len(fit) > 0 && (len(unfit) == 0 || f.now() > p.started+3*time.Second)
		},
		came: func() string {
			fit, unfit := f.judged(p)
			if len(unfit) == 0 {
				return fmt.Sprintf("each of the %d judged ones finds something", len(fit))
			}
			return fmt.Sprintf("%d find something; nothing yet for %s", len(fit), strings.Join(unfit, ", "))
		},
		lacks: func() string { return "no rule fits anything that both sides say; the client says " + some(&p.mirror) },
		hint:  "the names under watch: must be those of the trace"})
}

// some names a few fields of a picture.
func some(m *mirror) string {
	var list []string
	for _, e := range m.entities() {
		for _, field := range fieldsOf(m, e) {
			if list = append(list, m.names.EntityID(e)+"."+field); len(list) == 6 {
				return strings.Join(list, ", ") + ", ..."
			}
		}
	}
	if list == nil {
		return "nothing at all"
	}
	return strings.Join(list, ", ")
}

// moved is how far a thing must go for its going to count.
const moved = 0.05

// picture is whose picture tells what the server believes.
func (f *preflight) picture(p *party) *mirror {
	if f.server != nil && f.server.traced() {
		return &f.server.mirror
	}
	return &p.mirror
}

// inputs checks that the client's inputs arrive.
func (f *preflight) inputs(p *party) bool {
	name := p.name + ": its inputs arrive"
	if !p.drivable() {
		return f.skip(name, "it reads no control lines")
	}
	picture := f.picture(p)
	own := p.mirror.own
	if s := f.server; s != nil {
		own = f.names.Entity(s.facts.entities[p.name])
	}
	fromX, fromY, placed := picture.place(own)
	if !placed {
		return f.skip(name, fmt.Sprintf("%s has no place; name its fields under build: place:", f.names.EntityID(own)))
	}
	far := func() float64 {
		x, y, _ := picture.place(own)
		return math.Hypot(x-fromX, y-fromY)
	}
	ahead := drive.Line{Do: drive.Input, Seq: 1, Move: 1, Hold: []string{"forward"}}
	ok := f.one(check{name: name, tried: string(ahead.Encode()), within: 3 * time.Second, party: p,
		begin: func() error { p.say(ahead); return nil },
		done:  func() bool { return far() > moved },
		came:  func() string { return fmt.Sprintf("the server moved %s by %.2f", f.names.EntityID(own), far()) },
		lacks: func() string { return fmt.Sprintf("%s has not moved in the server's picture", f.names.EntityID(own)) },
		hint:  "does it read control lines (docs/driving.md), and send what they say?"})
	p.say(drive.Line{Do: drive.Input, Seq: 2})
	return ok
}

// meet checks that two clients see each other.
func (f *preflight) meet(a, b *party) bool {
	sees := func(who, whom *party) bool {
		return who.mirror.has(f.names.Entity(whom.facts.entities[whom.name]))
	}
	return f.one(check{name: b.name + " and " + a.name + " see each other", tried: "each one's entity in the other's picture", within: 5 * time.Second, party: b,
		done: func() bool { return sees(a, b) && sees(b, a) },
		came: func() string { return a.facts.entities[a.name] + " and " + b.facts.entities[b.name] },
		lacks: func() string {
			if !sees(b, a) {
				return fmt.Sprintf("%s, who came later, has no %s", b.name, a.facts.entities[a.name])
			}
			return fmt.Sprintf("%s has no %s, who came later", a.name, b.facts.entities[b.name])
		},
		hint: "is whoever comes later told what is there already, and are the others told of him?"})
}

// only checks that inputs move nobody else.
func (f *preflight) only(a, b *party) bool {
	name := a.name + ": its inputs move only its own"
	picture := f.picture(a)
	own, other := f.names.Entity(a.facts.entities[a.name]), f.names.Entity(b.facts.entities[b.name])
	fromX, fromY, placed := picture.place(own)
	otherX, otherY, _ := picture.place(other)
	if !a.drivable() || !placed {
		return f.skip(name, "its inputs were not tried")
	}
	gone := func(e trace.Entity, x, y float64) float64 {
		nowX, nowY, _ := picture.place(e)
		return math.Hypot(nowX-x, nowY-y)
	}
	ok := f.one(check{name: name, tried: "the same input, while " + b.name + " does nothing", within: 3 * time.Second, party: a,
		begin: func() error {
			a.say(drive.Line{Do: drive.Input, Seq: 3, Move: 1, Hold: []string{"forward"}})
			return nil
		},
		done: func() bool { return gone(own, fromX, fromY) > 10*moved },
		came: func() string {
			return fmt.Sprintf("its own by %.2f, %s by %.2f", gone(own, fromX, fromY), b.facts.entities[b.name], gone(other, otherX, otherY))
		},
		lacks: func() string { return "its own did not move" }})
	a.say(drive.Line{Do: drive.Input, Seq: 4})
	if by := gone(other, otherX, otherY); ok && by > moved {
		f.each(Step{Name: name, Tried: "how far the other moved", Wrong: fmt.Sprintf("%s moved by %.2f with nobody's input", b.facts.entities[b.name], by),
			Hint: "whose keys are read for whose entity?"})
		return false
	}
	return ok
}

// leave checks that who leaves is gone everywhere.
func (f *preflight) leave(stays, leaves *party) bool {
	e := f.names.Entity(leaves.facts.entities[leaves.name])
	return f.one(check{name: leaves.name + ": when it leaves, it is gone everywhere", tried: `{"do":"leave"}`, within: 12 * time.Second, party: leaves,
		begin: func() error { leaves.leave(f.now()); return nil },
		done:  func() bool { return !stays.mirror.has(e) && !f.picture(stays).has(e) },
		came:  func() string { return "nobody has " + f.names.EntityID(e) + " any more" },
		lacks: func() string {
			if f.picture(stays).has(e) {
				return "the server still has " + f.names.EntityID(e)
			}
			return stays.name + " still has " + f.names.EntityID(e)
		},
		hint: "are the others told that he is gone, also if he only falls silent?"})
}
