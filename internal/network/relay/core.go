package relay

import (
	"fmt"
	"sync"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/schedule"
)

// core is what all ways of moving packets share: the time, and what is told of
// packets.
type core struct {
	zero   time.Time
	record bool

	mu      sync.Mutex
	packets []Packet
	untold  int
	timing  Timing
	refused int
	unsent  int
	full    int
	trouble string
}

// mostUntold is how many packets are kept for somebody who does not take them.
const mostUntold = 1 << 20

// Stats is how a relay itself has done.
type Stats struct {
	Timing  Timing // how late packets were sent on, beyond their due time
	Refused int    // datagrams that came back because nobody listens at the server's port
	Unsent  int    // packets that the system did not take
	Full    int    // datagrams dropped because the relay held as much as it may
	Trouble string // what the system refused last beside that, like one more socket; "" is nothing
	Untold  int    // packets whose outcomes nobody took in time
}

func (c *core) now() time.Duration { return time.Since(c.zero) }

// tell keeps what is to be told of a packet.
func (c *core) tell(p Packet, data []byte) {
	if c.record {
		p.Payload = append([]byte(nil), data...)
	}
	c.mu.Lock()
	if len(c.packets) < mostUntold {
		c.packets = append(c.packets, p)
	} else {
		c.untold++
	}
	c.mu.Unlock()
}

func (c *core) take(list []Packet) []Packet {
	c.mu.Lock()
	defer c.mu.Unlock()
	list = append(list, c.packets...)
	c.packets = c.packets[:0]
	return list
}

func (c *core) stats() Stats {
	c.mu.Lock()
	defer c.mu.Unlock()
	return Stats{Timing: c.timing, Refused: c.refused, Unsent: c.unsent, Full: c.full, Trouble: c.trouble, Untold: c.untold}
}

// sent notes how late a packet was sent on.
func (c *core) sent(late time.Duration) {
	c.mu.Lock()
	c.timing.Add(late)
	c.mu.Unlock()
}

func (c *core) count(n *int) {
	c.mu.Lock()
	*n++
	c.mu.Unlock()
}

// fails notes that the system refused what the relay needs for a client.
func (c *core) fails(what string, err error) {
	c.mu.Lock()
	c.unsent++
	c.trouble = fmt.Sprintf("%s: %v", what, err)
	c.mu.Unlock()
}

// due is a packet that waits to be sent on.
type due struct {
	at     time.Duration
	data   []byte
	size   int
	client *client
	way    link.Direction
}

// waiting are the packets that are still to be sent on, by the time at which they are due.
type waiting struct {
	schedule.Queue[due]
	count uint64
	held  int // bytes of memory
}

// mostHeld is how much memory waiting datagrams may hold: a flood on a slow link is not to
// take all that the machine has.
const mostHeld = 64 << 20

func (w *waiting) push(d due) {
	w.count++
	w.held += cap(d.data)
	w.Push(d.at, w.count, d)
}

func (w *waiting) pop() due {
	_, d := w.Pop()
	w.held -= cap(d.data)
	return d
}

// slab hands out buffers for datagrams and takes them back. Larger datagrams than
// slabSize get memory of their own.
type slab struct{ free [][]byte }

const (
	slabSize    = 2048
	mostPayload = 65535
)

func (s *slab) get() []byte {
	if n := len(s.free); n > 0 {
		b := s.free[n-1]
		s.free = s.free[:n-1]
		return b
	}
	return make([]byte, slabSize)
}

func (s *slab) put(b []byte) {
	if len(b) == slabSize {
		s.free = append(s.free, b)
	}
}
