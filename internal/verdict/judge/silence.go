package judge

import (
	"time"

	"zitherwheel/internal/network/link"
)

// silence is how a reference sends to a view, as far as it tells whether it has fallen silent.
//
// A view is excused for what it could not hear. What is lost or still on its way is the link's doing, and so it is where the
// reference could not hear the view ask. But a reference that has sent nothing for much longer than it ever did before,
// although all that it sent has arrived, has had nothing to tell, or has forgotten the view. In both cases the view is
// held to what was so then, as if it had been told: where nothing has changed that does no harm.
type silence struct {
	last    time.Duration // when something was sent that may hold news
	longest time.Duration // between two of these
	count   int
	blocked time.Duration // until then all was lost that the view sent since: who is asked for what it tells was not asked
}

const (
	silentAtLeast = time.Second // a pause is no silence before
	silentFactor  = 1.5         // and not before it is so many times as long as the longest before
	silentFrom    = 10          // packets show how a reference sends
	silenceStep   = 100 * time.Millisecond
)

func (s *silence) send(t time.Duration) {
	if s.count++; s.count > 1 {
		s.longest = max(s.longest, t-s.last)
	}
	s.last = t
}

// patience is how long a pause is no silence.
func (s *silence) patience() time.Duration {
	return max(silentAtLeast, time.Duration(silentFactor*float64(s.longest)))
}

// listenToSilence has views hear what silence tells them by now.
func (j *Judge) listenToSilence(now time.Duration) {
	if now-j.listened < silenceStep {
		return
	}
	j.listened = now
	for _, v := range j.views[1:] {
		s, h := &v.silence, &v.down
		n := len(h.steps)
		if !h.known || n == 0 || s.count < silentFrom {
			continue
		}
		if v.lostLast > s.last && v.up.last() <= s.last {
			s.blocked = now
		}
		if now-max(s.last, s.blocked) < s.patience() {
			continue
		}
		last := &h.steps[n-1]
		if last.at > now || last.newest < s.last && v.up.last() <= s.last { // something is on its way, or was lost on a link that may be cut
			continue
		}
		sent := now - s.patience() - time.Duration(v.delay[link.Down].mean)
		if sent > last.newest {
			h.arrives(sent, now)
		}
	}
}

// toldNothingSince reports whether a reference has sent a view nothing since t.
func (v *view) toldNothingSince(t time.Duration) bool { return v.down.known && v.silence.last < t }
