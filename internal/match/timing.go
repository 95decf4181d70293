package match

import (
	"sync"
	"time"

	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/verdict/metrics"
)

// stalls tells how late a thread of this run is woken: what the machine does to
// whoever runs on it.
type stalls struct {
	mu      sync.Mutex
	timing  relay.Timing
	count   int
	stalled time.Duration
	quit    chan struct{}
	done    sync.WaitGroup
}

const stallEvery = 5 * time.Millisecond

func (s *stalls) begin() {
	s.quit = make(chan struct{})
	s.done.Go(func() {
		for {
			began := time.Now()
			select {
			case <-s.quit:
				return
			case <-time.After(stallEvery):
			}
			late := time.Since(began) - stallEvery
			s.mu.Lock()
			s.timing.Add(late)
			if late > metrics.StallMs*time.Millisecond {
				s.count++
				s.stalled += late
			}
			s.mu.Unlock()
		}
	})
}

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
