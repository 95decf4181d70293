package match

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/control"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Step is one step of a preflight, as it went.
type Step struct {
	Name     string        `json:"step"`
	Tried    string        `json:"tried"`
	Observed string        `json:"observed,omitempty"`
	Error    string        `json:"error,omitempty"`
	Hint     string        `json:"hint,omitempty"`
	Log      []string      `json:"log,omitempty"` // the last log lines of the process concerned
	Skipped  bool          `json:"skipped,omitempty"`
	Took     time.Duration `json:"-"`
	TookMs   float64       `json:"took_ms"`
}

// Preflight brings a build up step by step, in the order in which people meet what
// can be wrong, and stops at the first thing that is. It hands every step to each
// as it was done, and reports whether all went well.
func Preflight(ctx context.Context, p *plan.Plan, options Options, each func(Step)) (bool, error) {
	if err := Playable(p); err != nil {
		return false, err
	}
	var ok bool
	var err error
	onItsThread(p, func() { ok, err = bringUpStepByStep(ctx, p, options, each) })
	return ok, err
}

func bringUpStepByStep(ctx context.Context, p *plan.Plan, options Options, each func(Step)) (bool, error) {
	m, err := newBuild(ctx, p, options)
	if err != nil {
		return false, err
	}
	m.views = nil
	for _, participant := range m.participants {
		participant.view = -1 // nothing is recorded
	}
	defer func() {
		m.over = true
		m.stop()
	}()
	f := &preflight{buildMatch: m, ctx: ctx, each: each}
	ok := f.reached() && f.all(m.serverChecks()...) && f.begin() && f.players()
	return ok && ctx.Err() == nil, ctx.Err()
}

// preflight is a preflight under way.
type preflight struct {
	*buildMatch
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
	var wrong *StepError
	switch {
	case err == nil:
		s.Observed = c.came()
	case errors.As(err, &wrong):
		s.Error, s.Hint, s.Log = wrong.Why, wrong.Hint, wrong.Log
	default:
		s.Error = "interrupted"
	}
	f.each(s)
	return err == nil
}

func (f *preflight) skip(name, why string) bool {
	f.each(Step{Name: name, Tried: "not tried", Observed: why, Skipped: true})
	return true
}

func (f *preflight) begin() bool {
	if err := f.buildMatch.begin(); err != nil {
		f.each(Step{Name: "the relay listens", Tried: "a port for every bot", Error: err.Error()})
		return false
	}
	return true
}

// reached tells how other machines are.
func (f *preflight) reached() bool {
	for _, machine := range f.machines {
		clock := machine.Clock()
		f.each(Step{Name: machine.Name + " is reached", Tried: fmt.Sprintf("%d times, for what time it is there", clock.Exchanges),
			Observed: fmt.Sprintf("its clock is %v off, and that is known to %.1f ms", clock.Offset.Round(time.Millisecond), float64(clock.Error.Microseconds())/1e3)})
	}
	return true
}

// second is the second client that is tried: rather one that runs elsewhere than the first.
func (f *preflight) second() *participant {
	for _, b := range f.bots[1:] {
		if b.machine != nil && b.machine != f.bots[0].machine {
			return b
		}
	}
	return f.bots[1]
}

// elsewhere tries a client on each machine of which none was tried.
func (f *preflight) elsewhere(tried ...*participant) bool {
	for _, machine := range f.machines {
		on := func(p *participant) bool { return p.machine == machine }
		if slices.ContainsFunc(tried, on) {
			continue
		}
		p := f.bots[slices.IndexFunc(f.bots, on)]
		if !f.start(p) || !f.all(f.clientChecks(p)...) {
			return false
		}
	}
	return true
}

// players goes through the checks of a first client, and of a second one. A match that
// begins only with the second is waited for with both.
func (f *preflight) players() bool {
	first := f.bots[0]
	if !f.start(first) {
		return false
	}
	together := false
	if len(f.bots) > 1 && !f.comesIn(first) {
		second := f.second()
		f.skip(first.name+": it is in the match alone", fmt.Sprintf("it was not, after %v; perhaps the match begins with a second player, so %s joins too", aloneFor, second.name))
		if !f.start(second) {
			return false
		}
		together = true
	}
	if f.plan.Untraced() {
		return f.all(f.clientChecks(first)...) && (len(f.bots) < 2 || (together || f.start(f.second())) && f.all(f.clientChecks(f.second())...)) &&
			f.skip("what clients show", "no program tells a trace, so it is not known; docs/integrating.md says how to go on from here")
	}
	if !f.all(f.clientChecks(first)...) || !f.rules(first) || !f.inputs(first) {
		return false
	}
	if len(f.bots) < 2 {
		return f.skip("a second client", "the plan has only one bot")
	}
	second := f.second()
	if !together && !f.start(second) {
		return false
	}
	return f.all(f.clientChecks(second)...) && f.meet(first, second) && f.only(first, second) && f.leave(first, second) && f.elsewhere(first, second)
}

// aloneFor is how long a first client is waited for before a second one is started.
const aloneFor = 3 * time.Second

// comesIn waits for a client that is alone to get into the match, as long as nothing shows
// that it cannot.
func (f *preflight) comesIn(p *participant) bool {
	until := f.stage.now() + min(aloneFor, p.program.Ready.Within)
	_ = f.pump(f.ctx, func() (bool, error) { // an interrupt shows in the next step
		return p.facts.everIn || !p.running() || f.ending.Why != "" || f.stage.now() > until, nil
	})
	// One that never got as far as the server is no matter of how many there are.
	return p.facts.everIn || !p.running() || p.program != &f.build.Host && (p.facts.up == 0 || f.wire.carrier.Stats().Refused > 0) || p.refused() || f.ctx.Err() != nil
}

// start starts a client and asks it to join.
func (f *preflight) start(p *participant) bool {
	key := "client"
	if p.program == &f.build.Host {
		key = "host"
	}
	if p.process == nil && !f.all(f.startChecks(p, key)...) {
		return false
	}
	p.asked = max(f.now(), 1)
	p.say(control.Line{Do: control.Join})
	return true
}

// rules checks that there is something for the watch rules to compare.
func (f *preflight) rules(p *participant) bool {
	if f.plan.Unruled() {
		return f.skip("the fields fit the watch rules", "the plan has none: what is compared is learned from the match itself; zwheel learn RUNFOLDER writes it down")
	}
	return f.one(check{name: "the fields fit the watch rules", tried: fmt.Sprintf("%d rules on both snapshots", len(f.plan.Rules.Fields)), within: 3 * time.Second, participant: p,
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

// some names a few fields of a snapshot.
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

// snapshot is whose snapshot tells what the server believes.
func (f *preflight) snapshot(p *participant) *mirror {
	if f.server != nil && f.server.traced() {
		return &f.server.mirror
	}
	return &p.mirror
}

// inputs checks that the client's inputs arrive.
func (f *preflight) inputs(p *participant) bool {
	name := p.name + ": its inputs arrive"
	switch {
	case !p.drivable():
		return f.skip(name, "the plan says drive: none, so it reads no control lines")
	case p.spectates():
		return f.skip(name, "it only watches")
	}
	snapshot := f.snapshot(p)
	own := p.mirror.own
	if s := f.server; s != nil {
		own = f.names.Entity(s.facts.entities[p.name])
	}
	fromX, fromY, placed := snapshot.place(own)
	if !placed {
		return f.skip(name, fmt.Sprintf("%s has no place; name its fields under build: place:", f.names.EntityID(own)))
	}
	far := func() float64 {
		x, y, _ := snapshot.place(own)
		return math.Hypot(x-fromX, y-fromY)
	}
	ahead := control.Line{Do: control.Input, Seq: 1, Move: 1, Hold: []string{"forward"}}
	ok := f.one(check{name: name, tried: string(ahead.Encode()), within: 3 * time.Second, participant: p,
		begin: func() error { p.say(ahead); return nil },
		done:  func() bool { return far() > moved },
		came:  func() string { return fmt.Sprintf("the server moved %s by %.2f", f.names.EntityID(own), far()) },
		lacks: func() string { return fmt.Sprintf("%s has not moved in the server's snapshot", f.names.EntityID(own)) },
		hint:  "does it read control lines (docs/driving.md), and send what they say?"})
	p.say(control.Line{Do: control.Input, Seq: 2})
	return ok
}

// showsOthers reports whether the plan expects a client to show another's entity: whether
// some rule about it is judged for everybody, wherever they are.
func (f *preflight) showsOthers(who, whom *participant) bool {
	id := whom.facts.entities[whom.name]
	for _, rule := range f.plan.Rules.Fields {
		seen := rule.SeenBy == rulebook.Everyone || rule.SeenBy == rulebook.AllButOwner
		if rule.Judged() && seen && slices.ContainsFunc(rule.Fields, func(field string) bool { return rule.Fits(id, false, field) }) {
			return true
		}
	}
	return false
}

// meet checks that two clients see each other.
func (f *preflight) meet(a, b *participant) bool {
	name := b.name + " and " + a.name + " see each other"
	switch {
	case a.spectates() && b.spectates():
		return f.skip(name, "both only watch")
	case !f.showsOthers(a, b) && !f.showsOthers(b, a):
		why := "the plan compares nothing of another player's entity"
		if f.plan.Unruled() {
			why = "the plan has no watch rules yet that say what to look at"
		}
		return f.skip(name, why)
	}
	sees := func(who, whom *participant) bool {
		return whom.spectates() || !f.showsOthers(who, whom) || who.mirror.has(f.names.Entity(whom.facts.entities[whom.name]))
	}
	return f.one(check{name: name, tried: "each one's entity in the other's snapshot", within: 5 * time.Second, participant: b,
		done: func() bool { return sees(a, b) && sees(b, a) },
		came: func() string { return a.facts.entities[a.name] + " and " + b.facts.entities[b.name] },
		lacks: func() string {
			if !sees(b, a) {
				return fmt.Sprintf("%s, who came later, has no %s", b.name, a.facts.entities[a.name])
			}
			return fmt.Sprintf("%s has no %s, who came later", a.name, b.facts.entities[b.name])
		},
		hint: "is whoever comes later told what is there already, and are the others told of them?"})
}

// only checks that inputs move nobody else.
func (f *preflight) only(a, b *participant) bool {
	name := a.name + ": its inputs move only its own"
	snapshot := f.snapshot(a)
	own, other := f.names.Entity(a.facts.entities[a.name]), f.names.Entity(b.facts.entities[b.name])
	fromX, fromY, placed := snapshot.place(own)
	otherX, otherY, _ := snapshot.place(other)
	if !a.drivable() || !placed || a.spectates() || b.spectates() {
		return f.skip(name, "its inputs were not tried")
	}
	gone := func(e trace.Entity, x, y float64) float64 {
		nowX, nowY, _ := snapshot.place(e)
		return math.Hypot(nowX-x, nowY-y)
	}
	ok := f.one(check{name: name, tried: "the same input, while " + b.name + " does nothing", within: 3 * time.Second, participant: a,
		begin: func() error {
			a.say(control.Line{Do: control.Input, Seq: 3, Move: 1, Hold: []string{"forward"}})
			return nil
		},
		done: func() bool { return gone(own, fromX, fromY) > 10*moved },
		came: func() string {
			return fmt.Sprintf("its own by %.2f, %s by %.2f", gone(own, fromX, fromY), b.facts.entities[b.name], gone(other, otherX, otherY))
		},
		lacks: func() string { return "its own did not move" }})
	a.say(control.Line{Do: control.Input, Seq: 4})
	if by := gone(other, otherX, otherY); ok && by > moved {
		f.each(Step{Name: name, Tried: "how far the other moved", Error: fmt.Sprintf("%s moved by %.2f with nobody's input", b.facts.entities[b.name], by),
			Hint: "whose keys are read for whose entity?"})
		return false
	}
	return ok
}

// leave checks that who leaves is gone everywhere.
func (f *preflight) leave(stays, leaves *participant) bool {
	e := f.names.Entity(leaves.facts.entities[leaves.name])
	name := leaves.name + ": when it leaves, it is gone everywhere"
	switch {
	case leaves.spectates():
		return f.skip(name, "it only watches")
	case !leaves.drivable() && leaves.program.KeepRunning:
		return f.skip(name, "it reads no control lines and stays, so nobody can ask it to")
	}
	return f.one(check{name: name, tried: `{"do":"leave"}`, within: 12 * time.Second, participant: leaves,
		begin: func() error { leaves.leave(f.now()); return nil },
		done:  func() bool { return !stays.mirror.has(e) && !f.snapshot(stays).has(e) },
		came:  func() string { return "nobody has " + f.names.EntityID(e) + " any more" },
		lacks: func() string {
			if f.snapshot(stays).has(e) {
				return "the server still has " + f.names.EntityID(e)
			}
			return stays.name + " still has " + f.names.EntityID(e)
		},
		hint: "are the others told that a player is gone, also of one that only falls silent?"})
}
