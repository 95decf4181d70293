package learn

import (
	"time"

	"zitherwheel/internal/trace"
)

// exact learns how late values that are equal or not are shown.
func (s *subject) exact(tracks []*track) *lateness {
	late := &lateness{views: map[string]bool{}}
	ages := map[*track][]time.Duration{}
	var usual []time.Duration
	for _, t := range tracks {
		field := t.match.names.Field(s.names[0])
		server, shown := t.match.views[0].courses[place{t.entity, field}], t.view.courses[place{t.entity, field}]
		for i, at := range shown.t {
			if i == 0 || !t.view.in(at, afterJoining) || !t.match.views[0].has(t.entity, at-longest/3) {
				continue
			}
			age, ok := server.changed(at, shown, i, t.own)
			switch {
			case ok && age > resentLater && t.view.lostWhen(at-age):
				late.resent = append(late.resent, age)
			case ok:
				ages[t] = append(ages[t], age)
			}
		}
		n := 0
		for _, at := range s.moments(t) {
			n++
			if !server.had(shown.at(at), at) {
				t.wrong++
			}
		}
		if len(ages[t]) > 0 {
			usual = append(usual, quantile(ages[t], 0.9))
		}
		late.samples, late.wrong, late.tracks = late.samples+n, late.wrong+t.wrong, late.tracks+1
		late.views[t.view.name] = true
	}
	late.take(ages, usual)
	return late
}

// changed is how late a view changed to its i-th value: how long it kept the one before after the
// server had left it, or how long before the server it changed, as a negative number. ok is false if
// the server had no such value anywhere near.
func (c *course) changed(at time.Duration, shown *course, i int, predicted bool) (age time.Duration, ok bool) {
	value := shown.v[i]
	past, future := forGood, forGood // how long ago the server had it last, and how long until it will
	for k, v := range c.v {
		until := forGood
		if k+1 < len(c.t) {
			until = c.t[k+1]
		}
		switch {
		case v != value || c.t[k] > at+furthest || until < at-longest:
		case c.t[k] > at:
			future = min(future, c.t[k]-at)
		default:
			past = min(past, max(0, at-until))
		}
	}
	switch ok = past != forGood || future != forGood; {
	case past == forGood && ok, predicted && future < past:
		return -future, true
	case !ok:
		return 0, false
	}
	before := shown.v[i-1]
	left := time.Duration(-1)
	for k, v := range c.v {
		if v == before && c.t[k] <= at {
			left = forGood
			if k+1 < len(c.t) {
				left = c.t[k+1]
			}
		}
	}
	if left < 0 || left > at || at-left > longest {
		return 0, true
	}
	return at - left, true
}

// had reports whether the server had a value at any moment near enough.
func (c *course) had(value trace.Value, t time.Duration) bool {
	for k, v := range c.v {
		until := forGood
		if k+1 < len(c.t) {
			until = c.t[k+1]
		}
		if v == value && c.t[k] <= t+furthest && until >= t-longest {
			return true
		}
	}
	return false
}
