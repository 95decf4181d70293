package sim

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/random"
)

const ms = time.Millisecond

// stepFunc lets a function be a machine.
type stepFunc func(now time.Duration, arrived []Datagram) time.Duration

func (f stepFunc) Step(now time.Duration, arrived []Datagram) time.Duration { return f(now, arrived) }

// talkers builds a net of one listener and some senders and returns a log of
// everything that happened on it.
func talkers(t *testing.T, senders int, quality link.Conditions, length time.Duration) (log []string) {
	s := New()
	server := s.Add(stepFunc(func(now time.Duration, arrived []Datagram) time.Duration {
		for _, d := range arrived {
			log = append(log, fmt.Sprintf("%v %d: %s", now, d.From, d.Data))
		}
		return now + 10*ms
	}), 0)
	for i := range senders {
		name := fmt.Sprintf("link/%d/up", i)
		var self Node
		self = s.Add(stepFunc(func(now time.Duration, _ []Datagram) time.Duration {
			s.Send(self, server, fmt.Appendf(nil, "%v", now))
			return now + 7*ms
		}), time.Duration(i)*ms)
		s.Connect(self, server, link.NewLine(link.Course{Conditions: quality}, random.Stream(4, name)), nil)
	}
	require.NoError(t, s.Run(context.Background(), length))
	require.Equal(t, length, s.Now())
	return log
}

func TestTheSameNetPlaysTheSameWay(t *testing.T) {
	q := link.Conditions{Latency: 20 * ms, Jitter: 8 * ms, Reorder: true, Loss: 0.1, Burst: 2, Duplicate: 0.1}
	first := talkers(t, 5, q, time.Second)
	assert.Greater(t, len(first), 500)
	assert.Equal(t, first, talkers(t, 5, q, time.Second))
}

func TestADatagramArrivesAtTheFirstStepAfterItsDelay(t *testing.T) {
	log := talkers(t, 1, link.Conditions{Latency: 25 * ms}, 60*ms)
	assert.Equal(t, []string{"30ms 1: 0s", "40ms 1: 7ms", "40ms 1: 14ms", "50ms 1: 21ms", "60ms 1: 28ms", "60ms 1: 35ms"}, log)
}

func TestWhatArrivesAtAnInstantIsSeenByTheStepOfThatInstant(t *testing.T) {
	log := talkers(t, 1, link.Conditions{Latency: 10 * ms}, 10*ms)
	assert.Equal(t, []string{"10ms 1: 0s"}, log)
}

func TestADatagramToAStrangerGoesNowhere(t *testing.T) {
	s := New()
	lone := s.Add(stepFunc(func(now time.Duration, arrived []Datagram) time.Duration {
		assert.Empty(t, arrived)
		s.Send(0, 5, []byte("hello"))
		return now + ms
	}), 0)
	assert.Equal(t, Node(0), lone)
	assert.NoError(t, s.Run(context.Background(), 10*ms))
}

func TestAnInterruptEndsTheRun(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	s, steps := New(), 0
	s.Add(stepFunc(func(now time.Duration, _ []Datagram) time.Duration {
		if steps++; steps == 1000 {
			cancel()
		}
		return now + ms
	}), 0)
	assert.ErrorIs(t, s.Run(ctx, time.Hour), context.Canceled)
	assert.Less(t, steps, 2000)
}
