package link

import (
	"math/rand/v2"
	"slices"
	"time"
)

// Sample is what a course does to many packets that are sent one after the other.
type Sample struct {
	Delays []time.Duration // of those that arrived, sorted
	Lost   float64         // share
}

// Try sends n packets of 200 bytes, 20 a second.
func (c Course) Try(n int, random *rand.Rand) Sample {
	line, s := NewLine(c, random), Sample{}
	for i := range n {
		f := line.Send(time.Duration(i)*50*ms, 200)
		if f.Copies == 0 {
			s.Lost++
			continue
		}
		s.Delays = append(s.Delays, f.Delay())
	}
	s.Lost /= float64(n)
	slices.Sort(s.Delays)
	return s
}

// Quantile is the delay below which a share q of those that arrived were, 0 if none did.
func (s Sample) Quantile(q float64) time.Duration {
	if len(s.Delays) == 0 {
		return 0
	}
	return s.Delays[min(int(q*float64(len(s.Delays))), len(s.Delays)-1)]
}
