package inspect

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Kept is how long what was said is kept at least of a match that is looked at while it goes on.
const Kept = 2 * time.Minute

// Live is what all views of a match that goes on said lately, to be looked at, at any moment of
// that. It is told under its own lock, so that what is told by one goroutine can be asked by another.
type Live struct {
	sync.Mutex
	names     *trace.Names
	views     []string
	rules     rulebook.Rules
	reference string
	outcomes  bool
	bench     *feed.Bench // nil where ticks are compared
	ring      []heard     // in order of time
	base      []map[trace.Entity]map[trace.Field]said
	began     time.Duration // what was said before is in base
	at        time.Duration // of what was told last
	stays     [][]judge.Stay
	there     []map[trace.Entity]bool // by view, now
	entities  []trace.Entity          // in order of their names
	found     []Found
	ended     string
	kept      time.Duration
}

// LiveTraces are the traces that a Live is told of.
type LiveTraces struct {
	Names    *trace.Names
	Views    []string // the server's first, if it has one
	Rules    rulebook.Rules
	Setting  feed.Setting
	Outcomes bool // the outcomes of packets will be told
}

// NewLive returns a Live that has been told nothing yet.
func NewLive(t LiveTraces) *Live {
	l := &Live{names: t.Names, views: t.Views, rules: rulebook.Rules{Fields: t.Rules.Fields, News: t.Rules.News}, reference: cmp.Or(t.Setting.Reference, rulebook.Server),
		outcomes: t.Outcomes, kept: Kept, stays: make([][]judge.Stay, len(t.Views))}
	if !t.Setting.Ticks {
		l.bench = feed.NewBench(t.Names, t.Views, l.rules, feed.Setting{Reference: t.Setting.Reference, Outcomes: t.Outcomes})
	}
	for range t.Views {
		l.base = append(l.base, map[trace.Entity]map[trace.Field]said{})
		l.there = append(l.there, map[trace.Entity]bool{})
	}
	return l
}

// Record takes in a record of a view, by its place among the views, in order of time. Whoever calls
// it holds the lock.
func (l *Live) Record(view int, r *trace.Record) {
	l.at = max(l.at, r.T)
	own := &trace.Record{}
	own.CopyFrom(r)
	l.ring = append(l.ring, heard{at: r.T, view: view, record: own})
	l.follow(view, r)
	if l.bench != nil {
		l.bench.Record(view, own)
	}
	if l.ring[0].at < l.at-l.kept-l.kept/4 {
		l.forget(l.at - l.kept)
	}
}

// Packet takes in the outcome of a packet on the link of a view. Whoever calls it holds the lock.
func (l *Live) Packet(view int, p link.Packet) {
	l.ring = append(l.ring, heard{at: p.Sent, view: view, packet: p})
	if l.bench != nil {
		l.bench.Packet(view, p)
	}
}

// Alert takes in that a finding has become certain. Whoever calls it holds the lock.
func (l *Live) Alert(a judge.Alert) {
	l.found = append(l.found, Found{judge.Seconds(a.At), judge.Seconds(a.Began), a.Kind, a.View, a.Entity, a.Subject})
}

// End takes in how the match ended.
func (l *Live) End(how string) {
	l.Lock()
	defer l.Unlock()
	l.ended = how
}

// follow keeps who is in the match, and what entities there are.
func (l *Live) follow(view int, r *trace.Record) {
	stays := l.stays[view]
	staying := len(stays) > 0 && stays[len(stays)-1].Until == openEnd
	switch {
	case r.Joined == l.views[view] && !staying:
		l.stays[view] = append(stays, judge.Stay{From: judge.Seconds(r.T), Until: openEnd, Entity: r.Entity})
	case r.Leaves(l.views[view]) && staying:
		stays[len(stays)-1].Until = judge.Seconds(r.T)
	case len(stays) == 0 && (len(r.State) > 0 || r.Full): // one that does not say that it joined
		l.stays[view] = append(stays, judge.Stay{From: judge.Seconds(r.T), Until: openEnd})
	}
	there := l.there[view]
	if r.Full {
		clear(there)
	}
	for _, c := range r.State {
		if !there[c.Entity] {
			there[c.Entity] = true
			if i, known := slices.BinarySearchFunc(l.entities, l.names.EntityID(c.Entity), func(e trace.Entity, name string) int { return cmp.Compare(l.names.EntityID(e), name) }); !known {
				l.entities = slices.Insert(l.entities, i, c.Entity)
			}
		}
	}
	for _, e := range r.Despawned {
		delete(there, e)
	}
}

const openEnd = judge.Seconds(1<<63 - 1)

// forget puts what was said before t into the base.
func (l *Live) forget(t time.Duration) {
	n := 0
	for ; n < len(l.ring) && l.ring[n].at < t; n++ {
		h := &l.ring[n]
		if h.record == nil {
			continue
		}
		base := l.base[h.view]
		if h.record.Full {
			clear(base)
		}
		for _, c := range h.record.State {
			if base[c.Entity] == nil {
				base[c.Entity] = map[trace.Field]said{}
			}
			base[c.Entity][c.Field] = said{h.at, c.Field, c.Value, ""}
		}
		for _, e := range h.record.Despawned {
			delete(base, e)
		}
	}
	l.ring = slices.Clone(l.ring[n:])
	l.began = t
}

// Query is what is asked of a match that goes on.
type Query struct {
	Entities []string       // to be shown in full
	Filter   string         // of the list: a pattern like dog/*, or a part of a name; "" is all
	At       *time.Duration // nil is now: the newest moment that is judged
}

// Moment is how a match stood, or stands.
type Moment struct {
	Now      judge.Seconds `json:"now_s"`             // the newest moment that is judged
	At       judge.Seconds `json:"at_s"`              // what is shown
	From     judge.Seconds `json:"from_s"`            // the oldest moment that can be
	Behind   judge.Seconds `json:"behind_s"`          // how much older the newest judged moment is than what was told last
	Ended    string        `json:"ended,omitempty"`   // how, if the match has ended
	ByTick   bool          `json:"by_tick,omitempty"` // views are compared at equal ticks, so nothing is marked here
	Entities []Listed      `json:"entities"`
	Sheets   []Sheet       `json:"sheets"`
	Found    []Found       `json:"findings"`
}

// Found is a finding that has become certain while the match goes on.
type Found struct {
	At     judge.Seconds `json:"t_s"` // when it became certain
	Began  judge.Seconds `json:"began_s"`
	Kind   judge.Kind    `json:"kind"` // as it looked by then
	View   string        `json:"view"`
	Entity string        `json:"entity"`
	Fields judge.Subject `json:"fields"`
}

// Alert is the finding as the judge told it.
func (f Found) Alert() judge.Alert {
	return judge.Alert{At: time.Duration(f.At), Began: time.Duration(f.Began), Kind: f.Kind, View: f.View, Entity: f.Entity, Subject: f.Fields}
}

// Listed is an entity in the list of all, as it is now.
type Listed struct {
	Entity  string   `json:"entity"`
	Views   int      `json:"views"`   // that have it
	Differs []string `json:"differs"` // views in which something of it is unexplained
}

// Ask answers a query.
func (l *Live) Ask(q Query) Moment {
	l.Lock()
	defer l.Unlock()
	behind := time.Duration(0)
	if l.bench != nil {
		behind = l.bench.Behind()
	}
	now := max(l.at-behind, l.began)
	at := now
	if q.At != nil {
		at = min(max(*q.At, l.began), now)
	}
	m := Moment{Now: judge.Seconds(now), At: judge.Seconds(at), From: judge.Seconds(l.began), Behind: judge.Seconds(l.at - now), Ended: l.ended, ByTick: l.bench == nil,
		Entities: []Listed{}, Sheets: []Sheet{}, Found: append([]Found{}, l.found...)}
	for _, e := range l.entities {
		name := l.names.EntityID(e)
		if !fits(q.Filter, name) {
			continue
		}
		m.Entities = append(m.Entities, l.listed(e, name, now))
	}
	for _, entity := range q.Entities {
		m.Sheets = append(m.Sheets, l.sheet(entity, at))
	}
	return m
}

// fits reports whether a name fits a filter: a pattern, or a part of it.
func fits(filter, name string) bool {
	if strings.ContainsAny(filter, "*?[") {
		ok, err := path.Match(filter, name)
		return ok && err == nil
	}
	return strings.Contains(name, filter)
}

func (l *Live) listed(e trace.Entity, name string, now time.Duration) Listed {
	one := Listed{Entity: name, Differs: []string{}}
	for view, title := range l.views {
		if l.there[view][e] {
			one.Views++
		}
		if l.bench == nil || title == l.reference || l.at == 0 {
			continue
		}
		if slices.ContainsFunc(l.bench.Sights(view, e, now), func(s judge.Sight) bool { return s.Standing == judge.Differs }) {
			one.Differs = append(one.Differs, title)
		}
	}
	return one
}

// sheet is one entity at a moment.
func (l *Live) sheet(entity string, at time.Duration) Sheet {
	w := &Window{From: at, Until: at, began: l.began, views: l.views, reference: slices.Index(l.views, l.reference), rules: l.rules, outcomes: l.outcomes, entity: entity,
		names: l.names, said: make([][]said, len(l.views)), stays: l.stays}
	wanted := []trace.Entity{l.names.Entity(entity)}
	for view, stays := range l.stays {
		for _, s := range stays {
			if s.Entity != "" {
				wanted = append(wanted, l.names.Entity(s.Entity))
			}
			if from := time.Duration(s.From); from < l.began && time.Duration(s.Until) > l.began {
				w.heard = append(w.heard, heard{at: from, view: view, record: &trace.Record{T: from, Joined: l.views[view], Entity: s.Entity}})
			}
		}
	}
	slices.SortStableFunc(w.heard, func(a, b heard) int { return cmp.Compare(a.at, b.at) })
	for view := range l.views {
		r := &trace.Record{T: l.began}
		for _, e := range wanted {
			fields := l.base[view][e]
			for _, f := range slices.Sorted(maps.Keys(fields)) {
				r.State = append(r.State, trace.Change{Entity: e, Field: f, Value: fields[f].value})
			}
		}
		if len(r.State) > 0 {
			w.take(view, l.began, r, wanted)
		}
	}
	for _, h := range l.ring {
		if h.record == nil {
			w.heard = append(w.heard, h)
		} else {
			w.take(h.view, h.at, h.record, wanted)
		}
	}
	if l.bench == nil { // ticks are compared: what is so at one time need not agree
		return w.sheet(at, func(int) []judge.Sight { return nil })
	}
	return w.At(at)
}
