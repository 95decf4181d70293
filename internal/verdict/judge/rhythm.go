package judge

import (
	"math"
	"sort"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// rhythm is when the reference, or a view, tells its state. Between two records the reference may
// have had what the second tells from any moment after the first on, and a view may have shown it
// so early; and what a view holds between two of its own it does not tell.
//
// Of what is no number that holds where whole states are told, or what there is at regular times.
// Where a value is told when it changes, it stands until the next.
type rhythm struct {
	said    []saidAt // in order of time, as far back as is needed
	beat    float64  // the usual interval, ns
	uneven  float64  // how far intervals usually are from it, ns
	records int
	repeats int // those of them that told a value which had not changed
}

// speaks reports whether the rhythm says anything of values that are compared so.
func (r *rhythm) speaks(compare rulebook.Compare) bool {
	if compare != rulebook.Exact {
		return true
	}
	return 2*r.repeats >= r.records || r.records >= regularFrom && r.uneven <= r.beat/3 && r.beat <= float64(slowest)
}

// slowest is how rare regular records are at most that tell what has changed. Any rarer, each may
// as well be a change that is told at once.
const slowest = 1500 * time.Millisecond

// regularFrom is how many records show whether they come at regular times.
const regularFrom = 4

// saidAt is a record of the reference with state. What it tells may have been so from since on.
type saidAt struct{ at, since time.Duration }

// longestBeat is how long is waited for the next record of the reference at most.
const longestBeat = 2 * time.Second

// tell takes in a record, and says since when what it tells may be so: a value that changes
// now stood until the last record, unless that was long ago; then nothing was said because
// nothing changed.
func (r *rhythm) tell(at time.Duration, repeats bool) (since time.Duration) {
	if r.records++; repeats {
		r.repeats++
	}
	n := len(r.said)
	if n == 0 {
		r.said = append(r.said, saidAt{at, at - time.Duration(r.beat)})
		return at
	}
	last := &r.said[n-1]
	if at <= last.at {
		return last.since
	}
	if gap := float64(at - last.at); r.beat == 0 {
		r.beat = gap
	} else {
		weight := 1 / float64(min(r.records-1, 16))
		r.uneven += (math.Abs(min(gap, 2*r.beat)-r.beat) - r.uneven) * weight
		r.beat += (min(gap, 2*r.beat) - r.beat) * weight
	}
	if since = last.at; float64(at-since) > 4*r.beat {
		since = at - time.Duration(r.beat)
	}
	r.said = append(r.said, saidAt{at, since})
	return since
}

// patience is how long after a moment the reference has usually told what was so then.
func (r *rhythm) patience() time.Duration { return min(time.Duration(2*r.beat), longestBeat) }

// after returns the first record at t or later.
func (r *rhythm) after(t time.Duration) (saidAt, bool) {
	n := len(r.said)
	i := n
	for i > 0 && n-i < 8 && r.said[i-1].at >= t { // nearly always one of the last
		i--
	}
	if n-i == 8 {
		i = sort.Search(i, func(k int) bool { return r.said[k].at >= t })
	}
	if i == n {
		return saidAt{}, false
	}
	return r.said[i], true
}

// reach is the time of the newest record that may tell what was so at t: t itself, or the
// first after it.
func (r *rhythm) reach(t time.Duration) time.Duration {
	if next, ok := r.after(t); ok && next.since < t {
		return next.at
	}
	return t
}

// opens is from when on what is told of t may have been so.
func (r *rhythm) opens(t time.Duration) time.Duration {
	if next, ok := r.after(t); ok && next.since < t {
		return next.since + time.Microsecond
	}
	return t
}

// last is the time of the newest record.
func (r *rhythm) last() (time.Duration, bool) {
	if len(r.said) == 0 {
		return 0, false
	}
	return r.said[len(r.said)-1].at, true
}

// due reports whether the next record after the newest may yet come in the usual time, at t.
func (r *rhythm) due(t time.Duration) bool {
	last, any := r.last()
	return any && t > last && t-last <= r.patience()
}

// forget drops what no question about t or later needs.
func (r *rhythm) forget(t time.Duration) {
	drop := 0
	for drop+1 < len(r.said) && r.said[drop].at < t {
		drop++
	}
	if drop > 256 { // seldom, because the rest is moved
		r.said = append(r.said[:0], r.said[drop:]...)
	}
}
