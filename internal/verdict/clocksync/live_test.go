package clocksync

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestLinesAreStampedByTheQuickestOfThem(t *testing.T) {
	var l Live
	random := rand.New(rand.NewPCG(1, 1))
	worst := time.Duration(0)
	for i := range 2000 {
		said := time.Duration(i) * 50 * time.Millisecond
		late := time.Duration(random.ExpFloat64() * float64(5*time.Millisecond))
		got := l.Shared(said+time.Hour, said+late) // its clock is an hour ahead
		if i > 100 {
			worst = max(worst, (got - said).Abs())
		}
	}
	assert.Less(t, worst, time.Millisecond, "although lines are late by 5 ms on average")
}

func TestLinesThatComeInHeapsKeepTheirSpacing(t *testing.T) {
	var l Live
	l.Shared(0, 0)
	for i := 1; i < 40; i++ {
		said := time.Duration(i) * 50 * time.Millisecond
		flushed := (said + time.Second - 1).Truncate(time.Second) // the program flushes once a second
		assert.Equal(t, said, l.Shared(said, flushed))
	}
}

func TestAClockThatDriftsIsFollowed(t *testing.T) {
	var l Live
	for i := range 10_000 {
		said := time.Duration(i) * 50 * time.Millisecond
		got := l.Shared(said+said/20_000, said) // 50 ppm fast
		require.InDelta(t, said.Seconds(), got.Seconds(), 0.0025)
	}
}

func TestAClockThatIsSetIsNoticed(t *testing.T) {
	for _, by := range []time.Duration{-time.Hour, time.Hour} {
		var l Live
		l.Shared(2*time.Hour, time.Second)
		assert.Equal(t, 2*time.Second, l.Shared(2*time.Hour+time.Second+by, 2*time.Second))
		assert.Equal(t, 3*time.Second, l.Shared(2*time.Hour+2*time.Second+by, 3*time.Second))
	}
}

func TestNoLineIsSaidAfterItArrived(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var l Live
		arrived := time.Duration(0)
		for range 50 {
			arrived += time.Duration(rapid.Int64Range(0, int64(10*time.Second)).Draw(t, "wait"))
			said := time.Duration(rapid.Int64Range(0, int64(time.Hour)).Draw(t, "t"))
			require.LessOrEqual(t, l.Shared(said, arrived), arrived)
		}
	})
}
