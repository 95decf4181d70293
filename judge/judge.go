// Package judge compares what every view of a match believed with what the
// reference (the server) believed, and says who disagreed about what, from when
// to when, by how much, of what kind the disagreement is, and what happened on
// the wire just before. docs/findings.md explains the definitions.
//
// It works in one pass in time order on trace records, watch rules and, where
// they are known, the fates of packets; it needs memory for the length of its
// windows, not of the match. It knows nothing of how the traces came about.
package judge

import (
	"slices"
	"time"

	"zitherwheel/link"
	"zitherwheel/trace"
	"zitherwheel/watch"
)

// Config is what a judge is told beforehand.
type Config struct {
	Names *trace.Names // that the records' names come from
	Rules []watch.Rule
	Views []string // names of the views; the first is the reference
	Fates bool     // the fates of all packets will be told
}

// Judge takes in records and packets and gives a verdict. See [New].
type Judge struct {
	config  Config
	fields  [][]trace.Field // of each rule; nil for existence
	places  []nearRule      // what rules of things seen from near hold positions in
	views   []*view
	things  []*thing // by trace.Entity; nil for those the reference never named
	known   []*thing // in the order the reference named them
	now     time.Duration
	began   bool
	first   time.Duration // time of the first record
	behind  time.Duration // how far judging runs behind the newest record
	waiting queue
	swept   time.Duration

	lastSaid time.Duration // the reference's last two records with state
	saidPrev time.Duration
	beat     float64 // its usual interval, ns
	stamp    int     // counts whole pictures

	findings []*Finding
	doubtful int
	members  []membership
}

// view is one client's side.
type view struct {
	judge       *Judge
	name        string
	number      int
	own         trace.Entity
	in          bool // judged: between joined and left
	everJoined  bool
	joinedAt    time.Duration
	spoke       bool
	from, to    time.Duration // first and last record
	inFor       time.Duration
	mirrors     []*mirror // by trace.Entity
	down, up    hearing
	asked       time.Duration // the moment of the two answers below
	heard, told time.Duration // what the view had heard by then; when the reference heard of then
	troubles    []trouble     // lost and late packets, lately
	delay       [2]delays
	comparisons int
	excused     int // comparisons explained only by what the link withheld
	records     int
}

// thing is an entity as the reference knows it.
type thing struct {
	id        trace.Entity
	name      string
	exists    *path
	isThere   bool
	paths     []*path
	byField   [][]*path // by trace.Field
	values    []trace.Value
	touched   []*path
	stamp     int
	ownRule   []rulePath // what is tracked of it in a view whose own it is
	otherRule []rulePath // and in others
}

// nearRule stands for the fields that hold the positions of things, which are
// followed whether or not a rule compares them.
type nearRule struct {
	compare watch.Rule
	fields  []trace.Field
}

type rulePath struct {
	rule *watch.Rule
	path *path
}

// mirror is an entity as one view knows it.
type mirror struct {
	entity    trace.Entity
	thing     *thing // nil while the reference has not named it
	isThere   bool
	stamp     int
	values    []trace.Value // by trace.Field
	existence *tracker
	trackers  []*tracker
	touched   bool
	expected  bool // it is to be seen by this view
	since     time.Duration
	own       bool
}

// sweepEvery is how often everything that nobody spoke about is looked at.
const sweepEvery = 200 * time.Millisecond

// patience is how much longer than a lead the judge waits to learn whether the
// reference could know of what a view predicted.
const patience = time.Second

// New returns a judge. The rules must be valid.
func New(config Config) *Judge {
	j := &Judge{config: config}
	for _, rule := range config.Rules {
		var fields []trace.Field
		for _, f := range rule.Fields {
			if f != watch.Existence {
				fields = append(fields, config.Names.Field(f))
			}
		}
		j.fields = append(j.fields, fields)
		if rule.SeenBy == watch.Near {
			near := nearRule{compare: watch.Rule{Compare: watch.Distance}}
			for _, f := range rule.Place {
				near.fields = append(near.fields, config.Names.Field(f))
			}
			j.places = append(j.places, near)
		}
		if rule.Lead > 0 {
			wait := rule.Lead
			if config.Fates {
				wait += patience
			}
			j.behind = max(j.behind, wait)
		}
	}
	for i, name := range config.Views {
		v := &view{judge: j, name: name, number: i}
		v.down.known, v.up.known, v.asked = config.Fates, config.Fates, -never
		j.views = append(j.views, v)
	}
	return j
}

// Record takes in one record of a view, by the view's place in Config.Views.
// Records of one view must come in time order, and those of different views and
// packets in time order too; at the same instant any order will do. The record
// is copied.
func (j *Judge) Record(view int, r *trace.Record) {
	j.advance(r.T)
	v := j.views[view]
	if !v.spoke {
		v.spoke, v.from = true, r.T
	}
	v.to = r.T
	v.records++
	if view == 0 {
		j.reference(r)
		return
	}
	j.waiting.push(view, r)
}

// Packet takes in the fate of a packet on the link of a view.
func (j *Judge) Packet(view int, d link.Direction, f link.Fate) {
	j.advance(f.Sent)
	j.views[view].packet(d, f)
}

// advance lets time pass: all client records that no later record can change
// the meaning of are judged.
func (j *Judge) advance(t time.Duration) {
	if !j.began {
		j.began, j.first, j.now, j.swept = true, t, t, t
	}
	if t <= j.now {
		return
	}
	j.now = t
	j.catchUp(t - j.behind)
}

// catchUp judges everything before t.
func (j *Judge) catchUp(t time.Duration) {
	for {
		next, ok := j.waiting.peek()
		for j.swept+sweepEvery < t && (!ok || j.swept+sweepEvery <= next) {
			j.swept += sweepEvery
			j.sweep(j.swept)
		}
		if !ok || next >= t {
			return
		}
		number, r := j.waiting.pop()
		j.client(j.views[number], r)
	}
}

// Finish ends the match: whatever is still going on is left open.
func (j *Judge) Finish() *Verdict {
	end := j.now
	j.catchUp(end + 1)
	for _, v := range j.views[1:] {
		if v.in {
			v.inFor += end - v.joinedAt
		}
		v.each(func(k *tracker) {
			if k.active {
				k.advance(j, v, end)
				k.close(v, k.run.last, k.run.last >= end)
			}
		})
	}
	return j.verdict(end)
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

// reference takes in a record of the server.
func (j *Judge) reference(r *trace.Record) {
	j.member(0, r)
	if len(r.State) == 0 && len(r.Gone) == 0 && !r.Whole {
		return
	}
	if r.T > j.lastSaid {
		if gap := float64(r.T - j.lastSaid); j.beat == 0 {
			j.beat = gap
		} else {
			j.beat += (min(gap, 2*j.beat) - j.beat) / 16
		}
		j.saidPrev, j.lastSaid = j.lastSaid, r.T
	}
	// A value that changes now stood until the last record, unless that was
	// long ago: then nothing was said because nothing changed.
	since := j.saidPrev
	if float64(r.T-since) > 4*j.beat {
		since = r.T - time.Duration(j.beat)
	}
	j.stamp++
	var last *thing
	for i := range r.State {
		c := &r.State[i]
		if last == nil || last.id != c.Entity {
			j.settleThing(last, r.T, since)
			last = j.named(c.Entity)
			last.stamp = j.stamp
			last.appear(r.T)
		}
		if c.Field != trace.Exists {
			last.set(j, c.Field, c.Value)
		}
	}
	j.settleThing(last, r.T, since)
	for _, e := range r.Gone {
		if t := j.thingOf(e); t != nil {
			t.vanish(r.T)
		}
	}
	if r.Whole {
		for _, t := range j.known {
			if t.stamp != j.stamp {
				t.vanish(r.T)
			}
		}
	}
}

func (j *Judge) thingOf(e trace.Entity) *thing {
	if int(e) < len(j.things) {
		return j.things[e]
	}
	return nil
}

// named returns the thing of that number, making it at its first naming.
func (j *Judge) named(e trace.Entity) *thing {
	if t := j.thingOf(e); t != nil {
		return t
	}
	for len(j.things) <= int(e) {
		j.things = append(j.things, nil)
	}
	t := &thing{id: e, name: j.config.Names.EntityID(e), exists: &path{compare: watch.Exact}}
	t.exists.corners = append(t.exists.corners, corner{-never, point{0}})
	j.things[e] = t
	j.known = append(j.known, t)
	for _, v := range j.views[1:] {
		if m := v.mirrorOf(e); m != nil {
			j.attach(v, m, t)
		} else if v.in {
			j.attach(v, v.mirror(e), t)
		}
	}
	return t
}

func (t *thing) appear(at time.Duration) {
	if !t.isThere {
		t.isThere = true
		t.exists.add(at, at, point{1})
		for _, p := range t.paths {
			p.broken = true
		}
	}
}

func (t *thing) vanish(at time.Duration) {
	if t.isThere {
		t.isThere = false
		t.exists.add(at, at, point{0})
	}
}

// set gives a field of a thing a value and marks the paths it belongs to.
func (t *thing) set(j *Judge, f trace.Field, v trace.Value) {
	if int(f) >= len(t.byField) {
		t.byField = append(t.byField, make([][]*path, int(f)+1-len(t.byField))...)
		t.values = append(t.values, make([]trace.Value, int(f)+1-len(t.values))...)
	}
	if t.byField[f] == nil {
		t.compile(j, f)
	}
	if t.values[f] == v {
		return
	}
	t.values[f] = v
	for _, p := range t.byField[f] {
		if !p.dirty {
			p.dirty = true
			t.touched = append(t.touched, p)
		}
	}
}

// compile finds the rules that speak of a field when it is first named.
func (t *thing) compile(j *Judge, f trace.Field) {
	t.byField[f] = []*path{} // from now on: nothing to find
	name := j.config.Names.FieldName(f)
	for _, own := range [...]bool{true, false} {
		i := watch.Find(j.config.Rules, t.name, own, name)
		if i < 0 || !j.config.Rules[i].Judged() {
			continue
		}
		rule := &j.config.Rules[i]
		p := t.pathFor(rule, j.fields[i])
		list := &t.otherRule
		if own {
			list = &t.ownRule
		}
		if !slices.ContainsFunc(*list, func(rp rulePath) bool { return rp.rule == rule }) {
			*list = append(*list, rulePath{rule, p})
			for _, v := range j.views[1:] {
				if m := v.mirrorOf(t.id); m != nil && m.thing == t && m.own == own {
					m.trackers = append(m.trackers, m.tracker(rule, p))
				}
			}
		}
		t.follow(f, p)
	}
	for i := range j.places {
		if near := &j.places[i]; slices.Contains(near.fields, f) {
			t.follow(f, t.pathFor(&near.compare, near.fields))
		}
	}
}

func (t *thing) follow(f trace.Field, p *path) {
	if !slices.Contains(t.byField[f], p) {
		t.byField[f] = append(t.byField[f], p)
	}
}

func (t *thing) pathFor(rule *watch.Rule, fields []trace.Field) *path {
	for _, p := range t.paths {
		if p.compare == rule.Compare && p.circle == rule.Circle && slices.Equal(p.fields, fields) {
			return p
		}
	}
	p := newPath(rule, fields)
	t.paths = append(t.paths, p)
	return p
}

// settleThing turns the fields that a record changed into corners of paths.
func (j *Judge) settleThing(t *thing, at, since time.Duration) {
	if t == nil {
		return
	}
	for _, p := range t.touched {
		p.dirty = false
		p.add(at, since, pointOf(p, t.values))
	}
	t.touched = t.touched[:0]
}

// pointOf is the value of a path's fields; a field never named is null.
func pointOf(p *path, values []trace.Value) point {
	var list [3]trace.Value
	for i, f := range p.fields {
		if int(f) < len(values) {
			list[i] = values[f]
		}
	}
	return encode(p.compare, list[:len(p.fields)])
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

func (m *mirror) tracker(rule *watch.Rule, p *path) *tracker {
	return &tracker{rule: rule, path: p, mirror: m, match: -never}
}

// attach connects a view's entity with the reference's.
func (j *Judge) attach(v *view, m *mirror, t *thing) {
	m.thing, m.own, m.since = t, t.id == v.own, -never
	if i := watch.Find(j.config.Rules, t.name, m.own, watch.Existence); i >= 0 && j.config.Rules[i].Judged() {
		m.existence = m.tracker(&j.config.Rules[i], t.exists)
		m.existence.holds = true
		if m.isThere {
			m.existence.value = point{1}
		}
	}
	rules := t.otherRule
	if m.own {
		rules = t.ownRule
	}
	m.trackers = nil
	for _, rp := range rules {
		k := m.tracker(rp.rule, rp.path)
		if k.value = pointOf(rp.path, m.values); m.isThere && len(m.values) > 0 {
			k.holds = true
		}
		m.trackers = append(m.trackers, k)
	}
}

// client judges a record of a client.
func (j *Judge) client(v *view, r *trace.Record) {
	t := r.T
	if !v.everJoined && !v.in && (len(r.State) > 0 || r.Whole) && r.Joined == "" {
		// A view that never says that it joined is in from its first picture on.
		j.enter(v, t, trace.Nobody)
	}
	if r.Joined == v.name {
		j.enter(v, t, j.config.Names.Entity(r.Entity))
	}
	j.member(v.number, r)
	if r.Left == v.name {
		j.leave(v, t)
	}
	if len(r.State) == 0 && len(r.Gone) == 0 && !r.Whole {
		return
	}
	j.stamp++
	var last *mirror
	for i := range r.State {
		c := &r.State[i]
		if last == nil || last.entity != c.Entity {
			j.settleMirror(v, last, t)
			last = v.mirror(c.Entity)
			last.stamp = j.stamp
			if !last.isThere {
				last.isThere = true
				j.meet(v, last, t)
			}
		}
		if c.Field != trace.Exists {
			last.set(c.Field, c.Value)
		}
	}
	j.settleMirror(v, last, t)
	for _, e := range r.Gone {
		if m := v.mirrorOf(e); m != nil {
			j.part(v, m, t)
		}
	}
	if r.Whole {
		for _, m := range v.mirrors {
			if m != nil && m.isThere && m.stamp != j.stamp {
				j.part(v, m, t)
			}
		}
	}
}

func (m *mirror) set(f trace.Field, v trace.Value) {
	if int(f) >= len(m.values) {
		m.values = append(m.values, make([]trace.Value, int(f)+1-len(m.values))...)
	}
	if m.values[f] == v {
		return
	}
	m.values[f] = v
	m.touched = true
	for _, k := range m.trackers {
		for _, field := range k.path.fields {
			if field == f {
				k.dirty = true
			}
		}
	}
}

// settleMirror judges what a record changed of one entity.
func (j *Judge) settleMirror(v *view, m *mirror, t time.Duration) {
	if m == nil || !m.touched {
		return
	}
	m.touched = false
	for _, k := range m.trackers {
		if k.dirty {
			k.dirty = false
			k.say(j, v, t, pointOf(k.path, m.values))
		}
	}
}

// meet: an entity came into a view.
func (j *Judge) meet(v *view, m *mirror, t time.Duration) {
	if m.thing == nil {
		if thing := j.thingOf(m.entity); thing != nil {
			j.attach(v, m, thing)
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
	v.in, v.everJoined, v.joinedAt = true, true, t
	if own != v.own {
		v.own = own
		for _, m := range v.mirrors {
			if m != nil && m.thing != nil {
				j.attach(v, m, m.thing)
			}
		}
	}
	for _, thing := range j.known {
		m := v.mirror(thing.id)
		if m.thing == nil {
			j.attach(v, m, thing)
		}
		m.since, m.expected = -never, false
		j.expect(v, m, t)
	}
}

// leave: a view is out of the match; nothing is expected of it any more.
func (j *Judge) leave(v *view, t time.Duration) {
	v.in = false
	v.inFor += t - v.joinedAt
	v.each(func(k *tracker) {
		if k.active {
			k.stop(j, v, t)
		}
	})
}

// sweep looks at everything that nobody spoke about lately, up to t.
func (j *Judge) sweep(t time.Duration) {
	oldest := t
	for _, v := range j.views[1:] {
		if !v.in {
			continue
		}
		for _, m := range v.mirrors {
			if m != nil && m.thing != nil {
				j.expect(v, m, t)
				if m.existence != nil {
					m.existence.advance(j, v, t)
				}
				for _, k := range m.trackers {
					k.advance(j, v, t)
				}
			}
		}
		if heard := v.down.newest(t); heard > -never {
			oldest = min(oldest, heard)
		}
	}
	oldest -= j.longestLag() + 2*sweepEvery
	for _, thing := range j.known {
		thing.exists.forget(oldest)
		for _, p := range thing.paths {
			p.forget(oldest)
		}
	}
	for _, v := range j.views[1:] {
		v.down.forget(oldest)
		v.up.forget(oldest)
	}
}

func (j *Judge) longestLag() (longest time.Duration) {
	for i := range j.config.Rules {
		longest = max(longest, j.config.Rules[i].Lag)
	}
	return longest
}

// expect decides, at t, what of an entity is to be judged in a view.
func (j *Judge) expect(v *view, m *mirror, t time.Duration) {
	j.expectOf(v, m, m.existence, t, true)
	there := m.isThere && m.thing.exists.at(t) == point{1}
	for _, k := range m.trackers {
		j.expectOf(v, m, k, t, len(k.path.corners) > 0 && (there || m.isThere && j.couldBeThere(v, m.thing, k.rule, t)))
	}
}

func (j *Judge) expectOf(v *view, m *mirror, k *tracker, t time.Duration, possible bool) {
	if k == nil {
		return
	}
	wanted := possible && v.in && j.shouldSee(v, m, k.rule, t) && t >= max(m.since, v.joinedAt)+k.rule.Grace
	switch {
	case wanted && !k.active:
		if k != m.existence && !k.holds && len(m.values) > 0 {
			k.value, k.holds, k.since = pointOf(k.path, m.values), true, t
		}
		k.start(j, v, t)
	case !wanted && k.active:
		k.stop(j, v, t)
	}
}

// couldBeThere reports whether the reference had the thing at any moment that
// may explain what the view shows at t. Of a ghost only its existence is judged.
func (j *Judge) couldBeThere(v *view, thing *thing, rule *watch.Rule, t time.Duration) bool {
	low, high, _ := v.window(rule, t)
	_, ok := thing.exists.latest(point{1}, 0, low, high)
	return ok
}

// shouldSee applies the rule's audience.
func (j *Judge) shouldSee(v *view, m *mirror, rule *watch.Rule, t time.Duration) bool {
	switch rule.SeenBy {
	case watch.OwnerOnly:
		return m.own
	case watch.AllButOwner:
		return !m.own
	case watch.Near:
		d, ok := j.apart(v, m.thing, rule, t)
		switch {
		case m.own:
			m.expected = true
		case !ok || d > rule.Leave:
			m.expected = false
		case d <= rule.Radius && !m.expected:
			m.expected, m.since = true, t
		}
		return m.expected
	}
	return true
}

// apart is the distance between a view's own entity and a thing, as the
// reference had it at that moment.
func (j *Judge) apart(v *view, t *thing, rule *watch.Rule, at time.Duration) (float64, bool) {
	own := j.thingOf(v.own)
	if own == nil {
		return 0, false
	}
	var fields []trace.Field
	for _, name := range rule.Place {
		fields = append(fields, j.config.Names.Field(name))
	}
	a, b := own.place(fields, at), t.place(fields, at)
	if a == nil || b == nil {
		return 0, false
	}
	return distance(*a, *b), true
}

// place is where a thing was at a moment, or nil if it was not there.
func (t *thing) place(fields []trace.Field, at time.Duration) *point {
	if t.exists.at(at) != (point{1}) {
		return nil
	}
	for _, p := range t.paths {
		if p.compare == watch.Distance && slices.Equal(p.fields, fields) && len(p.corners) > 0 {
			v := p.at(at)
			return &v
		}
	}
	return nil
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
		text = r.Left + " left"
	case r.Refused != "":
		text = r.Refused + " was refused"
	default:
		return
	}
	j.members = append(j.members, membership{r.T, number, text})
}

// queue holds client records until they can be judged, in order of time and
// view.
type queue struct {
	waiting []waitingRecord
	head    int
	spare   []*trace.Record
	last    *trace.Record
}

type waitingRecord struct {
	view   int
	record *trace.Record
}

func (q *queue) push(view int, r *trace.Record) {
	var own *trace.Record
	if n := len(q.spare); n > 0 {
		own, q.spare = q.spare[n-1], q.spare[:n-1]
	} else {
		own = &trace.Record{}
	}
	own.CopyFrom(r)
	if q.head > 1024 && q.head > len(q.waiting)/2 {
		q.waiting = append(q.waiting[:0], q.waiting[q.head:]...)
		q.head = 0
	}
	q.waiting = append(q.waiting, waitingRecord{view, own})
	for i := len(q.waiting) - 1; i > q.head; i-- {
		a, b := &q.waiting[i-1], &q.waiting[i]
		if a.record.T < b.record.T || a.record.T == b.record.T && a.view <= b.view {
			break
		}
		*a, *b = *b, *a
	}
}

func (q *queue) peek() (time.Duration, bool) {
	if q.head == len(q.waiting) {
		return 0, false
	}
	return q.waiting[q.head].record.T, true
}

// pop returns the next record, which is valid until the next pop.
func (q *queue) pop() (int, *trace.Record) {
	if q.last != nil {
		q.spare = append(q.spare, q.last)
	}
	w := q.waiting[q.head]
	q.waiting[q.head] = waitingRecord{}
	q.head++
	q.last = w.record
	return w.view, w.record
}
