package metrics

import (
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Joining is how long it takes a view to get into the match, over all its joins, in ms.
type Joining struct {
	Joins    int                `json:"joins"`
	Shown    *Spread            `json:"shown_ms,omitempty"`    // from asking to be let in until it shows its own entity
	Moves    *Spread            `json:"moves_ms,omitempty"`    // from asking until its own entity moves there
	Complete *Spread            `json:"complete_ms,omitempty"` // from joining until it shows all that the server had then
	Kinds    map[string]float64 `json:"kinds_ms,omitempty"`    // the same by kind of entity, of the slowest join
	Last     string             `json:"last,omitempty"`        // what came last in the slowest join
	Lacking  int                `json:"lacking,omitempty"`     // entities that did not come within ten seconds, or before it left
}

// joining collects a Joining.
type joining struct {
	asked                  time.Duration
	isAsked                bool
	going                  bool // a join is under way
	joined                 time.Duration
	due                    map[trace.Entity]bool // that the server had and everybody is to see; false once it is there
	last                   time.Duration
	lastCame               string
	kinds                  map[string]time.Duration
	own                    bool // it is shown
	place                  point
	moved                  bool
	shown, moves, complete sample
	joins, lacking         int
	slowest                float64
	slowestCame            string
	slowestKinds           map[string]float64
}

// joinSettles is how long after joining what comes may be of the join.
const joinSettles = 10 * time.Second

// joins begins a join of a view.
func (c *Collector) joins(v *view, t time.Duration) {
	j := &v.joining
	j.end()
	j.going, j.joined, j.last, j.lastCame, j.own, j.moved = true, t, t, "", false, false
	j.joins++
	if !j.isAsked {
		j.asked = t
	}
	j.isAsked = false
	j.due, j.kinds = map[trace.Entity]bool{}, map[string]time.Duration{}
	for e, there := range c.there {
		if there && c.forAll(trace.Entity(e)) {
			j.due[trace.Entity(e)] = true
		}
	}
}

// has keeps which entities the server has.
func (c *Collector) has(r *trace.Record) {
	if r.Full {
		clear(c.there)
	}
	for i := range r.State {
		e := int(r.State[i].Entity)
		for len(c.there) <= e {
			c.there = append(c.there, false)
		}
		c.there[e] = true
	}
	for _, e := range r.Despawned {
		if int(e) < len(c.there) {
			c.there[e] = false
		}
	}
}

// forAll reports whether everybody is to see an entity, as far as rules say.
func (c *Collector) forAll(e trace.Entity) bool {
	i := rulebook.Find(c.rules, c.names.EntityID(e), false, rulebook.Existence)
	return i < 0 || c.rules[i].SeenBy == rulebook.Everyone
}

// comes takes in that a view shows entities.
func (c *Collector) comes(v *view, r *trace.Record) {
	j := &v.joining
	if !j.going {
		return
	}
	if r.T-j.joined > joinSettles {
		j.end()
		return
	}
	for i := range r.State {
		e := r.State[i].Entity
		if e == v.own {
			c.comesOwn(v, r.T)
		}
		if !j.due[e] {
			continue
		}
		name := c.names.EntityID(e)
		kind, _, _ := strings.Cut(name, "/")
		j.due[e], j.last, j.lastCame, j.kinds[kind] = false, r.T, name, r.T-j.joined
	}
}

// comesOwn takes in that a view shows its own entity.
func (c *Collector) comesOwn(v *view, t time.Duration) {
	j, k := &v.joining, v.track(v.own)
	switch {
	case !j.own:
		j.own = true
		j.shown.add(float64(t-j.asked) / 1e6)
		if k != nil && k.known {
			j.place = k.place
		}
	case !j.moved && k != nil && k.known && k.place.minus(j.place).size() > moved:
		j.moved = true
		j.moves.add(float64(t-j.asked) / 1e6)
	}
}

// end closes the books on a join.
func (j *joining) end() {
	if !j.going {
		return
	}
	j.going = false
	for _, lacks := range j.due {
		if lacks {
			j.lacking++
		}
	}
	if len(j.kinds) == 0 { // nothing came, or there was nothing to come
		return
	}
	ms := float64(j.last-j.joined) / 1e6
	if j.complete.add(ms); ms >= j.slowest {
		j.slowest, j.slowestCame, j.slowestKinds = ms, j.lastCame, map[string]float64{}
		for kind, took := range j.kinds {
			j.slowestKinds[kind] = round(float64(took) / 1e6)
		}
	}
}

func (j *joining) sum() *Joining {
	j.end()
	if j.joins == 0 {
		return nil
	}
	return &Joining{j.joins, j.shown.spread(), j.moves.spread(), j.complete.spread(), j.slowestKinds, j.slowestCame, j.lacking}
}
