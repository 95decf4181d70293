package judge

import (
	"time"

	"zitherwheel/internal/trace"
)

// queue holds client records until they can be judged, in order of time and
// view.
type queue struct {
	waiting []waitingRecord
	head    int
	spare   []*trace.Record
	last    *trace.Record
}

type waitingRecord struct {
	t      time.Duration
	view   int
	record *trace.Record
	deed   func() // instead of a record
}

// push copies a record into the queue.
func (q *queue) push(view int, r *trace.Record) {
	var own *trace.Record
	if n := len(q.spare); n > 0 {
		own, q.spare = q.spare[n-1], q.spare[:n-1]
	} else {
		own = &trace.Record{}
	}
	own.CopyFrom(r)
	q.insert(waitingRecord{t: r.T, view: view, record: own})
}

// when lets something be done when everything before t is judged.
func (q *queue) when(t time.Duration, deed func()) { q.insert(waitingRecord{t: t, deed: deed}) }

func (q *queue) insert(w waitingRecord) {
	if q.head > 1024 && q.head > len(q.waiting)/2 {
		q.waiting = append(q.waiting[:0], q.waiting[q.head:]...)
		q.head = 0
	}
	q.waiting = append(q.waiting, w)
	for i := len(q.waiting) - 1; i > q.head; i-- {
		a, b := &q.waiting[i-1], &q.waiting[i]
		if a.t < b.t || a.t == b.t && a.view <= b.view {
			break
		}
		*a, *b = *b, *a
	}
}

func (q *queue) peek() (time.Duration, bool) {
	if q.head == len(q.waiting) {
		return 0, false
	}
	return q.waiting[q.head].t, true
}

// pop returns the next record, which is valid until the next pop, or does what
// waited for its moment and returns none.
func (q *queue) pop() (int, *trace.Record) {
	if q.last != nil {
		q.spare = append(q.spare, q.last)
		q.last = nil
	}
	w := q.waiting[q.head]
	q.waiting[q.head] = waitingRecord{}
	q.head++
	if w.deed != nil {
		w.deed()
		return 0, nil
	}
	q.last = w.record
	return w.view, w.record
}
