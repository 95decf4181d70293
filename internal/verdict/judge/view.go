package judge

import (
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// view is one client's side.
type view struct {
	judge       *Judge
	name        string
	number      int
	own         trace.Entity
	in          bool // judged: between joined and left
	everJoined  bool
	saysItLeft  bool // it tells of its membership, so what it shows is no sign of it
	joinedAt    time.Duration
	whole       time.Duration // when, since it joined, it first told a whole picture with all that the reference had; or never
	spoke       bool
	from, to    time.Duration // first and last record
	inFor       time.Duration
	stays       []Stay
	mirrors     []*mirror // by trace.Entity
	down, up    hearing
	asked       time.Duration // the moment of the two answers below
	heard, told time.Duration // what the view had heard by then; when the reference heard of then
	askedLag    time.Duration // and lag earlier, for rules with that lag
	lateHeard   time.Duration
	troubles    []trouble // lost and late packets, lately
	lately      lately
	broken      bool // its trace broke off, and it has not come back
	delay       [2]delays
	upTakes     time.Duration // how long the last of its packets took that arrived
	lostLast    time.Duration // when it sent the last one that did not
	comparisons int
	excused     int // comparisons explained only by what the link withheld
	records     int
	phantom     bool // it believes that it is in and is not
	stray       *Finding
	latestEvent map[*rulebook.EventRule]*occasion
	ages        histogram
	age         time.Duration // the last of them
	trail       []trailPoint  // of its own entity, lately
	rhythm      rhythm        // in which it tells its state
	windows     []*window     // of each rule
	sends       sends         // to it
	silence     silence       // likewise
	dropped     bool          // the reference says that it left
}

// out reports whether a view is not in the match, whatever it believes: what it shows is not compared.
func (v *view) out() bool { return v.phantom || v.dropped }

// heldUntil is up to when a view held at t what it had said last. One that tells its state seldom
// held it until its last record, and did not tell what it showed from then on. Unless it has fallen
// silent: then it holds what it said.
func (v *view) heldUntil(rule *rulebook.Rule, t time.Duration) time.Duration {
	last, any := v.rhythm.last()
	beat := v.beat()
	often, silent := v.oftenFor(rule), t-last > 4*beat
	enough := v.rhythm.records >= regularFrom || beat > slowest // to know how it tells what is no number
	if !any || often || silent || rule.TimeDriven || enough && !v.rhythm.speaks(rule.Compare) {
		return t
	}
	return last
}

// oftenFor reports whether a view tells its state so often that what it holds between two records
// is no question for a rule.
func (v *view) oftenFor(rule *rulebook.Rule) bool { return 4*v.beat() <= rule.MaxDelay }

// beat is how often a view usually tells its state.
func (v *view) beat() time.Duration {
	if v.rhythm.beat == 0 { // it has told once
		return longestBeat / 4
	}
	return time.Duration(v.rhythm.beat)
}

// mirror is an entity as one view knows it.
type mirror struct {
	entity    trace.Entity
	known     *entity // nil while the reference has not named it
	isThere   bool
	stamp     int
	values    []trace.Value // by trace.Field
	existence *tracker
	trackers  []*tracker
	watchers  *watchers // nil when trackers have changed
	dirty     marked    // trackers whose fields the record in hand changed
	touched   bool
	near      bool // within the radius of a rule of nearness
	expected  bool // was near, and is not yet beyond leaving
	since     time.Duration
	own       bool
}

// each calls f for every tracker of a view, in order of the entities' numbers.
func (v *view) each(f func(k *tracker)) {
	for _, m := range v.mirrors {
		if m == nil {
			continue
		}
		if m.existence != nil {
			f(m.existence)
		}
		for _, k := range m.trackers {
			f(k)
		}
	}
}

func (v *view) mirrorOf(e trace.Entity) *mirror {
	if int(e) < len(v.mirrors) {
		return v.mirrors[e]
	}
	return nil
}

func (v *view) mirror(e trace.Entity) *mirror {
	if m := v.mirrorOf(e); m != nil {
		return m
	}
	for len(v.mirrors) <= int(e) {
		v.mirrors = append(v.mirrors, nil)
	}
	m := &mirror{entity: e}
	v.mirrors[e] = m
	return m
}

func (v *view) tracker(m *mirror, rule *rulebook.Rule, p *path) *tracker {
	return &tracker{rule: rule, path: p, mirror: m, match: -never, window: v.windowOf(rule), run: &episode{}, sampled: int32(agePhase(m.known.name))}
}

// windowOf is the window that all trackers of a rule share.
func (v *view) windowOf(rule *rulebook.Rule) *window {
	for _, w := range v.windows {
		if w.rule == rule {
			return w
		}
	}
	w := &window{rule: rule, latest: stretch{epoch: -1}, before: stretch{epoch: -1}, ages: v.judge.agesBy(rule)}
	v.windows = append(v.windows, w)
	return w
}

// attach connects a view's entity with the reference's.
func (j *Judge) attach(v *view, m *mirror, t *entity) {
	m.known, m.own, m.since = t, t.id == v.own, -never
	if i := rulebook.Find(j.config.Rules.Fields, t.name, m.own, rulebook.Existence); i >= 0 && j.config.Rules.Fields[i].Judged() {
		m.existence = v.tracker(m, &j.config.Rules.Fields[i], t.exists)
		m.existence.holds = true
		if m.isThere {
			m.existence.value = point{1}
		}
	}
	rules := t.otherRule
	if m.own {
		rules = t.ownRule
	}
	m.trackers, m.watchers = nil, nil
	m.dirty.clear()
	for _, rp := range rules {
		k := v.tracker(m, rp.rule, rp.path)
		if k.value = pointOf(rp.path, m.values); m.isThere && len(m.values) > 0 {
			k.holds = true
		}
		m.trackers = append(m.trackers, k)
	}
}

// client judges a record of a client.
func (j *Judge) client(v *view, r *trace.Record) {
	t := r.T
	if !v.everJoined && !v.saysItLeft && !v.in && (len(r.State) > 0 || r.Full) && r.Joined == "" {
		// A view that never says that it joined is in from its first snapshot on.
		j.enter(v, t, trace.Nobody)
	}
	switch {
	case r.Joined == v.name:
		j.enter(v, t, j.config.Names.Entity(r.Entity))
	case v.comesBack(r):
		j.enter(v, t, v.own)
	}
	j.member(v.number, r)
	if r.Leaves(v.name) {
		v.saysItLeft = true
		j.leave(v, t)
	}
	for _, q := range j.questions {
		q.take(v, r)
	}
}

// set gives a field a value, and reports whether that is another one.
func (m *mirror) set(f trace.Field, v trace.Value) bool {
	if int(f) >= len(m.values) {
		m.values = append(m.values, make([]trace.Value, int(f)+1-len(m.values))...)
	}
	if m.values[f] == v {
		return false
	}
	m.values[f] = v
	m.touched = true
	if m.watchers == nil {
		if m.watchers = nobodyWatches; m.known != nil {
			m.watchers = m.known.watchers(m.own)
		}
	}
	if w := m.watchers.byField; int(f) < len(w) {
		for _, i := range w[f] {
			m.dirty.mark(i)
		}
	}
	return true
}

// settleMirror judges what a record changed of one entity.
func (j *Judge) settleMirror(v *view, m *mirror, t time.Duration) {
	if m == nil || !m.touched {
		return
	}
	m.touched = false
	if m.own {
		v.leaveTrail(m, t)
	}
	for _, i := range m.dirty.list {
		k := m.trackers[i]
		k.say(j, v, t, pointOf(k.path, m.values))
	}
	m.dirty.clear()
}

// trailPoint is all that a view said of its own entity at one time.
type trailPoint struct {
	t      time.Duration
	values []trace.Value
}

const trailKept = 2500 * time.Millisecond

// leaveTrail remembers for a while what a view said of its own entity, as far as
// an invariant asks who moved it first.
func (v *view) leaveTrail(m *mirror, t time.Duration) {
	if m.known == nil || len(m.known.invariants) == 0 {
		return
	}
	for len(v.trail) > 0 && t-v.trail[0].t > trailKept {
		v.trail = v.trail[1:]
	}
	v.trail = append(v.trail, trailPoint{t, slices.Clone(m.values)})
}

// meet: an entity came into a view.
func (j *Judge) meet(v *view, m *mirror, t time.Duration) {
	if m.known == nil {
		if entity := j.entityOf(m.entity); entity != nil {
			j.attach(v, m, entity)
		} else {
			j.named(m.entity) // the reference never spoke of it: it is absent there
		}
	}
	if m.existence != nil {
		m.existence.say(j, v, t, point{1})
	}
	j.expect(v, m, t)
}

// part: an entity left a view.
func (j *Judge) part(v *view, m *mirror, t time.Duration) {
	m.isThere = false
	for _, k := range m.trackers {
		if k.active {
			k.stop(j, v, t)
		}
		k.holds = false
	}
	m.values = m.values[:0]
	if m.existence != nil {
		m.existence.say(j, v, t, point{0})
	}
}

// wholeBy reports whether a view that joined had shown the whole world by then.
func (v *view) wholeBy(t time.Duration) bool { return v.whole != never && v.whole <= t }

// enter: a view is in the match from now on.
func (j *Judge) enter(v *view, t time.Duration, own trace.Entity) {
	if v.in {
		j.leave(v, t)
	}
	for _, m := range v.mirrors {
		if m != nil && m.isThere {
			j.part(v, m, t)
		}
	}
	v.in, v.everJoined, v.joinedAt, v.phantom, v.broken = true, true, t, false, false
	v.silence = silence{}
	v.latestEvent, v.whole = map[*rulebook.EventRule]*occasion{}, never
	v.each(func(k *tracker) { k.ever, k.before = false, explained{} })
	if own != v.own {
		v.own = own
		for _, m := range v.mirrors {
			if m != nil && m.known != nil {
				j.attach(v, m, m.known)
			}
		}
	}
	for _, entity := range j.known {
		m := v.mirror(entity.id)
		if m.known == nil {
			j.attach(v, m, entity)
		}
		m.since, m.near, m.expected = -never, false, false
		j.expect(v, m, t)
	}
}

// leave: a view is out of the match; nothing is expected of it any more.
func (j *Judge) leave(v *view, t time.Duration) {
	if !v.in {
		return
	}
	v.in = false
	v.endStray(t, "the view leaving the match")
	v.stayed(t)
	v.each(func(k *tracker) {
		if k.active {
			k.stop(j, v, t)
		}
	})
}

// stayed notes that a stay ends.
func (v *view) stayed(until time.Duration) {
	v.inFor += until - v.joinedAt
	stay := Stay{From: Seconds(v.joinedAt), Until: Seconds(until)}
	if v.own != trace.Nobody {
		stay.Entity = v.judge.config.Names.EntityID(v.own)
	}
	v.stays = append(v.stays, stay)
}

// membership is a join or a leave, as one view told of it.
type membership struct {
	t    time.Duration
	view int
	text string
}

func (j *Judge) member(number int, r *trace.Record) {
	text := ""
	switch {
	case r.Joined != "" && (number == 0 || r.Joined == j.views[number].name):
		text = r.Joined + " joined"
	case r.Left != "" && (number == 0 || r.Left == j.views[number].name):
		text = r.Left + " " + departure
	case r.Checkpoint == trace.EndMark:
		text = j.views[number].name + "'s program ended"
	case r.Refused != "":
		text = r.Refused + " " + refusal
		for i := len(j.members) - 1; i >= 0 && r.T-j.members[i].t < lookAround; i-- {
			if j.members[i].text == text && j.members[i].view == number {
				return // it asks again and again
			}
		}
	default:
		return
	}
	j.members = append(j.members, membership{r.T, number, text})
}
