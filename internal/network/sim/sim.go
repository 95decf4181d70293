// Package sim is the virtual clock and the in-memory network: an event queue on
// which machines wake and datagrams arrive. A minute passes in milliseconds,
// and what happens is a pure function of the machines and the lines between
// them: no goroutine, no map order and no wall clock takes part.
//
// It knows nothing of games, traces or verdicts.
package sim

import (
	"context"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/schedule"
)

// Node numbers a machine on the network, in the order they were added.
type Node int32

// Datagram is what a machine finds in its inbox. Data is only valid during the
// step that receives it.
type Datagram struct {
	From Node
	Data []byte
}

// Machine is anything that runs on the clock.
type Machine interface {
	// Step runs the machine at time now with what arrived since its last step
	// and returns when it is to run next; a time not after now means never.
	Step(now time.Duration, arrived []Datagram) (next time.Duration)
}

// Sim is a virtual clock with a network. It is not safe for concurrent use.
type Sim struct {
	now    time.Duration
	queue  schedule.Queue[event]
	nodes  []node
	routes map[[2]Node]*route
	sent   uint64
	spare  [][]byte // datagram buffers for reuse
}

type node struct {
	machine Machine
	inbox   []Datagram
}

type route struct {
	line    *link.Line
	observe func(link.Outcome, []byte)
}

// New returns a clock at time zero with nobody on it.
func New() *Sim { return &Sim{routes: map[[2]Node]*route{}} }

// Now is the present virtual time.
func (s *Sim) Now() time.Duration { return s.now }

// Add puts a machine on the clock and wakes it first at start.
func (s *Sim) Add(m Machine, start time.Duration) Node {
	n := Node(len(s.nodes))
	s.nodes = append(s.nodes, node{machine: m})
	s.wake(n, start)
	return n
}

// Connect lets from send datagrams to to over that line. observe, if not nil,
// is told the outcome of every packet, and what is in it, at the moment it is sent.
func (s *Sim) Connect(from, to Node, line *link.Line, observe func(link.Outcome, []byte)) {
	s.routes[[2]Node{from, to}] = &route{line, observe}
}

// Send puts a datagram on the line between two nodes. The data is copied. A
// datagram between nodes that are not connected goes nowhere, as on a network.
func (s *Sim) Send(from, to Node, data []byte) {
	r := s.routes[[2]Node{from, to}]
	if r == nil {
		return
	}
	outcome := r.line.Send(s.now, len(data))
	if r.observe != nil {
		r.observe(outcome, data)
	}
	for _, at := range outcome.Arrives[:outcome.Copies] {
		s.sent++
		copied := append(s.buffer(), data...)
		outcome.Spoil(copied)
		s.queue.Push(at, order(false, to, s.sent), event{node: to, from: from, data: copied})
	}
}

// Run lets time pass until the clock reaches until (events at that instant
// included), nobody wants to run any more, or ctx is done; it returns ctx's
// error in the last case.
func (s *Sim) Run(ctx context.Context, until time.Duration) error {
	for steps := 0; s.queue.Due(until); steps++ {
		if steps%256 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		at, e := s.queue.Pop()
		s.now = at
		n := &s.nodes[e.node]
		if e.data != nil {
			n.inbox = append(n.inbox, Datagram{From: e.from, Data: e.data})
			continue
		}
		next := n.machine.Step(s.now, n.inbox)
		n = &s.nodes[e.node] // the step may have added nodes
		for _, d := range n.inbox {
			s.spare = append(s.spare, d.Data)
		}
		n.inbox = n.inbox[:0]
		if next > s.now {
			s.wake(e.node, next)
		}
	}
	s.now = max(s.now, until)
	return nil
}

func (s *Sim) wake(n Node, at time.Duration) {
	s.queue.Push(at, order(true, n, 0), event{node: n})
}

func (s *Sim) buffer() []byte {
	if len(s.spare) == 0 {
		return make([]byte, 0, 1500)
	}
	b := s.spare[len(s.spare)-1]
	s.spare = s.spare[:len(s.spare)-1]
	return b[:0]
}

// event is something that happens to a node.
type event struct {
	node Node
	data []byte // the datagram that arrives, or nil when the node is woken
	from Node
}

// order makes the sequence of events at one instant a matter of definition:
// first what arrives, in the order it was sent; then who wakes, by node number.
func order(wake bool, node Node, count uint64) uint64 {
	if wake {
		return 1<<63 | uint64(node)
	}
	return count
}
