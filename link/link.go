// Package link is the impairment model: what a network path does to one
// packet. (packet, time, random stream) goes in, a [Fate] comes out. It opens
// no socket and reads no clock, so the virtual network and the relay share it.
//
// A link between a bot and the server has two directions, [Up] (to the server)
// and [Down]; each is a [Line] with a [Quality] of its own.
package link

import (
	"fmt"
	"math/rand/v2"
	"time"
)

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

// Quality says how good one direction of a link is. The zero value is a perfect
// line: every packet arrives at the moment it is sent.
type Quality struct {
	Latency   time.Duration // base one-way delay
	Jitter    time.Duration // standard deviation of the delay, normally distributed and truncated so that no delay is negative
	Reorder   bool          // whether jitter may let a packet overtake an earlier one
	Loss      float64       // share of packets lost, 0 to 1
	Burst     float64       // mean number of packets lost in a row; 0 means that losses are independent
	Duplicate float64       // share of packets that arrive twice, 0 to 1
}

// Validate reports the first value that is out of its range, in the words of
// the plan file.
func (q Quality) Validate() error {
	switch {
	case q.Latency < 0:
		return fmt.Errorf("latency: %v is negative; write 0 or more", q.Latency)
	case q.Jitter < 0:
		return fmt.Errorf("jitter: %v is negative; write 0 or more", q.Jitter)
	case !(q.Loss >= 0 && q.Loss <= 1):
		return fmt.Errorf("loss: %v is not a share from 0 to 1", q.Loss)
	case !(q.Duplicate >= 0 && q.Duplicate <= 1):
		return fmt.Errorf("duplicate: %v is not a share from 0 to 1", q.Duplicate)
	case q.Burst != 0 && !(q.Burst >= 1 && q.Burst <= 1e6):
		return fmt.Errorf("burst: a mean burst of %v packets is not possible; write 1 or more", q.Burst)
	case q.Burst > 0 && q.Loss < 1 && q.Loss > q.Burst/(q.Burst+1):
		return fmt.Errorf("loss: %.4g %% cannot come in bursts of %v packets on average; at most %.4g %% can, or write a longer burst",
			100*q.Loss, q.Burst, 100*q.Burst/(q.Burst+1))
	}
	return nil
}

// Reason says why a packet was dropped.
type Reason uint8

const (
	Delivered Reason = iota // not dropped
	Lost                    // lost on its own
	LostInRow               // lost, and so was the packet before it
)

func (r Reason) String() string {
	return [...]string{"delivered", "lost", "lost-in-row"}[r]
}

// ParseReason is the inverse of Reason.String.
func ParseReason(text string) (Reason, bool) {
	for r := Delivered; r <= LostInRow; r++ {
		if r.String() == text {
			return r, true
		}
	}
	return 0, false
}

// Fate is what a line did to one packet.
type Fate struct {
	Number  uint64           // counts the packets of this direction from 1
	Sent    time.Duration    // when it entered the line
	Size    int              // bytes
	Dropped Reason           // why it never arrived, or Delivered
	Copies  int              // how often it arrives: 0, 1 or 2
	Arrives [2]time.Duration // when each copy arrives
}

// Line is one direction of a link: a Quality and the state that runs along it
// from packet to packet. It is not safe for concurrent use.
//
// Losses follow the two-state model of Gilbert (Bell System Technical Journal,
// 1960): the line is either passing or losing, and loses every packet while
// losing. With a loss rate r and a mean burst of b packets it leaves the losing
// state with probability 1/b and enters it with probability r/(b(1-r)), which
// makes r the long-run share of lost packets. Without bursts every packet is
// lost with probability r on its own.
//
// Every packet draws the same number of times whatever becomes of it, except
// for the redraws that truncate the jitter; so the fates of a line depend on
// its stream and the order of packets, never on their sizes or contents.
type Line struct {
	quality Quality
	random  *rand.Rand
	count   uint64
	losing  bool
	latest  time.Duration // arrival of the latest packet so far
}

// NewLine returns a line of that quality which draws from random.
func NewLine(quality Quality, random *rand.Rand) *Line {
	l := &Line{quality: quality, random: random}
	l.losing = quality.Burst > 0 && random.Float64() < quality.Loss
	return l
}

// Send puts a packet of that many bytes on the line and returns its fate. The
// times of successive calls must not decrease.
func (l *Line) Send(now time.Duration, size int) Fate {
	l.count++
	q := &l.quality
	fate := Fate{Number: l.count, Sent: now, Size: size, Copies: 1}
	wasLosing := l.losing
	lossDraw, twiceDraw := l.random.Float64(), l.random.Float64()
	first, second := l.delay(), l.delay()

	switch {
	case q.Burst == 0:
		l.losing = lossDraw < q.Loss
	case wasLosing:
		l.losing = q.Loss == 1 || lossDraw >= 1/q.Burst
	default:
		l.losing = q.Loss == 1 || lossDraw < q.Loss/(q.Burst*(1-q.Loss))
	}
	if l.losing {
		fate.Copies = 0
		fate.Dropped = Lost
		if wasLosing && l.count > 1 {
			fate.Dropped = LostInRow
		}
		return fate
	}

	fate.Arrives[0] = l.arrival(now + first)
	if twiceDraw < q.Duplicate {
		fate.Copies = 2
		fate.Arrives[1] = l.arrival(now + max(first, second))
	}
	return fate
}

// delay draws a one-way delay: latency plus a normal deviation, drawn again
// until it is not negative, in whole microseconds as records have them.
func (l *Line) delay() time.Duration {
	q := &l.quality
	if q.Jitter == 0 {
		return q.Latency.Round(time.Microsecond)
	}
	for range 64 {
		if d := q.Latency + time.Duration(l.random.NormFloat64()*float64(q.Jitter)); d >= 0 {
			return d.Round(time.Microsecond)
		}
	}
	return 0 // out of reach: each of 64 draws is negative with probability 1/2 at the most
}

// arrival keeps packets in order where the line does not reorder.
func (l *Line) arrival(at time.Duration) time.Duration {
	if !l.quality.Reorder {
		at = max(at, l.latest)
	}
	l.latest = max(l.latest, at)
	return at
}
