package link

import "time"

// Likeness finds for each packet of a match that is played again the one of the recording that it
// most likely is. Programs on the wall clock never do quite the same: one more packet, or one less,
// and every number behind it means another. So packets are told by when they are sent, by their
// size and by their order, of which time weighs most.
//
// It is greedy, because an outcome is needed when a packet is sent: of the recorded packets behind
// the last that was given away it takes the nearest in time, where another size and each packet that
// would be passed over count as being farther away. One may be sent lateAtMost later than in the
// recording, because programs are held up, but not nearer to the time of the packet before it: that
// one may be meant. How much later everything is this time is told by the first packet, where the recording is
// whole, and followed as it goes.
type Likeness struct {
	recorded []Recorded
	from     int           // the first that was not given away or passed over
	later    time.Duration // than in the recording
	whole    bool          // these are all that were recorded
	begun    bool
}

// Recorded is what a packet of a recording is told by.
type Recorded struct {
	Sent time.Duration
	Size int
}

const (
	lateAtMost   = 150 * time.Millisecond
	earlyAtMost  = 120 * time.Millisecond
	earlyOfSome  = 20 * time.Millisecond // where those between them are not known
	together     = 2 * time.Millisecond  // packets so near are sent at one time
	otherSize    = 30 * time.Millisecond
	passedOver   = 4 * time.Millisecond
	laterFollows = 16 // packets over which it is evened out how much later everything is
	laterAtMost  = 500 * time.Millisecond
)

// NewLikeness returns a likeness to recorded packets, which are in order of time: all that were
// recorded, or some.
func NewLikeness(recorded []Recorded, whole bool) *Likeness {
	return &Likeness{recorded: recorded, whole: whole}
}

// Of returns the place in the recording of the packet that is sent now; ok is false if there is none
// like it.
func (l *Likeness) Of(now time.Duration, size int) (i int, ok bool) {
	if l.whole && !l.begun && len(l.recorded) > 0 {
		if later := now - l.recorded[0].Sent; later.Abs() <= laterAtMost {
			l.later = later
		}
	}
	l.begun = true
	for l.from < len(l.recorded) && l.recorded[l.from].Sent+l.later < now-lateAtMost {
		l.from++
	}
	best, least := -1, time.Duration(0)
	for i := l.from; i < len(l.recorded); i++ {
		off := now - l.recorded[i].Sent - l.later
		if off < -earlyAtMost {
			break
		}
		if early := l.early(i); off < -early || off < -early/2 && l.recorded[i].Size != size {
			continue
		}
		cost := max(off, -2*off) + time.Duration(i-l.from)*passedOver
		if l.recorded[i].Size != size {
			cost += otherSize
		}
		if best < 0 || cost < least {
			best, least = i, cost
		}
	}
	if best < 0 {
		return 0, false
	}
	l.later += (now - l.recorded[best].Sent - l.later) / laterFollows
	l.from = best + 1
	return best, true
}

// early is how much earlier a packet may be sent than in the recording: not so much that it is
// nearer to those before.
func (l *Likeness) early(i int) time.Duration {
	if !l.whole {
		return earlyOfSome
	}
	for before := i - 1; before >= 0; before-- {
		if gap := l.recorded[i].Sent - l.recorded[before].Sent; gap > together {
			return min(earlyAtMost, 9*gap/20)
		}
	}
	return earlyAtMost
}
