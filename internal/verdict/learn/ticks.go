package learn

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Views that number their ticks are compared at equal ticks: nothing is late there, and what is learned
// is how far off, and who sees what. All state of such a match is placed by its ticks, each as long as
// any other; what views told again counts as they told it last.

const (
	tickSpan  = 50 * time.Millisecond // that a tick is taken to last
	revisable = 3 * time.Second       // for how long, by the clock, a view may take back what it told
	mostTicks = 2000                  // that are looked through for how far something goes in one
)

// ByTicks lets the state of the match be that of ticks. It is called before the first record.
func (m *Match) ByTicks() { m.ticks = true }

// tick is the time of the tick that a line belongs to: the next one, if it does not say.
func (v *teller) tick(r *trace.Record) time.Duration {
	if !r.HasTick {
		return v.last + tickSpan
	}
	return time.Duration(r.Tick) * tickSpan
}

// goBack takes back what was told of a tick and of later ones, when that tick is told again. The values stay: only what is
// not as it was told last is told again. What was told too long ago to be taken back is an earlier round of a game whose
// ticks start again: the last round is learned from.
func (v *teller) goBack(t, said time.Duration) {
	n, _ := slices.BinarySearch(v.told, t)
	if said-v.said[n] <= revisable {
		v.deepest = max(v.deepest, v.told[len(v.told)-1]-t+tickSpan)
	} else if last := len(v.stays) - 1; last >= 0 && v.stays[last].until == forGood {
		v.stays[last].from = min(v.stays[last].from, t)
	}
	v.told, v.said = v.told[:n], v.said[:n]
	for _, c := range v.courses {
		last := len(c.t) - 1
		value := c.v[last]
		n, _ := slices.BinarySearch(c.t, t)
		if n > last {
			continue
		}
		c.t, c.v = c.t[:n], c.v[:n]
		if n == 0 || c.v[n-1] != value {
			c.t, c.v = append(c.t, t), append(c.v, value)
		}
	}
}

// guessed reports whether a view left, or the match ended, before it could have taken a tick back.
func (v *teller) guessed(at time.Duration) bool {
	return at > v.last-v.deepest || slices.ContainsFunc(v.stays, func(s stay) bool { return s.from <= at && at < s.until && at > s.until-v.deepest })
}

// both are the moments of a track whose tick the server told as well, and which the view is certain of.
func (s *subject) both(t *track) (list []time.Duration) {
	for _, at := range s.moments(t) {
		if _, told := slices.BinarySearch(t.match.views[0].told, at); told && !t.view.guessed(at) {
			list = append(list, at)
		}
	}
	return list
}

// atTicks learns how far off a subject is at equal ticks. A value that is the server's at most of them is
// to be so at all.
func (s *subject) atTicks(tracks []*track, r *Rule) *lateness {
	late := &lateness{views: map[string]bool{}}
	numeric := s.place
	if numeric {
		r.Compare = rulebook.Distance
		if s.circle > 0 {
			r.Compare, r.Circle = rulebook.Angle, s.circle
		}
	}
	metric := &path{circle: s.circle, width: len(s.names)}
	offs := map[*track][]float64{}
	var typical []float64
	for _, t := range tracks {
		for _, at := range s.both(t) {
			a, b, same := s.pair(t, at)
			late.samples++
			if !same {
				t.wrong++
			}
			if numeric {
				offs[t] = append(offs[t], metric.apart(a, b))
			}
		}
		late.wrong, late.tracks = late.wrong+t.wrong, late.tracks+1
		late.views[t.view.name] = true
		if len(offs[t]) > 0 {
			typical = append(typical, quantile(offs[t], 0.95))
		}
	}
	if len(typical) == 0 || 2*late.wrong <= late.samples {
		return late
	}
	// It is not the same at most ticks, so it is rounded on the way, or computed with less precision.
	bound := 6*quantile(typical, 0.3) + 2*s.step
	late.wrong = 0
	for _, t := range tracks {
		if len(offs[t]) > 0 && quantile(offs[t], 0.95) <= bound {
			late.residuals = append(late.residuals, offs[t]...)
		}
	}
	r.Tolerance = ceil2(1.5 * quantile(late.residuals, 0.995))
	most := s.goesATick(tracks)
	if math.IsNaN(r.Tolerance) || r.Tolerance > 2*most+25*s.step {
		// Further off than it goes in two ticks is no rounding.
		late.wrong, r.Tolerance = late.samples, 0
		return late
	}
	for _, t := range tracks {
		for _, off := range offs[t] {
			if !(off <= r.Tolerance) {
				late.wrong++
			}
		}
	}
	return late
}

// pair is what the server and a view told of a tick, as numbers where they are; same says whether all of it is equal.
func (s *subject) pair(t *track, at time.Duration) (a, b [3]float64, same bool) {
	same = true
	for k, field := range s.fieldsIn(t.match) {
		had, shown := t.match.views[0].courses[place{t.entity, field}].at(at), t.view.courses[place{t.entity, field}].at(at)
		same = same && had == shown
		a[k], b[k] = had.Float(), shown.Float()
	}
	return a, b, same
}

// goesATick is how far a subject goes in a tick of the server's, at its fastest.
func (s *subject) goesATick(tracks []*track) (most float64) {
	metric := &path{circle: s.circle, width: len(s.names)}
	for _, t := range tracks {
		fields := s.fieldsIn(t.match)
		told := t.match.views[0].told
		var before [3]float64
		for i := range min(len(told), mostTicks) {
			var value [3]float64
			for k, field := range fields {
				value[k] = t.match.views[0].courses[place{t.entity, field}].at(told[i]).Float()
			}
			if i > 0 && finite(before) && finite(value) {
				most = max(most, metric.apart(before, value))
			}
			before = value
		}
	}
	return most
}

// whyAtTicks tells what a rule was learned from.
func (s *subject) whyAtTicks(late *lateness, r *Rule) (list []string) {
	text := fmt.Sprintf("%s%s in %s: %s at equal ticks, of %s", whose(r.Of), s.kind.name, some(late.views), counted(late.samples, "sample"), counted(late.tracks, "course"))
	if len(late.residuals) > 0 {
		text += fmt.Sprintf("; off by %.3g (half), %.3g (99.5%%); steps of %s", quantile(late.residuals, 0.5), quantile(late.residuals, 0.995), steps(s.step))
	}
	list = append(list, text)
	if late.wrong > 0 && r.SeenBy != rulebook.Nobody {
		list = append(list, fmt.Sprintf("SUSPICIOUS: %d of %d are not the server's; the rule is written as if the game were right", late.wrong, late.samples))
	}
	if r.Thin {
		list = append(list, restsOnLittle)
	}
	return list
}
