package feed

import (
	"runtime"
	"sync"
	"sync/atomic"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
)

// Listener hears a match, in the order of time: what its views say, and what became of packets on their links.
type Listener interface {
	Record(view int, r *trace.Record)
	Packet(view int, p link.Packet)
}

// Hands are a Listener that has others hear a match, each on a goroutine of its own and everything in the order in which it
// was said: what comes of it is the same, and where processors are idle it comes sooner.
//
// Its methods are for one goroutine. What the others have made of the match may be looked at after Wait, until more is said.
type Hands struct {
	in      []chan *batch
	filling *batch
	spare   chan *batch
	heard   sync.WaitGroup // of batches
	failure atomic.Pointer[any]
}

// said is one thing that was said.
type said struct {
	view     int
	record   trace.Record
	packet   link.Packet
	isPacket bool
}

// batch is what is handed on at a time.
type batch struct {
	list [batchSize]said
	n    int
	left atomic.Int32 // hands that have not heard it yet
}

const (
	batchSize = 48
	batches   = 6
)

// Beside has others hear a match beside whoever plays or reads it, if there are processors that nobody uses; otherwise it
// returns nil.
func Beside(others ...Listener) *Hands {
	if busy.Add(1) > int64(runtime.GOMAXPROCS(0)-1) || len(others) == 0 {
		busy.Add(-1)
		return nil
	}
	h := &Hands{filling: &batch{}, spare: make(chan *batch, batches)}
	for range batches - 1 {
		h.spare <- &batch{}
	}
	for _, other := range others {
		in := make(chan *batch, batches)
		h.in = append(h.in, in)
		go h.work(in, other)
	}
	return h
}

// busy counts the matches that are heard by hands, each of which takes one more processor, and those who take all.
var busy atomic.Int64

// Occupy says that all processors are used until release is called: several matches are played at once.
func Occupy() (release func()) {
	const all = 1 << 32
	busy.Add(all)
	return func() { busy.Add(-all) }
}

func (h *Hands) work(in <-chan *batch, to Listener) {
	for b := range in {
		h.hear(b, to)
		if b.left.Add(-1) == 0 {
			b.n = 0
			h.spare <- b
			h.heard.Done()
		}
	}
}

// hear keeps a failure for whoever waits: it belongs to that goroutine.
func (h *Hands) hear(b *batch, to Listener) {
	defer func() {
		if failure := recover(); failure != nil {
			h.failure.CompareAndSwap(nil, &failure)
		}
	}()
	if h.failure.Load() != nil {
		return
	}
	for i := range b.n {
		if s := &b.list[i]; s.isPacket {
			to.Packet(s.view, s.packet)
		} else {
			to.Record(s.view, &s.record)
		}
	}
}

// Record has a record of a view heard. It is copied.
func (h *Hands) Record(view int, r *trace.Record) {
	s := h.next()
	s.view, s.isPacket = view, false
	s.record.CopyFrom(r)
}

// Packet has the outcome of a packet heard.
func (h *Hands) Packet(view int, p link.Packet) {
	s := h.next()
	s.view, s.packet, s.isPacket = view, p, true
}

// next is a place for what is said.
func (h *Hands) next() *said {
	if h.filling.n == batchSize {
		h.handOn()
	}
	h.filling.n++
	return &h.filling.list[h.filling.n-1]
}

func (h *Hands) handOn() {
	b := h.filling
	b.left.Store(int32(len(h.in)))
	h.heard.Add(1)
	for _, in := range h.in {
		in <- b
	}
	h.filling = <-h.spare
}

// Wait waits until all that was said has been heard. Of nobody it does nothing, like End.
func (h *Hands) Wait() {
	if h == nil {
		return
	}
	if h.filling.n > 0 {
		h.handOn()
	}
	h.heard.Wait()
	if failure := h.failure.Load(); failure != nil {
		panic(*failure)
	}
}

// End waits likewise, and lets the hands go.
func (h *Hands) End() {
	if h == nil || h.in == nil {
		return
	}
	defer func() {
		for _, in := range h.in {
			close(in)
		}
		h.in = nil
		busy.Add(-1)
	}()
	h.Wait()
}
