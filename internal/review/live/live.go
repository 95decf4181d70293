package live

import (
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Hold is how long lines are held back to be put in order with those of others.
const Hold = 600 * time.Millisecond

// State is how far a match that is judged while it goes on is.
type State struct {
	At       time.Duration // the newest line
	Lines    int
	Findings int
	Views    []ViewState
}

// ViewState is how far one view is.
type ViewState struct {
	Name  string
	Lines int
	In    bool
	Last  time.Duration // its newest line
	Now   feed.Standing
}

// Live judges what is handed to it, in order of time: what comes is held back until
// [Live.Judge] is told that nothing older will come. Not safe for concurrent use.
type Live struct {
	bench    *feed.Bench
	observer Observer // or nil
	waiting  []item   // sorted when judged
	spare    []*trace.Record
	judged   time.Duration
	state    State
}

// item is a record of a view or the outcome of a packet, that waits to be judged.
type item struct {
	at     time.Duration
	view   int
	record *trace.Record // or nil
	packet link.Packet
}

// NewLive returns a judge for the views of a match, the server's first if it has one.
func NewLive(names *trace.Names, views []string, rules rulebook.Rules, s feed.Setting) *Live {
	l := &Live{bench: feed.NewBench(names, views, rules, s)}
	for _, name := range views {
		l.state.Views = append(l.state.Views, ViewState{Name: name})
	}
	return l
}

// Record takes in a record of a view, by its place among the views. It is copied. Its time
// is not before that of the view's last.
func (l *Live) Record(number int, r *trace.Record) {
	var own *trace.Record
	if n := len(l.spare); n > 0 {
		own, l.spare = l.spare[n-1], l.spare[:n-1]
	} else {
		own = &trace.Record{}
	}
	own.CopyFrom(r)
	view := &l.state.Views[number]
	view.Lines++
	l.state.Lines++
	switch {
	case r.Joined == view.Name:
		view.In = true
	case r.Leaves(view.Name):
		view.In = false
	}
	view.Last = max(view.Last, r.T)
	own.T = view.Last
	l.state.At = max(l.state.At, own.T)
	l.waiting = append(l.waiting, item{at: own.T, view: number, record: own})
}

// Packet takes in the outcome of a packet on the link of a view.
func (l *Live) Packet(view int, p link.Packet) {
	l.waiting = append(l.waiting, item{at: p.Sent, view: view, packet: p})
}

// Judge judges everything up to a moment, in order. What comes later than that is taken to
// be of the moment up to which was judged.
func (l *Live) Judge(until time.Duration) {
	slices.SortStableFunc(l.waiting, func(a, b item) int { return int(a.at - b.at) })
	n := 0
	for ; n < len(l.waiting) && l.waiting[n].at <= until; n++ {
		it := &l.waiting[n]
		it.at = max(it.at, l.judged)
		l.judged = it.at
		if it.record == nil {
			it.packet.Sent = it.at
			l.bench.Packet(it.view, it.packet)
			if l.observer != nil {
				l.observer.Packet(it.view, it.packet)
			}
			continue
		}
		it.record.T = it.at
		l.bench.Record(it.view, it.record)
		if l.observer != nil {
			l.observer.Record(it.view, it.record)
		}
		l.spare = append(l.spare, it.record)
	}
	l.waiting = append(l.waiting[:0], l.waiting[n:]...)
	l.state.Findings = l.bench.Certain()
}

// State is how far the match is.
func (l *Live) State() State {
	told := l.state
	told.Views = slices.Clone(l.state.Views) // what was told is not to change
	for i := range told.Views {
		told.Views[i].Now = l.bench.Standing(i)
	}
	return told
}
