package worlds

import (
	"fmt"
	"time"

	"zitherwheel/internal/trace"
)

// signals are the one-offs of a world: when the server tells them, and by which ids.
type signals struct {
	times []float64
	again int // ids start again after so many; 0: there are none, negative: they never do
}

// drawSignals draws them; every third world has none.
func drawSignals(r *draw) (s signals) {
	if r.IntN(3) == 0 {
		return s
	}
	mean := r.between(0.3, 4)
	for at := r.between(1, 1+mean); at < Length.Seconds()-1; at += mean * r.between(0.3, 1.7) {
		s.times = append(s.times, at)
	}
	s.again = []int{0, -1, 3 + r.IntN(20)}[r.IntN(3)]
	return s
}

func (s signals) record(i int, at float64) trace.Record {
	r := trace.Record{T: time.Duration(at * 1e9), Event: "signal"}
	switch {
	case s.again > 0:
		r.ID = fmt.Sprint(i % s.again)
	case s.again < 0:
		r.ID = fmt.Sprint(i)
	}
	return r
}

// arrive are the times at which a view tells them when it is right.
func (v *view) arrive(r *draw, s signals) (times [][]float64) {
	for _, at := range s.times {
		times = append(times, []float64{at + v.lag + max(0, v.behind) + r.between(0, 0.06)})
	}
	return times
}

// spoil is what is wrong with the signals of a view from a moment on.
type spoil func(r *draw, times []float64) []float64

// lost leaves out every third.
func lost(r *draw, times []float64) []float64 {
	if r.IntN(3) == 0 {
		return nil
	}
	return times
}

// twice tells every third once more.
func twice(r *draw, times []float64) []float64 {
	if r.IntN(3) == 0 {
		return append(times, times[0]+0.01)
	}
	return times
}

// tooLate tells every third a second or two later.
func tooLate(r *draw, times []float64) []float64 {
	if r.IntN(3) == 0 {
		times[0] += r.between(1.2, 2.5)
	}
	return times
}
