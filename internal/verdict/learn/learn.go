// Package learn draws watch rules from matches that went right: what kinds of entities and fields a
// game has, how far and how late its views show them, who sees what, and which events come to whom.
//
// It looks at what the views told and knows nothing of the network, of findings, or of how rules are
// written down. What it learns is a proposal for a person to read: each rule comes with what it was
// learned from, and what rests on little says so. A mistake that is in a match is not to be learned as
// normal: lateness and tolerance come from what most of the courses of a kind agree on, and whoever
// judges the same match by the rules finds the rest.
package learn

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Match takes in what the views of one match told. See [NewMatch].
type Match struct {
	names   *trace.Names
	views   []*teller
	players map[string]bool
	points  int
	ticks   bool // the time of all state is that of ticks, see ticks.go
}

// teller is one view of a match.
type teller struct {
	name    string
	told    []time.Duration // of its records that tell state
	said    []time.Duration // when it told each of them by the clock, where they are told by ticks
	courses map[place]*course
	there   map[trace.Entity]*presence
	stays   []stay
	own     map[trace.Entity]bool
	last    time.Duration
	deepest time.Duration // how far it went back at most, of ticks
	clock   clock
	lost    []time.Duration // when packets to it were sent that were lost; in order
}

// place is a field of an entity.
type place struct {
	entity trace.Entity
	field  trace.Field
}

// course is how a value went: its changes.
type course struct {
	t []time.Duration
	v []trace.Value
}

// presence is when an entity was there.
type presence struct{ spans []stay }

type stay struct{ from, until time.Duration }

// clock is what a view told by its clock, also where its state is told by ticks.
type clock struct {
	stays  []stay
	events []occasion
	marks  []occasion
	last   time.Duration
}

// occasion is an event, or a mark.
type occasion struct {
	t                        time.Duration
	name, id, by, to, entity string
}

const forGood = time.Duration(1<<63 - 1)

// mostPoints bounds what is kept of one match; what comes later is not learned from.
const mostPoints = 8_000_000

// NewMatch returns a match of which nothing is known yet. The server's view comes first.
func NewMatch(names *trace.Names, views []string) *Match {
	m := &Match{names: names, players: map[string]bool{}}
	for _, name := range views {
		m.views = append(m.views, &teller{name: name, courses: map[place]*course{}, there: map[trace.Entity]*presence{}, own: map[trace.Entity]bool{}})
		if name != rulebook.Server {
			m.players[name] = true
		}
	}
	return m
}

// Record takes in a record of a view, by its place among the views. Those of one view come in order.
func (m *Match) Record(view int, r *trace.Record) {
	v := m.views[view]
	v.clock.take(r, view > 0 && r.Joined == v.name, r.Leaves(v.name))
	t := r.T
	if m.ticks {
		t = v.tick(r)
	}
	v.last = max(v.last, t)
	switch {
	case r.Joined == v.name && view > 0:
		v.stays = append(v.stays, stay{t, forGood})
		if r.Entity != "" {
			v.own[m.names.Entity(r.Entity)] = true
		}
	case r.Leaves(v.name) && len(v.stays) > 0:
		v.stays[len(v.stays)-1].until = t
	}
	picture := r.Pictures()
	if m.points > mostPoints || !picture && !(m.ticks && r.EndsTick()) {
		return
	}
	if view > 0 && len(v.stays) == 0 {
		v.stays = append(v.stays, stay{t, forGood})
		v.clock.stays = append(v.clock.stays, stay{r.T, forGood})
	}
	if n := len(v.told); n > 0 && t < v.told[n-1] {
		v.goBack(t, r.T)
	}
	v.told = append(v.told, t)
	if m.ticks {
		v.said = append(v.said, r.T)
	}
	for i := range r.State {
		c := &r.State[i]
		v.appears(c.Entity, t)
		if c.Field != trace.Exists {
			m.points += v.set(place{c.Entity, c.Field}, t, c.Value)
		}
	}
	for _, e := range r.Despawned {
		v.vanishes(e, t)
	}
	if r.Full {
		named := map[trace.Entity]bool{}
		for i := range r.State {
			named[r.State[i].Entity] = true
		}
		for e := range v.there {
			if !named[e] {
				v.vanishes(e, t)
			}
		}
	}
}

func (c *clock) take(r *trace.Record, joins, leaves bool) {
	c.last = max(c.last, r.T)
	switch {
	case joins:
		c.stays = append(c.stays, stay{r.T, forGood})
	case leaves && len(c.stays) > 0:
		c.stays[len(c.stays)-1].until = r.T
	}
	if r.Event != "" {
		c.events = append(c.events, occasion{t: r.T, name: r.Event, id: r.ID, by: r.By, to: r.To, entity: r.Entity})
	}
	if r.Checkpoint != "" {
		c.marks = append(c.marks, occasion{t: r.T, name: r.Checkpoint, id: r.ID, by: r.By, entity: r.Entity})
	}
}

// Lost takes in that a packet to a view was lost, in order of when they were sent.
func (m *Match) Lost(view int, sent time.Duration) {
	m.views[view].lost = append(m.views[view].lost, sent)
}

// lostWhen reports whether a packet to a view was lost around the time at which the server sent what it
// changed at t, or at which that was sent again.
func (v *teller) lostWhen(t time.Duration) bool {
	i, _ := slices.BinarySearch(v.lost, t-rulebook.SentWith)
	return i < len(v.lost) && v.lost[i] <= t+rulebook.SentWith
}

func (v *teller) set(p place, t time.Duration, value trace.Value) (added int) {
	c := v.courses[p]
	if c == nil {
		c = &course{}
		v.courses[p] = c
	}
	switch n := len(c.t); {
	case n > 0 && c.v[n-1] == value:
		return 0
	case n > 0 && c.t[n-1] == t: // what is told last counts
		c.v[n-1] = value
		return 0
	}
	c.t, c.v = append(c.t, t), append(c.v, value)
	return 1
}

func (v *teller) appears(e trace.Entity, t time.Duration) {
	p := v.there[e]
	if p == nil {
		p = &presence{}
		v.there[e] = p
	}
	if n := len(p.spans); n == 0 || p.spans[n-1].until != forGood {
		p.spans = append(p.spans, stay{t, forGood})
	}
}

func (v *teller) vanishes(e trace.Entity, t time.Duration) {
	if p := v.there[e]; p != nil && len(p.spans) > 0 && p.spans[len(p.spans)-1].until == forGood {
		p.spans[len(p.spans)-1].until = t
	}
}

// in reports whether a view was in the match, and had been for a while.
func (v *teller) in(t, already time.Duration) bool { return within(v.stays, t, already) }

// in is the same by the clock.
func (c *clock) in(t, already time.Duration) bool { return within(c.stays, t, already) }

func within(stays []stay, t, already time.Duration) bool {
	return slices.ContainsFunc(stays, func(s stay) bool { return s.from+already <= t && t < s.until })
}

// Lesson is what was learned.
type Lesson struct {
	Rules  []Rule
	Events []EventRule
	Laws   []Law
	Chains []Chain
	Asked  []string // what a person must decide
	Unsure []string // what could not be learned, and what to do for it
}

// Rule is a watch rule, with what it was learned from.
type Rule struct {
	rulebook.Rule
	Why  []string
	Thin bool // it rests on little

	late   time.Duration // of nine tenths of it
	resent resent        // of what was lost
	steady bool          // it disagrees steadily, so what was seen of it tells little of how it should be
	moves  bool
	atOnce float64 // by how much it differs at the same moment, all but a thousandth
	still  bool    // it never changed, so that how late it is shown was not learned
}

// EventRule is an event rule, with what it was learned from.
type EventRule struct {
	rulebook.EventRule
	Why  []string
	Thin bool

	resent resent
}

// Learn draws rules from matches of one game.
func Learn(matches []*Match) *Lesson {
	l := &Lesson{}
	for _, kind := range kindsOf(matches) {
		kind.learn(l)
	}
	l.byClock()
	l.borrow()
	l.events(matches)
	l.resends()
	l.chains(matches)
	if len(l.Rules) > 0 && !slices.ContainsFunc(l.Rules, func(r Rule) bool { return r.moves && !r.still }) {
		l.Unsure = append(l.Unsure, "nothing moved: how late views are, and how far off, shows in what moves. Let the bots roam")
	}
	if length := lengthOf(matches); length < shortest {
		l.Unsure = append(l.Unsure, fmt.Sprintf("the longest of the matches lasts %s: half a minute and more shows what is rare", seconds(length)))
	}
	if clients := clientsOf(matches); clients < 2 {
		l.Unsure = append(l.Unsure, "one client alone played: whether players see each other's things needs two")
	}
	return l
}

// byClock finds what others show without any delay, where all else that moves takes its time to come:
// they work it out from a clock that they share, and nothing that the link holds back excuses it.
func (l *Lesson) byClock() {
	const (
		clocksMeet = 5 * time.Second // after joining
		atOnce     = 60 * time.Millisecond
		slow       = 3 * atOnce
	)
	usual := time.Duration(0)
	for _, r := range l.Rules {
		if r.moves && r.Of != rulebook.Own {
			usual = max(usual, r.late)
		}
	}
	for i := range l.Rules {
		r := &l.Rules[i]
		if usual >= slow && r.moves && !r.steady && !r.still && r.Of != rulebook.Own && !r.Thin && r.SeenBy == rulebook.Everyone && r.late <= atOnce/2 && r.MaxDelay <= 2*atOnce {
			r.TimeDriven = true
			r.MaxAhead, r.Grace = 0, clocksMeet
			r.Tolerance = max(r.Tolerance, ceil2(2*r.atOnce))
			r.Why = append(r.Why, fmt.Sprintf("shown without delay, where others come up to %s late: it follows a shared clock", seconds(usual)))
		}
	}
}

// borrow gives rules of what never changed the delay of what did: nobody knows by which way a change
// would come.
func (l *Lesson) borrow() {
	most := rulebook.DefaultMaxDelay
	for _, r := range l.Rules {
		if !r.still && r.SeenBy != rulebook.Nobody && r.MaxDelay <= longest {
			most = max(most, r.MaxDelay)
		}
	}
	for i := range l.Rules {
		r := &l.Rules[i]
		if !r.still {
			continue
		}
		r.MaxDelay = most
		text := "it never changed: the delay is the longest of all else"
		least := 0.0
		for _, other := range l.Rules {
			if !other.still && other.Compare == r.Compare && other.Label() == r.Label() && (least == 0 || other.Tolerance < least) {
				least = other.Tolerance
			}
		}
		if r.Compare == rulebook.Distance && least > r.Tolerance {
			r.Tolerance = least
			text += ", and the tolerance that of the same fields of what moves"
		}
		r.Why = append(r.Why, text)
	}
}

// Watched are the rules alone.
func (l *Lesson) Watched() (rules rulebook.Rules) {
	for _, r := range l.Rules {
		rules.Fields = append(rules.Fields, r.Rule)
	}
	for _, e := range l.Events {
		rules.Events = append(rules.Events, e.EventRule)
	}
	for _, law := range l.Laws {
		if law.Offered {
			continue
		}
		rules.Invariants = append(rules.Invariants, law.InvariantRule)
	}
	return rules
}

// shortest is how long a match should last to learn from.
const shortest = 10 * time.Second

func lengthOf(matches []*Match) (longest time.Duration) {
	for _, m := range matches {
		longest = max(longest, m.views[0].clock.last)
	}
	return longest
}

// Alike reports whether two matches are of one game: whether their servers tell of any kind of entity
// that both have.
func (m *Match) Alike(other *Match) bool {
	kinds := map[string]bool{}
	for e := range m.views[0].there {
		name, _, _ := strings.Cut(m.names.EntityID(e), "/")
		kinds[name] = true
	}
	for e := range other.views[0].there {
		if name, _, _ := strings.Cut(other.names.EntityID(e), "/"); kinds[name] {
			return true
		}
	}
	return false
}

func clientsOf(matches []*Match) (most int) {
	for _, m := range matches {
		n := 0
		for _, v := range m.views[1:] {
			if len(v.stays) > 0 {
				n++
			}
		}
		most = max(most, n)
	}
	return most
}

// kind is all entities whose names begin alike, in all matches.
type kind struct {
	name    string // before the stroke
	entries []entry
	fields  map[string]*field
	order   []*field
}

// entry is one entity of a kind in one match.
type entry struct {
	match  *Match
	entity trace.Entity
}

// kindsOf sorts the entities of all matches.
func kindsOf(matches []*Match) (list []*kind) {
	known := map[string]*kind{}
	for _, m := range matches {
		server := m.views[0]
		entities := map[trace.Entity]bool{}
		for e := range server.there {
			entities[e] = true
		}
		for e := range entities {
			name, _, _ := strings.Cut(m.names.EntityID(e), "/")
			k := known[name]
			if k == nil {
				k = &kind{name: name, fields: map[string]*field{}}
				known[name] = k
				list = append(list, k)
			}
			k.entries = append(k.entries, entry{m, e})
		}
		for p, c := range server.courses {
			name, _, _ := strings.Cut(m.names.EntityID(p.entity), "/")
			if k := known[name]; k != nil {
				k.field(m.names.FieldName(p.field)).take(m, c)
			}
		}
	}
	slices.SortFunc(list, func(a, b *kind) int { return cmp.Compare(a.name, b.name) })
	for _, k := range list {
		slices.SortFunc(k.entries, func(a, b entry) int {
			return cmp.Or(cmp.Compare(slices.Index(matches, a.match), slices.Index(matches, b.match)), cmp.Compare(a.match.names.EntityID(a.entity), b.match.names.EntityID(b.entity)))
		})
		for _, f := range k.fields {
			k.order = append(k.order, f)
		}
		slices.SortFunc(k.order, func(a, b *field) int { return cmp.Compare(a.name, b.name) })
	}
	return list
}

func (k *kind) field(name string) *field {
	f := k.fields[name]
	if f == nil {
		f = &field{name: name, distinct: map[string]bool{}}
		k.fields[name] = f
	}
	return f
}

// pattern is how a rule names the kind.
func (k *kind) pattern() string {
	if slices.ContainsFunc(k.entries, func(e entry) bool { return strings.Contains(e.match.names.EntityID(e.entity), "/") }) {
		return k.name + "/*"
	}
	return k.name
}
