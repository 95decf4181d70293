// Package schedule keeps what is due later: the events of a virtual clock, the packets
// that wait on a link, the files of traces by their next line. It knows times and nothing
// of what is due.
package schedule

import "time"

// A Queue hands out its items by the time at which they are due, and those of one instant
// by their order. The zero value is an empty queue.
//
// It is a heap with four children to a node: half as deep as a binary one, and the
// children lie side by side in memory.
type Queue[T any] struct{ heap []item[T] }

type item[T any] struct {
	at    time.Duration
	order uint64
	value T
}

func (a *item[T]) before(b *item[T]) bool {
	return a.at < b.at || a.at == b.at && a.order < b.order
}

// Len is how many items wait.
func (q *Queue[T]) Len() int { return len(q.heap) }

// Next is when the earliest item is due. The queue must not be empty.
func (q *Queue[T]) Next() time.Duration { return q.heap[0].at }

// Due reports whether an item is due at t or before.
func (q *Queue[T]) Due(t time.Duration) bool { return len(q.heap) > 0 && q.heap[0].at <= t }

// Push adds an item. Items of one instant are handed out by their order; those that are
// alike in both come in no set sequence.
func (q *Queue[T]) Push(at time.Duration, order uint64, value T) {
	e := item[T]{at, order, value}
	q.heap = append(q.heap, e)
	i := len(q.heap) - 1
	for i > 0 {
		parent := (i - 1) / 4
		if !e.before(&q.heap[parent]) {
			break
		}
		q.heap[i] = q.heap[parent]
		i = parent
	}
	q.heap[i] = e
}

// Pop removes the earliest item and returns it with its time. The queue must not be empty.
func (q *Queue[T]) Pop() (at time.Duration, value T) {
	first, last := q.heap[0], q.heap[len(q.heap)-1]
	q.heap[len(q.heap)-1] = item[T]{}
	q.heap = q.heap[:len(q.heap)-1]
	n := len(q.heap)
	if n == 0 {
		return first.at, first.value
	}
	i := 0
	for {
		child := 4*i + 1
		if child >= n {
			break
		}
		for c := child + 1; c < min(child+4, n); c++ {
			if q.heap[c].before(&q.heap[child]) {
				child = c
			}
		}
		if !q.heap[child].before(&last) {
			break
		}
		q.heap[i] = q.heap[child]
		i = child
	}
	q.heap[i] = last
	return first.at, first.value
}
