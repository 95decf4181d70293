package sim

import "time"

// event is one entry of the queue: something that happens to a node.
type event struct {
	at    time.Duration
	order uint64 // breaks ties: see order
	node  Node
	data  []byte // the datagram that arrives, or nil when the node is woken
	from  Node
}

// order makes the sequence of events at one instant a matter of definition:
// first what arrives, in the order it was sent; then who wakes, by node number.
func order(wake bool, node Node, count uint64) uint64 {
	if wake {
		return 1<<63 | uint64(node)
	}
	return count
}

func (e *event) before(f *event) bool {
	return e.at < f.at || e.at == f.at && e.order < f.order
}

// queue is a 4-ary heap: half as deep as a binary one, and its four children
// lie next to each other in memory.
type queue struct{ heap []event }

func (q *queue) push(e event) {
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

// pop removes and returns the earliest event. The queue must not be empty.
func (q *queue) pop() event {
	first, last := q.heap[0], q.heap[len(q.heap)-1]
	q.heap[len(q.heap)-1] = event{}
	q.heap = q.heap[:len(q.heap)-1]
	i, n := 0, len(q.heap)
	if n == 0 {
		return first
	}
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
	return first
}
