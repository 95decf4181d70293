package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/explain"
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

// tickCheck is one rule on one pair.
type tickCheck struct {
	pair   *tickPair
	rule   *rulebook.Rule
	fields []trace.Field
	last   sighting // the last tick at which both agreed
	agreed bool     // there was one
	run    *tickRun // the difference that goes on, or the last
}

// tickRun is a stretch of ticks at which the two sides differed.
type tickRun struct {
	apart       bool // still so
	first, last stamp
	from, until time.Duration // by the reference's times of those ticks
	said        time.Duration // when the view told the first
	count       int
	worst       float64
	before      sighting
	agreed      bool
	early, seen []sighting
	stride      int
	certain     bool
	healed      stamp
}

// apartAgain is how long two sides must agree for their next difference to be another one.
const apartAgain = 5 * time.Second

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
	speaks := len(r.State) > 0 || r.Full || len(r.Despawned) > 0
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
	if r.Left == v.name {
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
	v.open = kept
}

// wanted reports whether a rule asks anything of a pair at the tick in hand.
func (v *tickView) wanted(c *tickCheck) bool {
	p := c.pair
	if p.old {
		return false
	}
	own := p.entity == v.own
	switch c.rule.SeenBy {
	case rulebook.OwnerOnly:
		if !own {
			return false
		}
	case rulebook.AllButOwner:
		if own {
			return false
		}
	case rulebook.InRange:
		if !own && !v.inRange(c) {
			return false
		}
	}
	if c.fields == nil {
		return p.sides[referenceSide].there || p.sides[viewSide].there
	}
	return p.sides[referenceSide].there && p.sides[viewSide].there
}

// inRange applies a rule's radius: within it the view must have the entity, up to where
// it may be forgotten again it may.
func (v *tickView) inRange(c *tickCheck) bool {
	if int(v.own) >= len(v.pairs) || v.pairs[v.own] == nil {
		return false
	}
	own, other := v.pairs[v.own].sides[referenceSide], c.pair.sides[referenceSide]
	if !own.there || !other.there {
		return c.pair.sides[viewSide].there && !other.there
	}
	var fields []trace.Field
	for _, name := range c.rule.Place {
		fields = append(fields, v.ticks.judge.config.Names.Field(name))
	}
	d := distance(encode(rulebook.Distance, pick(own.values, fields)), encode(rulebook.Distance, pick(other.values, fields)))
	if d <= c.rule.InterestRadius {
		return true
	}
	return d <= c.rule.LeaveRadius && c.pair.sides[viewSide].there
}

// value is what a side has of what a rule compares.
func (c *tickCheck) value(side int) point {
	s := &c.pair.sides[side]
	switch {
	case c.fields != nil:
		return encode(c.rule.Compare, pick(s.values, c.fields))
	case s.there:
		return point{1}
	}
	return point{0}
}

// gapOf is how far apart two values are by a rule, 0 if they agree.
func gapOf(rule *rulebook.Rule, a, b point) float64 {
	var gap float64
	switch {
	case a == b:
		return 0
	case rule.Compare == rulebook.Exact || rule.Fields[0] == rulebook.Existence:
		return 1
	case numbers(a) != numbers(b):
		return math.Inf(1)
	case rule.Compare == rulebook.Angle:
		gap = math.Abs(turned(a[0]-b[0], rule.Circle))
	default:
		gap = distance(a, b)
	}
	if gap > rule.Tolerance {
		return gap
	}
	return 0
}

// weigh compares the two values of a check.
func (v *tickView) weigh(c *tickCheck, at stamp, t time.Duration) {
	s := sighting{t: t, byTick: true, tick: at.tick, view: c.value(viewSide), there: c.value(referenceSide)}
	s.gap = gapOf(c.rule, s.view, s.there)
	if s.ok = s.gap == 0; s.ok {
		v.agree(c, at, t, true)
		c.last, c.agreed = s, true
		return
	}
	run := c.run
	if !run.apart && run.count == 0 {
		*run = tickRun{first: at, from: t, said: v.said, before: c.last, agreed: c.agreed, stride: 1, early: run.early[:0], seen: run.seen[:0]}
		v.open = append(v.open, c)
	}
	run.apart, run.last, run.until = true, at, t
	run.note(s)
	// What is missing so soon after joining, or after it came to be, may be on its way. It
	// counts from the first tick on if it never comes.
	if soon := max(v.joinedAt, c.pair.born) + c.rule.Grace; !run.certain && (c.fields != nil || s.there != (point{1}) || t >= soon) {
		run.certain = true
		v.ticks.judge.alert(Alert{Began: run.from, Kind: v.kindOf(c), View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}})
	}
}

// note keeps a sighting, evenly thinned.
func (run *tickRun) note(s sighting) {
	if len(run.early) < valueRows {
		run.early = append(run.early, s)
	}
	if !math.IsInf(s.gap, 0) {
		run.worst = max(run.worst, s.gap)
	}
	if run.count++; (run.count-1)%run.stride != 0 {
		return
	}
	if len(run.seen) == sightingsKept {
		for i := range sightingsKept / 2 {
			run.seen[i] = run.seen[2*i]
		}
		run.seen = run.seen[:sightingsKept/2]
		run.stride *= 2
	}
	run.seen = append(run.seen, s)
}

// agree notes that a check has nothing against the view at a tick: because both sides
// agree, or because nothing is asked.
func (v *tickView) agree(c *tickCheck, at stamp, t time.Duration, both bool) {
	run := c.run
	if !run.apart {
		return
	}
	run.apart, run.healed = false, at
	if !run.certain { // it was only on its way
		run.count = 0
		v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
		return
	}
	if !both {
		v.close(c, "the entity no longer being expected", false)
		v.open = slices.DeleteFunc(v.open, func(o *tickCheck) bool { return o == c })
	}
}

// closeAll ends every difference, because the view is out of the match or the match over.
func (v *tickView) closeAll(t time.Duration, how string) {
	for _, c := range v.open {
		switch {
		case !c.run.certain:
			c.run.count = 0
		case c.run.apart:
			v.close(c, how, how == stillSo)
		default:
			v.close(c, fmt.Sprintf("both agreeing at tick %d", c.run.healed.tick), false)
		}
	}
	v.open = v.open[:0]
}

const stillSo = "still so at the end"

// close makes a finding of a difference.
func (v *tickView) close(c *tickCheck, how string, open bool) {
	j, run := v.ticks.judge, c.run
	kind := v.kindOf(c)
	f := &Finding{Kind: kind, Why: v.why(c, kind), View: v.name, Entity: c.pair.name, Subject: Subject{Name: c.rule.Label()}, Own: c.pair.entity == v.own, Ticks: true, Tick: run.first.tick, LastTick: run.last.tick, TicksApart: run.count,
		BeganAt: Seconds(run.from), EndedAt: Seconds(run.until), Open: open, Ended: how, Apart: Seconds(run.until - run.from), rule: c.rule, settle: c.rule.MinDuration}
	if c.rule.Compare != rulebook.Exact && run.worst > 0 {
		gap := math.Round(run.worst*1e3) / 1e3
		f.Gap = &gap
	}
	f.Evidence = j.circumstances(j.views[v.number], run.said, run.said)
	if run.agreed {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, run.before))
	}
	rows := run.early
	if last := run.seen[len(run.seen)-1]; last.tick > rows[len(rows)-1].tick {
		rows = append(slices.Clone(rows), last)
	}
	for _, s := range rows {
		f.Evidence.Values = append(f.Evidence.Values, j.row(c.rule, s))
	}
	j.add(f)
	run.count, run.certain, run.apart = 0, false, false
}

// finish judges what is left, and looks for views that stopped telling ticks.
func (k *ticks) finish(end time.Duration) {
	k.reference.complete = true
	for _, v := range k.views {
		v.log.guess()
		v.log.complete = true
		v.compare()
		v.closeAll(end, stillSo)
		v.stopped(end)
		v.report.Rollbacks, v.report.Deepest, v.report.PerSecond, v.report.Pause = v.log.revised, v.log.deepest, v.log.rate(), Seconds(v.log.pause)
		if span := v.log.said - v.log.since; span > 0 {
			v.report.PerMinute = float64(v.log.revised) / span.Minutes()
		}
	}
	k.tellTogether()
}

// Silence of a view is a finding if it is longer than stopsFor, and than the longest
// pauses before it.
const (
	stopsFor    = 3 * time.Second
	stopsPauses = 5
)

// stopped finds a view that was in the match, told no tick any more, and did not leave,
// while others went on.
func (v *tickView) stopped(end time.Duration) {
	quiet := end - v.lastT
	if !v.in || !v.log.began || quiet < max(stopsFor, stopsPauses*v.log.pause) {
		return
	}
	reference := &v.ticks.reference
	goesOn := reference.last.compare(v.log.last) > 0
	if others := len(v.ticks.views) - 1; goesOn && others > 0 {
		goesOn = slices.ContainsFunc(v.ticks.views, func(o *tickView) bool { return o != v && o.lastT-v.lastT >= stopsFor })
	}
	side := v.ticks.judge.views[v.number]
	if !goesOn || side.down.known && side.down.newest(end) < v.lastT+stopsFor { // it could hear nothing
		return
	}
	v.ticks.judge.add(&Finding{Kind: Frozen, View: v.name, Subject: Subject{About: AboutTicks}, BeganAt: Seconds(v.lastT), EndedAt: Seconds(end), Open: true, Ticks: true, Tick: v.log.last.tick,
		Ended: stillSo, Why: fmt.Sprintf("the view tells of no tick after %d, while others go on", v.log.last.tick), Evidence: Evidence{Values: []ValueRow{}}})
}

// kindOf names a difference.
func (v *tickView) kindOf(c *tickCheck) Kind {
	run := c.run
	last := run.seen[len(run.seen)-1]
	switch {
	case c.fields == nil && last.view == (point{1}):
		return Ghost
	case c.fields == nil:
		return Missing
	case c.rule.Checksum():
		return ChecksumDiffers
	case c.rule.Role == rulebook.Outcome:
		return OutcomeDiffer
	case c.rule.Role == rulebook.Owner:
		name := encode(rulebook.Exact, []trace.Value{v.ticks.judge.config.Names.Text(v.name)})
		if last.view == name {
			return SplitOwner
		}
		if last.there == name {
			return NoOwner
		}
	}
	stands := func(of func(sighting) point) bool {
		for _, s := range run.seen {
			if of(s) != of(run.seen[0]) {
				return false
			}
		}
		return true
	}
	view := func(s sighting) point { return s.view }
	there := func(s sighting) point { return s.there }
	flags := trace.Kind(last.view[1]) == trace.KindBool && trace.Kind(last.there[1]) == trace.KindBool
	switch {
	case c.rule.Compare == rulebook.Exact && flags && !(stands(view) && stands(there)):
		return Inverted
	case len(run.seen) > 1 && stands(view) && run.agreed && run.before.view == last.view:
		return Frozen
	case len(run.seen) > 1 && stands(there) && run.agreed && run.before.there == last.there:
		return NeverSent
	}
	if kind, _ := run.related(c.rule); kind != "" {
		return kind
	}
	return Offset
}

// related finds the simplest relation between the numbers of the two sides.
func (run *tickRun) related(rule *rulebook.Rule) (Kind, string) {
	if rule.Compare == rulebook.Exact {
		return "", ""
	}
	s := explain.Series{Axes: len(rule.Fields), Tolerance: rule.Tolerance, Step: rule.Quantum, Began: run.from.Seconds()}
	if rule.Compare == rulebook.Angle {
		s.Circle = rule.Circle
	}
	list := run.seen
	if run.agreed {
		list = append([]sighting{run.before}, run.seen...)
	}
	for _, seen := range list {
		if numbers(seen.view) != allNumbers || numbers(seen.there) != allNumbers {
			return "", ""
		}
		if n := len(s.Reference.T); n == 0 || seen.t.Seconds() > s.Reference.T[n-1] {
			s.Reference.T, s.Reference.V = append(s.Reference.T, seen.t.Seconds()), append(s.Reference.V, seen.there)
		}
		if !seen.ok {
			s.Samples = append(s.Samples, explain.Sample{T: seen.t.Seconds(), View: seen.view})
		}
	}
	if found := explain.Fit(s); len(found) > 0 {
		return kindsOfRelations[found[0].Name], found[0].Why
	}
	return "", ""
}

// why says what the kind was told by.
func (v *tickView) why(c *tickCheck, kind Kind) string {
	j, run := v.ticks.judge, c.run
	first := run.early[0]
	switch kind {
	case Ghost:
		return "the view has it at that tick and the reference does not"
	case Missing:
		return "the reference has it at that tick and the view does not"
	case ChecksumDiffers:
		return fmt.Sprintf("the checksum is %s and the reference's %s", j.format(c.rule, first.view), j.format(c.rule, first.there))
	case Frozen:
		return "the view keeps the value that both had before"
	case NeverSent:
		return "the view's value changed and the reference's did not"
	}
	text := fmt.Sprintf("the view has %s and the reference %s", j.format(c.rule, first.view), j.format(c.rule, first.there))
	if related, why := run.related(c.rule); related == kind && kind != Offset {
		text += "; " + why
	}
	return text
}

// tellTogether says in each view's first finding what else differed at that tick, and what
// followed.
func (k *ticks) tellTogether() {
	for _, v := range k.views {
		list := slices.DeleteFunc(slices.Clone(k.judge.findings), func(f *Finding) bool { return f.View != v.name || f.rule == nil || !f.Ticks })
		slices.SortStableFunc(list, func(a, b *Finding) int {
			return cmp.Or(cmp.Compare(a.BeganAt, b.BeganAt), a.tells(b), cmp.Compare(a.Entity, b.Entity), cmp.Compare(a.Subject.Name, b.Subject.Name))
		})
		var same, later []string
		for i, f := range list {
			switch what := fmt.Sprintf("%s of %s", f.Subject, f.Entity); {
			case i == 0:
			case f.BeganAt == list[0].BeganAt:
				same = append(same, what)
			default:
				later = append(later, fmt.Sprintf("%s from tick %d on", what, f.Tick))
			}
		}
		if len(same) > 0 {
			list[0].Why += "; at the same tick also " + few(same)
		}
		if len(later) > 0 {
			list[0].Why += "; later " + few(later)
		}
	}
}

// few lists a few and counts the rest.
func few(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// sumUp adds to the report of a view what was compared by ticks.
func (k *ticks) sumUp(r *ViewReport, number int, fits map[*rulebook.Rule]int) {
	v := k.views[number-1]
	r.Comparisons, r.Ticks, r.Entities = v.comparison, &v.report, len(v.known)
	for _, p := range v.known {
		for _, c := range p.checks {
			if c.agreed || c.run.first != (stamp{}) {
				fits[c.rule]++
			}
		}
	}
}

// fewTicks is the share of a view's ticks below which too few could be compared.
const fewTicks = 0.5

// warnings say where ticks could not be compared.
func (k *ticks) warnings() []Warning {
	list := []Warning{}
	add := func(v *tickView, grave bool, format string, args ...any) {
		list = append(list, Warning{View: v.name, Text: fmt.Sprintf(format, args...), Grave: grave})
	}
	for _, v := range k.views {
		r, reference := &v.report, &k.reference
		switch {
		case !v.log.began && v.been:
			add(v, true, "%s told no tick, so nothing of it could be compared", v.name)
		case r.Told == 0:
		case r.Compared == 0:
			add(v, true, "%s and the reference have no tick in common: it told %d to %d, the reference up to %d", v.name, r.First, r.Last, reference.last.tick)
		case float64(r.Compared) < fewTicks*float64(r.Told):
			add(v, false, "only %d of %d ticks of %s could be compared; the reference did not tell %d of them, and %d lie after its last", r.Compared, r.Told, v.name, r.Untold, r.Beyond)
		}
	}
	return list
}
