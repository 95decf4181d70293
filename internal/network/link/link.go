// Package link is the impairment model: what a network path does to one
// packet. (packet, time, random stream) goes in, a [Outcome] comes out. It opens
// no socket and reads no clock, so the virtual network and the relay share it.
//
// A link between a bot and the server has two directions, [Up] (to the server)
// and [Down]; each is a [Line] with a [Quality] of its own, which may change in
// its [Course].
package link

import "time"

// Direction tells the two ways of a link apart.
type Direction uint8

const (
	Up   Direction = iota // from the bot to the server
	Down                  // from the server to the bot
)

func (d Direction) String() string {
	if d == Up {
		return "up"
	}
	return "down"
}

// Outcome is what a line did to one packet.
type Outcome struct {
	Number  uint64           // counts the packets of this direction from 1
	Sent    time.Duration    // when it entered the line
	Size    int              // bytes
	Dropped Reason           // why it never arrived, or Delivered
	Copies  int              // how often it arrives: 0, 1 or 2
	Arrives [2]time.Duration // when each copy arrives
	Flipped int              // the bit that was turned over, counted from 1; 0 means none
	Resent  int              // on a stream: how often it had to be sent again
}

// Packet is a packet that was sent on a link, and what became of it.
type Packet struct {
	Direction Direction
	Outcome
}

// Delay is how long its first copy was on its way; 0 if none arrives.
func (f Outcome) Delay() time.Duration {
	if f.Copies == 0 {
		return 0
	}
	return f.Arrives[0] - f.Sent
}

// Spoiled reports whether nothing of it arrived as it was sent.
func (f Outcome) Spoiled() bool { return f.Copies == 0 || f.Flipped > 0 }

// Given is the outcome that the packet of one number is given instead of one that is
// drawn. It arrives when it says, and is neither held up by others nor holds them up;
// on a stream, where order is kept, it is and does.
type Given struct {
	Number  uint64
	Dropped Reason
	Copies  int
	Delay   [2]time.Duration // of each copy, since it was sent
	Flipped int
	Resent  int

	// Like, if it has a size, is the packet that it was recorded of: then the packet that is most like
	// that one has the outcome, whatever its number. See Likeness.
	Like Recorded
}

// Given is what gives another packet of that number this outcome.
func (f Outcome) Given() Given {
	g := Given{Number: f.Number, Dropped: f.Dropped, Copies: f.Copies, Flipped: f.Flipped, Resent: f.Resent}
	for i := range f.Copies {
		g.Delay[i] = f.Arrives[i] - f.Sent
	}
	return g
}

// outcome gives it to a packet.
func (g *Given) outcome(f Outcome) Outcome {
	f.Dropped, f.Copies, f.Flipped, f.Resent, f.Arrives = g.Dropped, g.Copies, g.Flipped, g.Resent, [2]time.Duration{}
	for i := range g.Copies {
		f.Arrives[i] = f.Sent + g.Delay[i]
	}
	return f
}

// Spoil turns over the bit that the line has turned over.
func (f Outcome) Spoil(data []byte) {
	if bit := f.Flipped - 1; bit >= 0 && bit/8 < len(data) {
		data[bit/8] ^= 1 << (bit % 8)
	}
}

// Reason says why a packet was dropped.
type Reason uint8

const (
	Delivered Reason = iota // not dropped
	Lost                    // lost on its own
	LostInRow               // lost, and so was the packet before it
	QueueFull               // it did not fit into the queue before a slow line
	TooBig                  // larger than the MTU
	Outage                  // the line was cut
	RelayFull               // a relay held as much as it may: no outcome of the line's, but the relay's own
	reasons
)

func (r Reason) String() string {
	return [reasons]string{"delivered", "lost", "lost-in-row", "queue-full", "too-big", "outage", "relay-full"}[r]
}

// Reasons are the names of the reasons for which packets are dropped.
func Reasons() (names []string) {
	for r := Delivered + 1; r < reasons; r++ {
		names = append(names, r.String())
	}
	return names
}

// ParseReason is the inverse of Reason.String.
func ParseReason(text string) (Reason, bool) {
	for r := Delivered; r < reasons; r++ {
		if r.String() == text {
			return r, true
		}
	}
	return 0, false
}
