package judge

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// ticks compares what views had at equal ticks. Nothing is late there and nothing ahead:
// at each tick that both sides told, every value must be the reference's, within the
// tolerance. Ticks that only one side told are counted and not judged.
type ticks struct {
	judge     *Judge
	rules     []rulebook.Rule
	reference tickLog
	views     []*tickView // without the reference
}

// tickView is one client's side, and what the reference had at the tick that the view is
// judged up to.
type tickView struct {
	ticks      *ticks
	name       string
	number     int
	log        tickLog
	next       int           // the reference's next tick, among all
	reached    stamp         // the reference's last one before that
	reachedAt  time.Duration // when the reference told it
	any        bool          // there was one
	in, been   bool          // in the match; and at some time
	saysItLeft bool          // it tells of its membership, so what it shows is no sign of it
	pictured   bool          // it has told something since it came
	own        trace.Entity
	joinedAt   time.Duration
	pairs      []*tickPair // by trace.Entity
	known      []*tickPair
	dirty      []*tickPair
	near       []*tickPair  // whose rules ask for distances
	open       []*tickCheck // with a difference that goes on, or has just ended
	live       int          // values compared at each tick
	report     TickReport
	comparison int
	lastT      time.Duration
	said       time.Duration // when the view told the tick in hand
	examined   time.Duration // the reference's time of the tick that was compared last
}

// TickReport says how a view's ticks were compared.
type TickReport struct {
	Told      int     `json:"told"`     // while the view was in the match, each counted once
	Compared  int     `json:"compared"` // those that the reference told as well
	Beyond    int     `json:"beyond"`   // after the reference's last one
	Guessed   int     `json:"guessed"`  // predictions of a view that rolls back, with no time left to take them back
	Untold    int     `json:"untold"`   // that the reference did not tell
	First     int64   `json:"first"`
	Last      int64   `json:"last"`
	PerSecond float64 `json:"per_second"` // told a second
	Pause     Seconds `json:"longest_s"`  // the longest time between two
	Rollbacks int     `json:"rollbacks"`  // how often the view went back to tell ticks anew
	Deepest   int64   `json:"deepest"`    // by how many ticks at most
	PerMinute float64 `json:"per_minute"` // rollbacks a minute
}

// tickPair is an entity on both sides.
type tickPair struct {
	entity trace.Entity
	name   string
	sides  [2]tickSide // the reference's and the view's
	checks []*tickCheck
	asked  []bool // by trace.Field: rules were looked for
	dirty  bool
	old    bool // the view has not spoken of it since it came back
	born   time.Duration
	live   int
}

type tickSide struct {
	there  bool
	named  bool // in a full snapshot that is being taken in
	values []trace.Value
}

const (
	referenceSide = 0
	viewSide      = 1
)

func newTicks(j *Judge, rules []rulebook.Rule) *ticks {
	k := &ticks{judge: j, rules: rules}
	for i, v := range j.views[1:] {
		k.views = append(k.views, &tickView{ticks: k, name: v.name, number: i + 1})
	}
	return k
}

// record takes in a line of a view, by its number.
func (k *ticks) record(number int, r *trace.Record) {
	if number == 0 {
		k.reference.add(r, true)
		for _, v := range k.views {
			v.compare()
		}
		k.forget()
		return
	}
	v := k.views[number-1]
	v.take(r)
	v.compare()
}

// mostTicksKept is how many ticks of the reference wait for views that fall behind.
const mostTicksKept = 50_000

// forget drops the reference's ticks that every view has passed. One that is too far
// behind is brought on, and cannot be judged on what it tells of the ticks in between.
func (k *ticks) forget() {
	least := k.reference.end()
	for _, v := range k.views {
		for v.next < k.reference.end()-mostTicksKept && k.reference.final(v.next) {
			v.passReference()
		}
		least = min(least, v.next)
	}
	k.reference.forget(least)
}

// broke takes a view out of the match, or with the reference all of them.
func (k *ticks) broke(number int) {
	for _, v := range k.views {
		if number == 0 || v.number == number {
			v.in = false
		}
	}
	if number == 0 { // what it had is not what it has when it is started again
		k.reference.waiting = append(k.reference.waiting, tickChange{deed: tellsAll})
	}
}

func (v *tickView) take(r *trace.Record) {
	speaks := r.Pictures()
	if r.Joined == v.name || !v.been && !v.saysItLeft && speaks && r.Joined == "" {
		if v.been {
			v.log.waiting = append(v.log.waiting, tickChange{deed: rejoins})
		}
		v.in, v.been, v.pictured, v.joinedAt = true, true, false, r.T
		if r.Joined != "" && r.Entity != "" {
			v.ownIs(v.ticks.judge.config.Names.Entity(r.Entity))
		}
		if !v.log.began {
			v.log.last.round = v.ticks.reference.last.round
		}
	}
	v.pictured = v.pictured || speaks
	v.log.add(r, v.in && v.pictured)
	if r.Leaves(v.name) {
		v.in, v.saysItLeft = false, true
		v.log.guess()
	}
	v.lastT = r.T
}

// compare judges every tick of the view that is final, as far as the reference's ticks are.
func (v *tickView) compare() {
	reference := &v.ticks.reference
	for v.log.final(v.log.base) {
		told := v.log.get(v.log.base)
		for reference.final(v.next) && reference.get(v.next).at.compare(told.at) <= 0 {
			v.passReference()
		}
		both := v.any && v.reached == told.at && !told.guessed
		if !both && !told.guessed && !reference.final(v.next) && !reference.complete {
			return // it may come yet
		}
		v.apply(viewSide, told)
		if told.judged {
			v.count(told, both)
			if both {
				v.said = told.t
				v.examine(told.at, v.reachedAt)
			}
		} else {
			v.closeAll(told.t, "the view leaving the match")
		}
		v.log.pass()
	}
}

func (v *tickView) passReference() {
	told := v.ticks.reference.get(v.next)
	v.apply(referenceSide, told)
	v.reached, v.reachedAt, v.any = told.at, told.t, true
	v.next++
}

func (v *tickView) count(told *toldTick, both bool) {
	r := &v.report
	if r.Told == 0 {
		r.First = told.at.tick
	}
	r.Told++
	r.Last = told.at.tick
	switch {
	case both:
		r.Compared++
	case told.guessed:
		r.Guessed++
	case v.ticks.reference.began && told.at.compare(v.ticks.reference.last) > 0:
		r.Beyond++
	default:
		r.Untold++
	}
}

// apply takes what one side told of a tick into what it has.
func (v *tickView) apply(side int, told *toldTick) {
	all := false
	for _, c := range told.changes {
		switch c.deed {
		case tellsAll:
			all = true
			for _, p := range v.known {
				p.sides[side].named = false
			}
		case rejoins:
			for _, p := range v.known {
				p.old = true
				v.touch(p)
			}
		case drops:
			p := v.pair(c.entity)
			p.sides[side] = tickSide{values: p.sides[side].values[:0]}
			v.touch(p)
		case tells:
			p := v.pair(c.entity)
			s := &p.sides[side]
			s.named = true
			if side == viewSide {
				p.old = false
			}
			if !s.there {
				s.there = true
				if side == referenceSide {
					p.born = told.t
				}
			}
			if c.field != trace.Exists {
				v.ask(p, c.field)
				for int(c.field) >= len(s.values) {
					s.values = append(s.values, trace.Value{})
				}
				s.values[c.field] = c.value
			}
			v.touch(p)
		}
	}
	if !all {
		return
	}
	for _, p := range v.known {
		if s := &p.sides[side]; !s.named && s.there {
			*s = tickSide{values: s.values[:0]}
			v.touch(p)
		}
		if side == viewSide {
			p.old = false
		}
	}
}

func (v *tickView) touch(p *tickPair) {
	if !p.dirty {
		p.dirty = true
		v.dirty = append(v.dirty, p)
	}
}

func (v *tickView) pair(e trace.Entity) *tickPair {
	for int(e) >= len(v.pairs) {
		v.pairs = append(v.pairs, nil)
	}
	p := v.pairs[e]
	if p == nil {
		p = &tickPair{entity: e, name: v.ticks.judge.config.Names.EntityID(e)}
		v.pairs[e] = p
		v.known = append(v.known, p)
		v.look(p, rulebook.Existence)
	}
	return p
}

// ownIs says which entity is the view's own: other rules may hold for it.
func (v *tickView) ownIs(e trace.Entity) {
	if e == v.own {
		return
	}
	v.own = e
	for _, p := range v.known {
		p.checks, p.asked = nil, nil
		v.look(p, rulebook.Existence)
		for _, s := range p.sides {
			for f := range s.values {
				v.ask(p, trace.Field(f))
			}
		}
		v.touch(p)
	}
}

// ask looks for the rule about a field that is named for the first time.
func (v *tickView) ask(p *tickPair, f trace.Field) {
	for int(f) >= len(p.asked) {
		p.asked = append(p.asked, false)
	}
	if !p.asked[f] {
		p.asked[f] = true
		v.look(p, v.ticks.judge.config.Names.FieldName(f))
	}
}

func (v *tickView) look(p *tickPair, field string) {
	i := rulebook.Find(v.ticks.rules, p.name, p.entity == v.own, field)
	if i < 0 || !v.ticks.rules[i].Judged() {
		return
	}
	rule := &v.ticks.rules[i]
	if slices.ContainsFunc(p.checks, func(c *tickCheck) bool { return c.rule == rule }) {
		return
	}
	check := &tickCheck{pair: p, rule: rule, run: &tickRun{}}
	if field != rulebook.Existence {
		for _, name := range rule.Fields {
			check.fields = append(check.fields, v.ticks.judge.config.Names.Field(name))
		}
	}
	p.checks = append(p.checks, check)
	if rule.SeenBy == rulebook.InRange && !slices.Contains(v.near, p) {
		v.near = append(v.near, p)
	}
}

// examine compares everything at a tick that both sides told.
func (v *tickView) examine(at stamp, t time.Duration) {
	for _, p := range v.near {
		v.touch(p)
	}
	for _, p := range v.dirty {
		p.dirty = false
		v.live -= p.live
		p.live = 0
		for _, c := range p.checks {
			if !v.wanted(c) {
				v.agree(c, at, t, false)
				continue
			}
			p.live++
			v.weigh(c, at, t)
		}
		v.live += p.live
	}
	v.dirty = v.dirty[:0]
	v.comparison += v.live
	kept := v.open[:0]
	for _, c := range v.open {
		if c.run.apart && c.run.last != at {
			v.weigh(c, at, t)
		}
		if !c.run.apart && t-c.run.until > apartAgain {
			v.close(c, fmt.Sprintf("both agreeing at tick %d", c.run.healed.tick), false)
			continue
		}
		kept = append(kept, c)
	}
	v.open, v.examined = kept, t
}
