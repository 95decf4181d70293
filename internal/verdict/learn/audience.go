package learn

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// shown is for how much of its time an entity was in a client's view.
type shown struct {
	match    *Match
	view     *teller
	entity   trace.Entity
	own      bool
	share    float64
	due      time.Duration // for how long it could have been
	appeared []time.Duration
}

// existence learns who sees the entities of a kind, and how late they come and go.
func (k *kind) existence(l *Lesson) {
	r := Rule{Rule: rulebook.Rule{Entities: k.pattern(), Fields: []string{rulebook.Existence}, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace}}
	var all []shown
	var ages []time.Duration
	for _, e := range k.entries {
		for _, v := range e.match.views[1:] {
			if s, ok := e.in(v); ok {
				all = append(all, s)
				ages = append(ages, s.appeared...)
			}
		}
	}
	if len(all) == 0 {
		return
	}
	often, seldom, own, others := 0, 0, 0, 0
	for _, s := range all {
		if s.share > 0.9 {
			often++
			if s.own {
				own++
			}
		} else if s.share < 0.05 {
			seldom++
			if !s.own {
				others++
			}
		}
	}
	r.MaxDelay = span(ages, 250*time.Millisecond)
	r.Why = []string{fmt.Sprintf("%s of %s in a view; shown nearly always in %d, never in %d", counted(len(all), "stay"), k.name, often, seldom)}
	switch {
	case k.entries[0].match.ticks:
		r.MaxDelay = rulebook.DefaultMaxDelay // which plays no part
	case len(ages) > 0:
		r.Why = append(r.Why, fmt.Sprintf("%s and vanishings, late by %s (90%%), %s (all)", counted(len(ages), "appearance"), seconds(quantile(ages, 0.9)), seconds(slices.Max(ages))))
	}
	switch {
	case seldom == len(all):
		l.Unsure = append(l.Unsure, fmt.Sprintf("no client shows any %s: it is taken for the server's own business and has no rule", k.name))
		return
	case often*100 >= 97*len(all):
	case own > 0 && own == often && others == len(all)-own:
		r.SeenBy = rulebook.OwnerOnly
	default:
		if !k.seenNear(&r, all) {
			l.Asked = append(l.Asked, fmt.Sprintf("%s is shown in %d of %d stays, and distance does not tell in which: who is to see it? Its rule says everyone", r.Entities, often, len(all)))
		}
	}
	r.Thin = len(all) < 4
	l.Rules = append(l.Rules, r)
}

// in is how much of its time an entity was in a view; ok is false if there was too little of that.
func (e entry) in(v *teller) (s shown, ok bool) {
	server := e.match.views[0]
	s = shown{match: e.match, view: v, entity: e.entity, own: v.own[e.entity]}
	var had time.Duration
	const step = 100 * time.Millisecond
	end := min(server.last, v.last)
	for _, span := range server.there[e.entity].spans {
		for t := span.from + afterJoining; t < min(span.until, end); t += step {
			if !v.in(t, afterJoining) {
				continue
			}
			s.due += step
			if v.has(e.entity, t) {
				had += step
			}
		}
	}
	if s.due < time.Second {
		return s, false
	}
	s.share = float64(had) / float64(s.due)
	mine := v.there[e.entity]
	if mine == nil {
		return s, true
	}
	for _, span := range server.there[e.entity].spans {
		if v.in(span.from, afterJoining) {
			s.next(span.from, mine, func(m stay) time.Duration { return m.from })
		}
		if span.until < end && v.in(span.until+longest, 0) {
			s.next(span.until, mine, func(m stay) time.Duration { return m.until })
		}
	}
	return s, true
}

// next notes how much later than the server's a view's entity came or went.
func (s *shown) next(at time.Duration, mine *presence, edge func(stay) time.Duration) {
	best := forGood
	for _, m := range mine.spans {
		if d := edge(m) - at; edge(m) != forGood && d >= 0 && d <= longest {
			best = min(best, d)
		}
	}
	if best != forGood {
		s.appeared = append(s.appeared, best)
	}
}

// seenNear learns within what distance of a client's own entity a kind is shown, and reports whether
// distance tells it.
func (k *kind) seenNear(r *Rule, all []shown) bool {
	groups := k.vectors()
	if len(groups) == 0 {
		return false
	}
	var in, out []float64
	var names []string
	for _, f := range groups[0] {
		names = append(names, f.name)
	}
	for _, s := range all {
		server := s.match.views[0]
		var fields []trace.Field
		for _, name := range names {
			fields = append(fields, s.match.names.Field(name))
		}
		thing := server.pathOf(s.entity, fields, 0)
		if thing == nil || s.own {
			continue
		}
		for own := range s.view.own {
			eye := server.pathOf(own, fields, 0)
			if eye == nil {
				continue
			}
			for t := afterJoining; t < min(server.last, s.view.last); t += 250 * time.Millisecond {
				a, here := thing.at(t)
				b, there := eye.at(t)
				if !here || !there || !s.view.in(t, afterJoining) || !server.has(s.entity, t) || !server.has(s.entity, t-time.Second) {
					continue
				}
				if d := thing.apart(a, b); s.view.has(s.entity, t) {
					in = append(in, d)
				} else {
					out = append(out, d)
				}
			}
		}
	}
	if len(in) < 20 || len(out) < 20 {
		return false
	}
	// Within the radius hardly anything is missing, beyond leaving hardly anything is shown.
	radius, leave := quantile(out, 0.02), quantile(in, 0.98)
	if radius <= 0 || math.IsNaN(radius) || leave < 0.7*radius || radius < 0.3*leave {
		return false
	}
	r.SeenBy, r.InterestRadius, r.LeaveRadius, r.Place = rulebook.InRange, floor2(0.95*min(radius, leave)), ceil2(1.05*max(leave, radius)), names
	r.Why = append(r.Why, fmt.Sprintf("shown within %.4g of a client's own (98%% of %d looks), not shown beyond %.4g (98%% of %d)", leave, len(in), radius, len(out)))
	return true
}

func floor2(v float64) float64 {
	scale := math.Pow(10, math.Floor(math.Log10(v))-1)
	return math.Floor(v/scale) * scale
}
