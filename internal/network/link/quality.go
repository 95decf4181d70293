package link

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Quality says how good one direction of a link is. The zero value is a perfect
// line: every packet arrives at the moment it is sent.
type Conditions struct {
	Latency    time.Duration // base one-way delay
	Jitter     time.Duration // standard deviation of the delay
	Spread     Spread        // how the jitter is distributed
	Sticky     float64       // correlation of the jitter from one packet to the next, 0 to below 1
	Reorder    bool          // whether jitter may let a packet overtake an earlier one
	Loss       float64       // share of packets lost, 0 to 1
	Burst      float64       // mean number of packets lost in a row; 0 means that losses are independent
	BurstTime  time.Duration // instead of Burst: the mean time for which everything is lost
	Duplicate  float64       // share of packets that arrive twice, 0 to 1
	Corrupt    float64       // share of packets that arrive with one bit turned over, 0 to 1
	Straggle   float64       // share of packets that are held back by StraggleBy and overtaken, 0 to 1
	StraggleBy time.Duration //
	Rate       float64       // bits a second that the line carries; 0 means any number
	Queue      int           // bytes that may wait before a line with a Rate; 0 means DefaultQueue
	MTU        int           // bytes of the largest packet that passes; 0 means any size
}

// Spread is the distribution of jitter around the latency.
type Spread uint8

const (
	Normal    Spread = iota // normal, truncated so that no delay is negative
	Uniform                 // from Latency-√3·Jitter to Latency+√3·Jitter, truncated likewise
	HeavyTail               // never below Latency; above it a Lomax distribution of shape 3, whose standard deviation is Jitter
)

// Spreads are the names of the distributions, by number.
var Spreads = []string{"normal", "uniform", "heavy-tail"}

func (s Spread) String() string { return Spreads[s] }

// ParseSpread is the inverse of Spread.String.
func parseSpread(text string) (Spread, error) {
	if i := slices.Index(Spreads, text); i >= 0 {
		return Spread(i), nil
	}
	return 0, fmt.Errorf("there is no distribution %q; there are %s", text, strings.Join(Spreads, ", "))
}

// DefaultQueue is how much may wait before a line with a rate: what it carries in
// 200 ms, and at least four full packets.
func (q Conditions) DefaultQueue() int { return max(6000, int(q.Rate/8/5)) }

// Validate reports the first value that is out of its range, in the words of
// the plan file.
func (q Conditions) Validate() error {
	for _, share := range []struct {
		name  string
		value float64
	}{{"loss", q.Loss}, {"duplicate", q.Duplicate}, {"corrupt", q.Corrupt}, {"straggle", q.Straggle}} {
		if !(share.value >= 0 && share.value <= 1) {
			return fmt.Errorf("%s: %v is not a share from 0 to 1", share.name, share.value)
		}
	}
	switch {
	case q.Latency < 0:
		return fmt.Errorf("latency: %v is negative; write 0 or more", q.Latency)
	case q.Jitter < 0:
		return fmt.Errorf("jitter: %v is negative; write 0 or more", q.Jitter)
	case !(q.Sticky >= 0 && q.Sticky < 1):
		return fmt.Errorf("sticky: %v is not a correlation from 0 to below 1", q.Sticky)
	case q.Burst != 0 && !(q.Burst >= 1 && q.Burst <= 1e6):
		return fmt.Errorf("burst: a mean burst of %v packets is not possible; write 1 or more", q.Burst)
	case q.Burst > 0 && q.BurstTime > 0:
		return errors.New("burst and burst-time: write how many packets are lost in a row, or for how long, and not both")
	case q.BurstTime < 0:
		return fmt.Errorf("burst-time: %v is negative; write 0s or more", q.BurstTime)
	case q.Burst > 0 && q.Loss < 1 && q.Loss > q.Burst/(q.Burst+1):
		return fmt.Errorf("loss: %.4g%% cannot come in bursts of %v packets on average; at most %.4g%% can, or write a longer burst",
			100*q.Loss, q.Burst, 100*q.Burst/(q.Burst+1))
	case q.StraggleBy < 0:
		return fmt.Errorf("straggle-by: %v is negative; write 0 or more", q.StraggleBy)
	case q.Straggle > 0 && q.StraggleBy == 0:
		return fmt.Errorf("straggle: say by how much with straggle-by, like straggle-by: 60ms")
	case !(q.Rate >= 0 && q.Rate <= 1e12):
		return fmt.Errorf("rate: %v bits a second is not possible", q.Rate)
	case q.Rate > 0 && q.Rate < 100:
		return fmt.Errorf("rate: %v bits a second is too slow for one packet in a minute; write bits a second, like 2Mbit/s", q.Rate)
	case q.Queue < 0 || q.MTU < 0:
		return fmt.Errorf("queue and mtu are bytes; write 0 or more")
	}
	return nil
}

// Course is a quality that changes as time passes. Times are counted like those
// that [Line.Send] is given.
type Course struct {
	Conditions          // at first
	Changes    []Change // in order of time
	Outages    []Window // when nothing passes
	Given      []Given  // outcomes of single packets, in order of their numbers
}

// Change is a new quality from a moment on.
type Change struct {
	At time.Duration
	Conditions
}

// Window is a stretch of time, its end not included.
type Window struct{ From, Until time.Duration }

// Validate reports the first thing that is not possible.
func (c Course) Validate() error {
	if err := c.Conditions.Validate(); err != nil {
		return err
	}
	for i, change := range c.Changes {
		if err := change.Validate(); err != nil {
			return fmt.Errorf("changes: at %v: %w", change.At, err)
		}
		if i > 0 && change.At < c.Changes[i-1].At {
			return fmt.Errorf("changes: the one at %v stands behind that at %v; write them in order of time", change.At, c.Changes[i-1].At)
		}
	}
	for _, w := range c.Outages {
		if w.Until <= w.From {
			return fmt.Errorf("outages: the one at %v lasts no time; write for: with a time span", w.From)
		}
	}
	for i, g := range c.Given {
		switch {
		case g.Number == 0:
			return fmt.Errorf("outcomes: packets are numbered from 1; write packet: with a number")
		case i > 0 && g.Number <= c.Given[i-1].Number:
			return fmt.Errorf("outcomes: packet %d stands behind packet %d; write each once, in order", g.Number, c.Given[i-1].Number)
		case (g.Dropped == Delivered) != (g.Copies > 0):
			return fmt.Errorf("outcomes: packet %d is either dropped: with a reason, or arrives after: some time", g.Number)
		case (g.Like.Size > 0) != (c.Given[0].Like.Size > 0) || g.Like.Size == 0 && g.Like.Sent > 0:
			return fmt.Errorf("outcomes: packet %d: say of all or of none of them how many bytes: they have, and when they were sent:; then the packets most like them are meant", g.Number)
		case i > 0 && g.Like.Sent < c.Given[i-1].Like.Sent:
			return fmt.Errorf("outcomes: packet %d was sent before packet %d; write them in order of time", g.Number, c.Given[i-1].Number)
		case g.Delay[0] < 0 || g.Copies == 2 && g.Delay[1] < g.Delay[0]:
			return fmt.Errorf("outcomes: packet %d arrives before it was sent, or its second copy before its first", g.Number)
		}
	}
	return nil
}
