// Package metrics tells how a match felt, beside whether it was right: how large
// and how frequent corrections are, how long an input takes to show, how smoothly
// others move, how well clocks agree, and what goes over the wire.
//
// It works in one pass in time order on trace records and outcomes of packets. It
// knows watch rules, from which it takes which fields hold a place, and judges
// nothing. docs/measures.md defines each measure.
package metrics

import (
	"cmp"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Collector takes in a match. See [New].
type Collector struct {
	names   *trace.Names
	rules   []rulebook.Rule
	views   []*view
	places  []place        // of each entity, by its number
	truth   []*way         // of the server's
	order   []trace.Entity // those with a place, by their names: a match that is read numbers them otherwise than one that is played
	pending []*response
	first   time.Duration
	last    time.Duration
	began   bool
	players int           // that are in now
	came    string        // who joined last, and when
	cameAt  time.Duration //
	there   []bool        // by entity: whether the server has it
	ahead   int           // views before the first that is told of: 1 where there is no server

	// Ticks says that views tell states of ticks, and perhaps of one tick again. How that looks on a
	// screen it does not show.
	Ticks bool

	// Corrected hears of every correction of a view's own entity, by how much; may be
	// nil.
	Corrected func(view int, t time.Duration, by float64)
}

type view struct {
	name        string
	own         trace.Entity
	tracks      []track // by entity
	predicted   point
	hasOwn      bool
	off         point // shown less predicted, when last told
	corrections sample
	clock       sample
	responded   sample // its own view to an input
	server      sample
	elsewhere   sample
	teller      teller
	pace        pace
	layers      layers
	joining     joining
	phases      phases
	shown       []*shown // by entity
	lookAt      time.Duration
	looks       int
	ownMotion   motion
	others      motion
	lastInput   string
	inFrom      time.Duration
	in          bool
	inFor       time.Duration
	traffic     [2]Traffic
	sent        map[string]*Traffic
	sentNames   []string
	load        struct{ cpu, resident, threads, files sample }
}

type point [3]float64

func (p point) minus(q point) point { return point{p[0] - q[0], p[1] - q[1], p[2] - q[2]} }
func (p point) size() float64       { return math.Sqrt(p[0]*p[0] + p[1]*p[1] + p[2]*p[2]) }

// place is which fields hold the place of an entity: none, if it has no place.
type place struct {
	known  bool
	fields []trace.Field
	rule   *rulebook.Rule // that compares it
}

// track follows the place of one entity in one view.
type track struct {
	place   point
	known   bool
	changed time.Duration // when it last moved
}

// response waits for an input to show.
type response struct {
	view   *view
	entity trace.Entity
	t      time.Duration
	seen   []bool // by view
	from   []point
}

// New returns a collector. The first view is the server's, if server says so; without one
// what is measured of it is missing.
func New(names *trace.Names, views []string, server bool, rules rulebook.Rules) *Collector {
	c := &Collector{names: names, rules: rules.Fields}
	if !server {
		c.ahead = 1
		c.views = append(c.views, &view{sent: map[string]*Traffic{}})
	}
	for _, name := range views {
		c.views = append(c.views, &view{name: name, sent: map[string]*Traffic{}})
	}
	return c
}

const (
	restBefore   = 300 * time.Millisecond // without moving: at rest
	moved        = 0.03                   // less is no movement
	responseEnds = 3 * time.Second        // nothing shows so late
	corrected    = 0.05                   // a smaller jump is none
)

// Corrections is how often a view's own entity was corrected so far.
func (c *Collector) Corrections(view int) int { return c.views[view+c.ahead].corrections.count }

// Record takes in a record of a view, by its place among the views.
func (c *Collector) Record(number int, r *trace.Record) {
	number += c.ahead
	if !c.began {
		c.began, c.first = true, r.T
	}
	c.last = max(c.last, r.T)
	v := c.views[number]
	if number > 0 {
		v.phases.pass(r.T)
		c.member(v, r)
		if r.HasPing {
			v.clock.add(float64((r.ServerTime + r.Ping/2 - r.T).Abs()) / 1e6)
		}
		if r.Input != "" && r.Input != v.lastInput && !strings.HasPrefix(r.Input, trace.SetInput) {
			v.lastInput = r.Input
			c.input(v, r.T)
		}
	}
	switch {
	case r.Checkpoint == "sent" && r.ID != "":
		v.tellSent(r)
	case r.Checkpoint == trace.LoadMark:
		v.tellLoad(r)
	case r.Checkpoint == trace.AskMark:
		v.joining.asked, v.joining.isAsked = r.T, true
	}
	if number == 0 {
		c.has(r)
	}
	for _, e := range r.Despawned {
		if k := v.track(e); k != nil {
			*k = track{}
		}
		if int(e) < len(v.shown) {
			v.shown[e] = nil
		}
	}
	if len(r.State) > 0 {
		v.teller.tell(r.T)
	}
	v.pace.tell(r, c.players, c.lately(r.T))
	for i := 0; i < len(r.State); {
		e := r.State[i].Entity
		end := i
		for end < len(r.State) && r.State[end].Entity == e {
			end++
		}
		c.move(number, e, r.State[i:end], r.T)
		i = end
	}
	if number > 0 && len(r.Predicted) > 0 {
		c.predict(number, r)
	}
	if number > 0 && len(r.Predicted)+len(r.Received) > 0 {
		c.layered(v, r)
	}
	if number > 0 {
		c.comes(v, r)
		v.phases.now = v.does()
	}
	if number > 0 && len(r.State) > 0 {
		c.look(number, r.T)
	}
}

// Packet takes in the outcome of a packet on the link of a view.
func (c *Collector) Packet(number int, p link.Packet) {
	v := c.views[number+c.ahead]
	v.phases.packet(p)
	t := &v.traffic[p.Direction]
	t.Packets++
	t.Bytes += p.Size
	if p.Copies == 0 {
		t.Lost++
	} else {
		t.Delay += p.Delay().Seconds() * 1e3
	}
	c.last = max(c.last, p.Sent)
}

func (c *Collector) member(v *view, r *trace.Record) {
	switch {
	case r.Joined == v.name:
		v.own, v.in, v.inFrom, v.hasOwn = c.names.Entity(r.Entity), true, r.T, false
		clear(v.tracks)
		clear(v.shown)
		clear(v.layers.received)
		v.pace.away()
		c.joins(v, r.T)
		c.came, c.cameAt = v.name, r.T
		c.count()
	case r.Leaves(v.name) && v.in:
		v.in = false
		v.inFor += r.T - v.inFrom
		v.pace.away()
		v.joining.end()
		c.count()
	}
}

// count counts the players that are in.
func (c *Collector) count() {
	c.players = 0
	for _, v := range c.views[1:] {
		if v.in {
			c.players++
		}
	}
}

// lately is who has joined only just, or "".
func (c *Collector) lately(t time.Duration) string {
	if c.came == "" || t-c.cameAt > time.Second {
		return ""
	}
	return c.came
}

// Broke takes in that the trace of a view broke off: what it showed until it tells again nobody
// knows.
func (c *Collector) Broke(number int) {
	clear(c.views[number+c.ahead].shown)
	c.views[number+c.ahead].pace.away()
}

// track is what is known of an entity in a view, or nil. It is valid until the view tells of
// another.
func (v *view) track(e trace.Entity) *track {
	if int(e) < len(v.tracks) {
		return &v.tracks[e]
	}
	return nil
}

// placeOf is which fields hold the place of an entity.
func (c *Collector) placeOf(e trace.Entity) []trace.Field {
	for len(c.places) <= int(e) {
		c.places = append(c.places, place{})
	}
	if c.places[e].known {
		return c.places[e].fields
	}
	var fields []trace.Field
	rule := rulebook.PlaceRule(c.rules, c.names.EntityID(e))
	if rule != nil {
		for _, f := range rule.Fields {
			fields = append(fields, c.names.Field(f))
		}
	}
	c.places[e] = place{true, fields, rule}
	if rule != nil {
		name := c.names.EntityID(e)
		at, _ := slices.BinarySearchFunc(c.order, name, func(e trace.Entity, name string) int { return cmp.Compare(c.names.EntityID(e), name) })
		c.order = slices.Insert(c.order, at, e)
	}
	return fields
}

// set takes changes into a place and reports whether any was about it.
func set(p *point, fields []trace.Field, changes []trace.Change) bool {
	touched := false
	for i := range changes {
		if k := slices.Index(fields, changes[i].Field); k >= 0 {
			if f := changes[i].Value.Float(); !math.IsNaN(f) {
				p[k], touched = f, true
			}
		}
	}
	return touched
}

// move takes in what a view said of one entity.
func (c *Collector) move(number int, e trace.Entity, changes []trace.Change, t time.Duration) {
	fields := c.placeOf(e)
	if fields == nil {
		return
	}
	v := c.views[number]
	for len(v.tracks) <= int(e) {
		v.tracks = append(v.tracks, track{})
	}
	k := &v.tracks[e]
	before := k.place
	if !set(&k.place, fields, changes) {
		return
	}
	if !k.known {
		k.known, k.changed = true, t
		c.goes(number, e, k.place, t, false)
		return
	}
	if k.place == before {
		return
	}
	for _, r := range c.pending {
		if r.entity == e && !r.seen[number] && k.place.minus(r.from[number]).size() > moved {
			r.seen[number] = true
			ms := float64(t-r.t) / 1e6
			switch {
			case number == 0:
				r.view.server.add(ms)
			case v == r.view:
				r.view.responded.add(ms)
			default:
				r.view.elsewhere.add(ms)
			}
		}
	}
	k.changed = t
	c.goes(number, e, k.place, t, true)
}

// goes notes where an entity is now.
func (c *Collector) goes(number int, e trace.Entity, p point, t time.Duration, leaps bool) {
	v := c.views[number]
	if number == 0 {
		for len(c.truth) <= int(e) {
			c.truth = append(c.truth, nil)
		}
		if c.truth[e] == nil {
			c.truth[e] = &way{}
		}
		c.truth[e].add(t, v.teller.since(), p)
		c.truth[e].forget(t - lookBehind - truthKept)
		return
	}
	for len(v.shown) <= int(e) {
		v.shown = append(v.shown, nil)
	}
	if v.shown[e] == nil {
		v.shown[e] = &shown{}
	}
	k := v.shown[e]
	k.add(t, v.teller.since(), p)
	k.forget(t - lookBehind - shownKept)
	if leaps {
		k.step(t, c.places[e].rule.Tolerance)
	}
}

// least is how far off an entity may be by its rule: what is far less is no movement.
func (c *Collector) least(e trace.Entity) float64 {
	c.placeOf(e)
	return c.places[e].rule.Tolerance
}

// input begins to wait for an input to show, if its entity is at rest everywhere
// where it is known.
func (c *Collector) input(v *view, t time.Duration) {
	kept := c.pending[:0]
	for _, r := range c.pending {
		if t-r.t < responseEnds && r.view != v { // a newer input of the same view ends the wait
			kept = append(kept, r)
		}
	}
	c.pending = kept
	r := &response{view: v, entity: v.own, t: t, seen: make([]bool, len(c.views)), from: make([]point, len(c.views))}
	for i, other := range c.views {
		k := other.track(v.own)
		if k == nil || !k.known || t-k.changed < restBefore {
			if i == 0 && c.ahead == 0 || other == v {
				return
			}
			r.seen[i] = true // not to be waited for
			continue
		}
		r.from[i] = k.place
	}
	c.pending = append(c.pending, r)
}

// predict takes in what a view predicted of its own entity beside what it showed.
// A correction moves the prediction at once and what is shown smoothly, so that
// the difference of the two jumps.
func (c *Collector) predict(number int, r *trace.Record) {
	v := c.views[number]
	fields := c.placeOf(v.own)
	k := v.track(v.own)
	if fields == nil || k == nil || !k.known {
		return
	}
	var own []trace.Change
	for _, change := range r.Predicted {
		if change.Entity == v.own {
			own = append(own, change)
		}
	}
	if !set(&v.predicted, fields, own) {
		return
	}
	off := k.place.minus(v.predicted)
	if jump := off.minus(v.off).size(); v.hasOwn && off.size() > v.off.size() && jump > corrected {
		v.corrections.add(jump)
		if c.Corrected != nil {
			c.Corrected(number-c.ahead, r.T, jump)
		}
	}
	v.off, v.hasOwn = off, true
}

// tellSent takes in what a game says of the traffic of one kind of message.
func (v *view) tellSent(r *trace.Record) {
	var data struct{ Packets, Bytes int }
	if json.Unmarshal([]byte(r.Data), &data) != nil {
		return
	}
	t := v.sent[r.ID]
	if t == nil {
		t = &Traffic{}
		v.sent[r.ID] = t
		v.sentNames = append(v.sentNames, r.ID)
	}
	t.Packets += data.Packets
	t.Bytes += data.Bytes
}
