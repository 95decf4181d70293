package judge

import (
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// window is what view.window says of a rule, kept for the many values that one record tells.
type window struct {
	rule   *rulebook.Rule
	latest stretch
	before stretch    // the one before: a value is judged from one moment to another
	ages   *histogram // of what is shown by the rule in all views: see sampleAge
}

// stretch is what view.window said of a moment.
type stretch struct {
	t         time.Duration
	epoch     int // of the judge
	low, high time.Duration
	known     bool
}

// at is the stretch of the path that may explain a value shown at t.
func (w *window) at(v *view, t time.Duration) (low, high time.Duration, known bool) {
	epoch := v.judge.epoch
	if s := &w.latest; s.t == t && s.epoch == epoch {
		return s.low, s.high, s.known
	}
	if s := &w.before; s.t == t && s.epoch == epoch {
		return s.low, s.high, s.known
	}
	w.before = w.latest
	s := &w.latest
	s.t, s.epoch = t, epoch
	s.low, s.high, s.known = v.window(w.rule, t)
	return s.low, s.high, s.known
}

// window is the stretch of the path that may explain a value shown at t.
func (v *view) window(rule *rulebook.Rule, t time.Duration) (low, high time.Duration, known bool) {
	if v.asked != t { // everything a record changes is asked about at its time
		v.asked, v.heard, v.told, v.askedLag = t, v.down.newest(t), v.heardOf(t), -1
	}
	if rule.TimeDriven { // right at the moment at which it is said
		if rule.Compare == rulebook.Exact {
			return t, v.judge.reach(rule, t) + rule.MaxAhead, true
		}
		return t, t + rule.MaxAhead, true
	}
	if v.askedLag != rule.MaxDelay {
		v.askedLag, v.lateHeard = rule.MaxDelay, v.down.newest(t-rule.MaxDelay)
	}
	low = min(v.heard-rule.MaxDelay, v.lateHeard)
	if rule.ResentWithin > 0 && v.down.known {
		if since := v.lacks(t, rule.ResentWithin); since < t {
			low = min(low, since-rule.MaxDelay)
		}
	}
	if rule.MaxAhead == 0 {
		// Of what it has not told yet nobody can say whether it explains the value.
		return low, v.judge.reach(rule, t), !v.judge.rhythm.speaks(rule.Compare) || !v.judge.rhythm.due(t)
	}
	told := v.told
	if told+rule.MaxAhead > v.judge.now {
		return low, t, false // the reference has heard nothing from this view since t, or has not answered yet
	}
	return low, v.judge.reach(rule, told+rule.MaxAhead), true
}

// reach is the time of the newest record of the reference that may tell what was so at t.
func (j *Judge) reach(rule *rulebook.Rule, t time.Duration) time.Duration {
	if !j.rhythm.speaks(rule.Compare) {
		return t
	}
	return j.rhythm.reach(t)
}

// opens is from when on what the reference tells of t may have been so.
func (j *Judge) opens(rule *rulebook.Rule, t time.Duration) time.Duration {
	if !j.rhythm.speaks(rule.Compare) {
		return t
	}
	return j.rhythm.opens(t)
}

// expiry is when a match leaves the window. A value that follows from the clock
// must be right when it is said, and may then stand for lag.
func (k *tracker) expiry(v *view, match, from time.Duration) time.Duration {
	if k.rule.TimeDriven && match > -never {
		return max(from, k.said+k.rule.MaxDelay, match+k.rule.MaxDelay)
	}
	leaves := v.expiry(match, k.rule.MaxDelay, -never)
	if k.rule.ResentWithin > 0 && v.down.known && match > -never {
		leaves = v.lackedUntil(match-k.rule.MaxDelay, max(leaves, match+k.rule.MaxDelay), k.rule.ResentWithin)
	}
	return max(from, leaves)
}

// couldKnow is from when on a view could know that what it predicts at t is
// wrong: when it hears of the reference at or after the moment at which the
// reference heard of t. Until then a prediction may be proved wrong by what
// nobody could foresee, like a push. Where nothing is predicted, or packets are
// not known, it is t.
func (k *tracker) couldKnow(v *view, t time.Duration) time.Duration {
	if k.rule.MaxAhead == 0 || !v.down.known {
		return t
	}
	return max(t, v.down.firstSince(v.heardOf(t)))
}
