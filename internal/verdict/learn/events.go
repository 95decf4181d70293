package learn

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// heard is how events of one name came to the views.
type heard struct {
	name        string
	due, came   int
	withID      int
	addressed   int
	toOwner     [2]int // of those that are addressed: came to whom they are for, and should have
	bySomebody  int
	toDoer      int // came to whoever did it
	ages, ahead []time.Duration
	resent      resent
	misordered  int
	behind      []time.Duration // of those told before the one before had come: how long before
}

// events draws the rules for events.
func (l *Lesson) events(matches []*Match) {
	all := map[string]*heard{}
	var order []string
	for _, m := range matches {
		for _, e := range m.views[0].clock.events {
			if all[e.name] == nil {
				all[e.name] = &heard{name: e.name}
				order = append(order, e.name)
			}
		}
		for name, h := range all {
			h.take(m, name)
		}
	}
	slices.Sort(order)
	for _, name := range order {
		if all[name].due == 0 {
			l.Unsure = append(l.Unsure, "event "+name+": nobody had been in the match for long when it was told, or it ended too soon after")
			continue
		}
		l.Events = append(l.Events, all[name].rule(l))
	}
}

// take takes in how the events of a match came.
func (h *heard) take(m *Match, name string) {
	server := &m.views[0].clock
	for _, view := range m.views[1:] {
		v := &view.clock
		used := make([]bool, len(v.events))
		latest, lastCame := -1, -longest
		for _, e := range server.events {
			if e.name != name {
				continue
			}
			if e.id != "" {
				h.withID++
			}
			if !v.in(e.t, afterJoining) || !v.in(e.t+longest, 0) || e.t+longest > v.last {
				continue
			}
			h.due++
			best := -1
			for i, c := range v.events {
				if used[i] || c.name != name || c.id != e.id || c.t < e.t-furthest || c.t > e.t+longest || e.id == "" && (c.by != e.by || c.to != e.to) {
					continue
				}
				if best < 0 || (c.t-e.t).Abs() < (v.events[best].t-e.t).Abs() {
					best = i
				}
			}
			came := best >= 0
			if e.to != "" {
				h.addressed++
				h.toOwner[1] += count(e.to == view.name)
				h.toOwner[0] += count(e.to == view.name && came)
			}
			if e.by != "" {
				h.bySomebody++
				h.toDoer += count(e.by == view.name && came)
			}
			if !came {
				continue
			}
			used[best] = true
			h.came++
			if d := v.events[best].t - e.t; d > resentLater && view.lostWhen(e.t) {
				h.resent = append(h.resent, d)
			} else if d >= 0 {
				h.ages = append(h.ages, d)
			} else {
				h.ahead = append(h.ahead, -d)
			}
			if best < latest {
				h.misordered++
			}
			latest = max(latest, best)
			if lastCame > e.t {
				h.behind = append(h.behind, lastCame-e.t)
			}
			lastCame = max(lastCame, v.events[best].t)
		}
	}
}

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

// ordered reports whether they always came in order, and whether that was put to the test: one that was told so soon after a
// late one that it would have come before it, had nobody seen to their order.
func (h *heard) ordered() (ordered, tested bool) {
	if h.misordered > 0 || h.came < 5 || h.withID == 0 || len(h.ages) == 0 {
		return false, false
	}
	const enough = 2
	usual, waited := quantile(h.ages, 0.5), 0
	for _, d := range h.behind {
		waited += count(d > usual)
	}
	return true, waited >= enough
}

func (h *heard) rule(l *Lesson) EventRule {
	r := EventRule{EventRule: rulebook.EventRule{Event: h.name, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace, MaxDelay: span(h.ages, 250*time.Millisecond)}}
	share := float64(h.came) / float64(max(1, h.due))
	switch {
	case h.came == 0:
		r.SeenBy = rulebook.Nobody
		l.Asked = append(l.Asked, fmt.Sprintf("event %s never comes to any client: is it the server's own? Its rule says seen-by: nobody", h.name))
	case h.addressed > 0 && h.toOwner[1] > 0 && h.toOwner[0] == h.came:
		r.SeenBy = rulebook.OwnerOnly
	case h.bySomebody > 0 && h.toDoer == 0 && share < 0.95 && share > 0.3:
		r.SeenBy = rulebook.AllButOwner
	}
	ordered, tested := h.ordered()
	r.Ordered = ordered && tested
	if len(h.ahead)*50 >= h.came && len(h.ahead) > 0 {
		r.MaxAhead = span(h.ahead, 0)
	}
	text := fmt.Sprintf("%d of %d came where they could", h.came, h.due)
	if len(h.ages) > 0 {
		text += fmt.Sprintf(", after %s (90%%), %s (all)", seconds(quantile(h.ages, 0.9)), seconds(slices.Max(h.ages)))
	}
	if h.withID == 0 {
		text += "; without ids, so what comes twice is not told from two"
	}
	r.Why = []string{text}
	if ordered && !tested {
		r.Why = append(r.Why, "in order, but none was ever so late that the next would have come before it: write ordered: true if they must")
	}
	if missing := h.due - h.came; missing > 0 && r.SeenBy == rulebook.Everyone {
		r.Why = append(r.Why, fmt.Sprintf("SUSPICIOUS: %d never came; the rule is written as if they must", missing))
	}
	r.resent = h.resent
	r.Thin = h.due < 10
	if r.Thin {
		r.Why = append(r.Why, restsOnLittle)
	}
	return r
}
