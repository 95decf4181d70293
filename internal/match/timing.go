package match

import (
	"math"
	"sync"
	"time"

	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/metrics"
)

// stalls tells how late a thread of this run is woken: what the machine does to
// whoever runs on it. And it keeps when programs had to wait for a processor.
type stalls struct {
	zero    time.Time // from which moments count
	mu      sync.Mutex
	timing  relay.Timing
	count   int
	stalled time.Duration
	moments []metrics.Stall
	quit    chan struct{}
	done    sync.WaitGroup
}

const (
	stallEvery  = 5 * time.Millisecond
	stallLength = metrics.StallMs * time.Millisecond
	mostMoments = 10_000 // kept; of a machine that is so busy nothing is to be told by more
)

func (s *stalls) begin(zero time.Time) {
	s.zero, s.quit = zero, make(chan struct{})
	s.done.Go(func() {
		for {
			began := time.Now()
			select {
			case <-s.quit:
				return
			case <-time.After(stallEvery):
			}
			now := time.Now()
			late := now.Sub(began) - stallEvery
			s.mu.Lock()
			s.timing.Add(late)
			if late > stallLength {
				s.count++
				s.stalled += late
			}
			s.mu.Unlock()
			s.stood("", now, late, late)
		}
	})
}

// stood keeps that the machine stood still for so much of a stretch of time that is over: for
// a view's program or, as "", for all.
func (s *stalls) stood(view string, now time.Time, stretch, stood time.Duration) {
	if stood <= stallLength {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if to := now.Sub(s.zero); to > 0 && len(s.moments) < mostMoments {
		s.moments = append(s.moments, metrics.Stall{View: view, From: micros(to - stretch), To: micros(to), Stood: micros(stood)})
	}
}

// micros is as exact as what is written.
func micros(d time.Duration) trace.Seconds { return trace.Seconds(d.Round(time.Microsecond)) }

func (s *stalls) end() {
	if s.quit == nil {
		return
	}
	close(s.quit)
	s.done.Wait()
}

// timing is how well the match has kept time.
func (m *buildMatch) timing() *metrics.Timing {
	t := m.stage.timing()
	if m.wire.carrier != nil {
		stats := m.wire.carrier.Stats()
		t.Relay, t.Refused, t.Unsent, t.Full, t.Trouble = lateness(&stats.Timing), stats.Refused, stats.Unsent, stats.Full, stats.Trouble
	}
	for _, p := range m.participants {
		if p.live.Jumps > 0 {
			t.Clocks = append(t.Clocks, p.name)
		}
	}
	for _, machine := range m.machines {
		c := machine.Clock()
		t.Machines = append(t.Machines, metrics.Clock{Machine: machine.Name, Offset: trace.Seconds(c.Offset), DriftPPM: math.Round(c.DriftPPM*10) / 10, ErrorMs: math.Round(float64(c.Error.Microseconds())/10) / 100, Exchanges: c.Exchanges})
	}
	return t
}

func lateness(t *relay.Timing) metrics.Lateness {
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1e3 }
	limits := make([]time.Duration, len(metrics.Steps))
	for i, step := range metrics.Steps {
		limits[i] = time.Duration(step * float64(time.Millisecond))
	}
	return metrics.Lateness{Count: t.Count(), Median: ms(t.Quantile(0.5)), P99: ms(t.Quantile(0.99)), Max: ms(t.Most()), Bars: t.Bars(limits)}
}
