package judge

import (
	"cmp"
	"slices"
	"time"

	"zitherwheel/internal/trace"
)

// stamp is a tick of a round. A game whose ticks start again begins another round.
type stamp struct {
	round int
	tick  int64
}

func (a stamp) compare(b stamp) int {
	return cmp.Or(cmp.Compare(a.round, b.round), cmp.Compare(a.tick, b.tick))
}

// revisable is how long a view may go back to a tick that it has told and tell it anew:
// until then nobody judges what it told.
const revisable = 3 * time.Second

// tickLog is what one view told, tick by tick, as far as it may still be asked for.
//
// A line adds to what the view told before, in the order of its lines. Going back to an
// earlier tick takes back all that was told of it and of later ones: the view has rolled
// back, and its last word on each tick counts. What lies further back than can be revised
// is another round.
type tickLog struct {
	told     []toldTick // in order of their stamps
	base     int        // the place of the first of them among all
	passed   stamp      // of the last one before them
	began    bool       // a tick was told
	last     stamp
	said     time.Duration // when the last line with a tick was said
	pause    time.Duration // the longest time between two
	since    time.Duration // when the first was said
	waiting  []tickChange  // of lines without a tick, until the next that has one
	ticks    int           // told, each counted once
	revised  int           // how often the view went back
	deepest  int64         // by how many ticks at most
	complete bool          // nothing more will come
}

// toldTick is all that a view told of one tick since the tick before.
type toldTick struct {
	at      stamp
	said    time.Duration // by the view's clock
	t       time.Duration // by the match's
	judged  bool          // the view was in the match
	guessed bool          // and left, or the match ended, before it could have taken it back
	changes []tickChange
}

type tickChange struct {
	deed   tickDeed
	entity trace.Entity
	field  trace.Field
	value  trace.Value
}

type tickDeed uint8

const (
	tells    tickDeed = iota // an entity has a value
	drops                    // an entity is gone
	tellsAll                 // what follows is all there is
	rejoins                  // what was told before may be old
)

// add takes in a line.
func (l *tickLog) add(r *trace.Record, judged bool) {
	l.waiting = appendChanges(l.waiting, r)
	if !r.EndsTick() {
		return // an event of an earlier tick takes nothing back
	}
	said := r.T
	if r.Said != 0 {
		said = r.Said
	}
	at := stamp{l.last.round, r.Tick}
	if !l.began {
		l.since = said
	} else {
		l.pause = max(l.pause, said-l.said)
	}
	back := l.began && r.Tick < l.last.tick
	l.said = max(l.said, said)
	if back {
		from := len(l.told)
		for from > 0 && l.said-l.told[from-1].said <= revisable && l.told[from-1].at.compare(at) >= 0 {
			from--
		}
		if from > 0 && l.told[from-1].at.compare(at) >= 0 || from == 0 && l.base > 0 && l.passed.compare(at) >= 0 {
			at.round++
		} else {
			l.goBack(from, at)
		}
	}
	if n := len(l.told); n > 0 && l.told[n-1].at == at {
		told := &l.told[n-1]
		told.said, told.t, told.judged, told.changes = said, r.T, judged, append(told.changes, l.waiting...)
	} else {
		l.told = append(l.told, toldTick{at: at, said: said, t: r.T, judged: judged, changes: slices.Clone(l.waiting)})
		l.ticks++
	}
	l.waiting, l.last, l.began = l.waiting[:0], at, true
}

// goBack takes back what was told of that tick and of later ones. The values stay: the
// view tells only what is not as it told it before.
func (l *tickLog) goBack(from int, at stamp) {
	l.revised++
	l.deepest = max(l.deepest, l.last.tick-at.tick+1)
	var changes []tickChange
	for _, told := range l.told[from:] {
		changes = append(changes, told.changes...)
	}
	l.ticks -= len(l.told) - from
	l.told = l.told[:from]
	l.waiting = append(changes, l.waiting...)
}

func appendChanges(list []tickChange, r *trace.Record) []tickChange {
	if r.Full {
		list = append(list, tickChange{deed: tellsAll})
	}
	for _, c := range r.State {
		list = append(list, tickChange{tells, c.Entity, c.Field, c.Value})
	}
	for _, e := range r.Despawned {
		list = append(list, tickChange{deed: drops, entity: e})
	}
	return list
}

// final reports whether the n-th tick of all is there and will not be told anew.
func (l *tickLog) final(n int) bool {
	n -= l.base
	return n >= 0 && n < len(l.told) && (l.complete || l.said-l.told[n].said > revisable)
}

func (l *tickLog) get(n int) *toldTick { return &l.told[n-l.base] }

// end is the place behind the last one.
func (l *tickLog) end() int { return l.base + len(l.told) }

// guess marks the last ticks, as many as the view went back at most: whoever goes back
// tells what it predicts, and these it had no time to tell anew.
func (l *tickLog) guess() {
	for i := range l.told {
		told := &l.told[i]
		told.guessed = told.guessed || told.at.round == l.last.round && told.at.tick > l.last.tick-l.deepest
	}
}

// forget drops what nobody asks for any more, those before n.
func (l *tickLog) forget(n int) {
	if n-l.base < 256 { // seldom, because the rest is moved
		return
	}
	l.passed = l.get(n - 1).at
	l.told = slices.Delete(l.told, 0, n-l.base)
	l.base = n
}

// pass drops the first one.
func (l *tickLog) pass() {
	l.passed = l.told[0].at
	l.told, l.base = l.told[1:], l.base+1
}

// rate is how many ticks a second the view told, 0 if that cannot be said.
func (l *tickLog) rate() float64 {
	if l.ticks < 2 || l.said <= l.since {
		return 0
	}
	return float64(l.ticks-1) / (l.said - l.since).Seconds()
}
