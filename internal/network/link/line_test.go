package link

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/random"
)

func course(c Course, n int, every time.Duration, size int) []Outcome {
	line, outcomes := NewLine(c, random.Stream(7, "link/fern/down")), make([]Outcome, n)
	for i := range outcomes {
		outcomes[i] = line.Send(time.Duration(i)*every, size)
	}
	return outcomes
}

// distance is that of Kolmogorov and Smirnov between samples and a distribution.
func distance(samples []float64, distribution func(float64) float64) float64 {
	slices.Sort(samples)
	worst := 0.0
	for i, x := range samples {
		f := distribution(x)
		worst = max(worst, math.Abs(f-float64(i)/float64(len(samples))), math.Abs(f-float64(i+1)/float64(len(samples))))
	}
	return worst
}

func delaysOf(outcomes []Outcome) (delays []float64) {
	for _, f := range outcomes {
		delays = append(delays, (f.Arrives[0] - f.Sent).Seconds())
	}
	return delays
}

func TestJitterIsDistributedAsAsked(t *testing.T) {
	const n, latency, jitter = 20_000, 0.080, 0.020
	q := Conditions{Latency: 80 * ms, Jitter: 20 * ms, Reorder: true}
	uniform, tail := q, q
	uniform.Spread, tail.Spread = Uniform, HeavyTail
	half := math.Sqrt(3) * jitter
	assert.Less(t, distance(delaysOf(send(uniform, 1, n)), func(x float64) float64 { return max(0, min(1, (x-latency+half)/(2*half))) }), 1.95/math.Sqrt(n))
	scale := 2 / math.Sqrt(3) * jitter
	assert.Less(t, distance(delaysOf(send(tail, 1, n)), func(x float64) float64 {
		if x < latency {
			return 0
		}
		return 1 - math.Pow(1+(x-latency)/scale, -3)
	}), 1.95/math.Sqrt(n))
}

func TestStickyJitterGoesOnFromPacketToPacket(t *testing.T) {
	for _, sticky := range []float64{0, 0.5, 0.9} {
		delays := delaysOf(send(Conditions{Latency: 500 * ms, Jitter: 20 * ms, Sticky: sticky, Reorder: true}, 2, 50_000))
		mean := 0.0
		for _, d := range delays {
			mean += d / float64(len(delays))
		}
		variance, next := 0.0, 0.0
		for i, d := range delays[1:] {
			variance += (d - mean) * (d - mean)
			next += (d - mean) * (delays[i] - mean)
		}
		assert.InDelta(t, sticky, next/variance, 0.03)
		assert.InDelta(t, 0.020, math.Sqrt(variance/float64(len(delays))), 0.0015, "sticky or not, the jitter is as large")
	}
}

func TestAnOverfullLineFirstDelaysAndThenDrops(t *testing.T) {
	// 1000 bytes every 10 ms are 800 kbit/s; the line carries 400.
	outcomes := course(Course{Conditions: Conditions{Rate: 400e3, Queue: 5000}}, 40, 10*ms, 1000)
	assert.Equal(t, 20*ms, outcomes[0].Arrives[0], "the time it takes to leave")
	assert.Equal(t, 30*ms, outcomes[1].Arrives[0]-outcomes[1].Sent)
	first := slices.IndexFunc(outcomes, func(f Outcome) bool { return f.Copies == 0 })
	require.Positive(t, first)
	assert.Equal(t, QueueFull, outcomes[first].Dropped)
	carried := 0
	for i, f := range outcomes {
		carried += f.Copies
		if f.Copies > 0 {
			assert.LessOrEqual(t, f.Arrives[0]-f.Sent, 120*ms, "packet %d", i)
		}
	}
	assert.InDelta(t, 20+5, carried, 1, "half, and what waits at the end")
	idle := course(Course{Conditions: Conditions{Rate: 400e3}}, 10, 50*ms, 1000)
	assert.Equal(t, 20*ms, idle[9].Arrives[0]-idle[9].Sent, "a line that keeps up has no queue")
}

func TestWhatIsTooBigVanishes(t *testing.T) {
	line := NewLine(Course{Conditions: Conditions{MTU: 1200}}, random.Stream(1, "x"))
	assert.Equal(t, Delivered, line.Send(0, 1200).Dropped)
	assert.Equal(t, TooBig, line.Send(0, 1201).Dropped)
}

func TestACourseChangesTheQualityAndCutsTheLine(t *testing.T) {
	outcomes := course(Course{
		Conditions: Conditions{Latency: 10 * ms},
		Changes:    []Change{{At: 20 * ms, Conditions: Conditions{Latency: 50 * ms}}, {At: 40 * ms, Conditions: Conditions{}}},
		Outages:    []Window{{From: 30 * ms, Until: 35 * ms}},
	}, 50, ms, 100)
	for i, f := range outcomes {
		switch {
		case i >= 30 && i < 35:
			assert.Equal(t, Outage, f.Dropped, i)
		case i < 20:
			assert.Equal(t, 10*ms, f.Arrives[0]-f.Sent, i)
		case i < 40:
			assert.Equal(t, 50*ms, f.Arrives[0]-f.Sent, i)
		default:
			assert.GreaterOrEqual(t, f.Arrives[0], outcomes[39].Arrives[0], "order is kept across a change")
		}
	}
	line := NewLine(Course{}, random.Stream(1, "x"))
	line.Cut(true)
	assert.Equal(t, Outage, line.Send(0, 1).Dropped)
	line.Cut(false)
	line.Set(Conditions{Latency: ms})
	assert.Equal(t, 2*ms, line.Send(ms, 1).Arrives[0])
}

func TestSpoiledAndStragglingPacketsComeAsOftenAsAsked(t *testing.T) {
	const n = 50_000
	outcomes := send(Conditions{Latency: 20 * ms, Corrupt: 0.1, Straggle: 0.05, StraggleBy: 30 * ms}, 3, n)
	spoiled, late := 0, 0
	for _, f := range outcomes {
		if f.Flipped > 0 {
			spoiled++
			require.LessOrEqual(t, f.Flipped, 800)
		}
		if f.Arrives[0]-f.Sent > 40*ms {
			late++
		}
	}
	assert.InDelta(t, 0.1, float64(spoiled)/n, 0.007)
	assert.InDelta(t, 0.05, float64(late)/n, 0.005)
	data := []byte{0, 0}
	Outcome{Flipped: 10}.Spoil(data)
	assert.Equal(t, []byte{0, 2}, data)
	Outcome{}.Spoil(data)
	Outcome{Flipped: 99}.Spoil(data)
	assert.Equal(t, []byte{0, 2}, data)
}

// A stream loses nothing: what is lost on the way is a stall.
func TestAStreamStallsWhereADatagramIsLost(t *testing.T) {
	const n, rtt = 20_000, 80 * ms
	line := NewLine(Course{Conditions: Conditions{Latency: 40 * ms, Loss: 0.02}, Outages: []Window{{From: 5 * time.Second, Until: 7 * time.Second}}}, random.Stream(5, "x"))
	latest, stalls := time.Duration(0), 0
	for i := range n {
		f := line.SendStream(time.Duration(i)*10*ms, 100, rtt)
		require.Equal(t, 1, f.Copies)
		require.Equal(t, uint64(i+1), f.Number)
		require.GreaterOrEqual(t, f.Arrives[0], latest, "order is kept")
		latest = f.Arrives[0]
		if out := f.Sent >= 5*time.Second && f.Sent < 7*time.Second; out {
			require.GreaterOrEqual(t, f.Arrives[0], 7*time.Second)
		} else if f.Resent > 0 {
			stalls++
			require.GreaterOrEqual(t, f.Arrives[0]-f.Sent, 280*ms+40*ms)
		}
	}
	assert.InDelta(t, 0.02, float64(stalls)/n, 0.004)
	slow := NewLine(Course{Conditions: Conditions{Rate: 80e3}}, random.Stream(5, "x"))
	slow.SendStream(0, 1000, 0)
	assert.Equal(t, 200*ms, slow.SendStream(0, 1000, 0).Arrives[0], "a rate holds a stream back and drops nothing")
}

func TestImpossibleCoursesAreRefused(t *testing.T) {
	for _, c := range []struct {
		course  Course
		message string
	}{
		{Course{Conditions: Conditions{Sticky: 1}}, "sticky: 1 is not a correlation from 0 to below 1"},
		{Course{Conditions: Conditions{Straggle: 0.1}}, "straggle: say by how much with straggle-by, like straggle-by: 60ms"},
		{Course{Conditions: Conditions{StraggleBy: -ms}}, "straggle-by: -1ms is negative; write 0 or more"},
		{Course{Conditions: Conditions{Rate: 8}}, "rate: 8 bits a second is too slow for one packet in a minute; write bits a second, like 2Mbit/s"},
		{Course{Conditions: Conditions{Rate: -1}}, "rate: -1 bits a second is not possible"},
		{Course{Conditions: Conditions{MTU: -1}}, "queue and mtu are bytes; write 0 or more"},
		{Course{Changes: []Change{{At: ms, Conditions: Conditions{Loss: 2}}}}, "changes: at 1ms: loss: 2 is not a share from 0 to 1"},
		{Course{Changes: []Change{{At: ms}, {At: 0}}}, "changes: the one at 0s stands behind that at 1ms; write them in order of time"},
		{Course{Outages: []Window{{From: ms, Until: ms}}}, "outages: the one at 1ms lasts no time; write for: with a time span"},
	} {
		assert.EqualError(t, c.course.Validate(), c.message)
	}
}

// A packet that is given its outcome has it, and the others fare as they would have.
func TestGivenOutcomes(t *testing.T) {
	quality := Conditions{Latency: 50 * time.Millisecond, Jitter: 10 * time.Millisecond, Loss: 0.2, Burst: 3, Duplicate: 0.1, Corrupt: 0.1, Rate: 1e6}
	given := []Given{{Number: 2, Dropped: Lost}, {Number: 5, Copies: 1, Delay: [2]time.Duration{time.Millisecond}}, {Number: 6, Copies: 2, Delay: [2]time.Duration{3 * time.Millisecond, 9 * time.Millisecond}, Flipped: 7}}
	drawn := NewLine(Course{Conditions: quality}, random.Stream(1, "a"))
	line := NewLine(Course{Conditions: quality, Given: given}, random.Stream(1, "a"))
	next := 0
	for n := range 200 {
		now := time.Duration(n) * 20 * time.Millisecond
		a, b := drawn.Send(now, 100), line.Send(now, 100)
		if next < len(given) && b.Number == given[next].Number {
			assert.Equal(t, given[next], b.Given())
			next++
			continue
		}
		assert.Equal(t, a, b)
	}
	assert.Equal(t, len(given), next)
}

// All outcomes of a line given to a line of another kind and seed are the same again.
func TestAllOutcomesGivenAreTheSameAgain(t *testing.T) {
	drawn := NewLine(Course{Conditions: Conditions{Latency: 50 * time.Millisecond, Jitter: 30 * time.Millisecond, Reorder: true, Loss: 0.1, Duplicate: 0.1}}, random.Stream(1, "a"))
	var outcomes []Outcome
	var given []Given
	for n := range 500 {
		outcomes = append(outcomes, drawn.Send(time.Duration(n)*time.Millisecond, 80))
		given = append(given, outcomes[n].Given())
	}
	line := NewLine(Course{Conditions: Conditions{Loss: 1}, Given: given}, random.Stream(2, "b"))
	for n := range 500 {
		assert.Equal(t, outcomes[n], line.Send(time.Duration(n)*time.Millisecond, 80))
	}
	assert.Zero(t, line.Send(time.Second, 80).Copies, "what was not given is drawn")
}

// On a stream a piece that is given to be late holds up those behind it.
func TestAGivenOutcomeOnAStreamKeepsOrder(t *testing.T) {
	line := NewLine(Course{Conditions: Conditions{Latency: 10 * time.Millisecond}, Given: []Given{{Number: 2, Copies: 1, Delay: [2]time.Duration{300 * time.Millisecond}, Resent: 1}}}, random.Stream(1, "a"))
	var arrives []time.Duration
	for n := range 4 {
		arrives = append(arrives, line.SendStream(time.Duration(n)*20*time.Millisecond, 100, 20*time.Millisecond).Arrives[0])
	}
	assert.Equal(t, []time.Duration{10 * time.Millisecond, 320 * time.Millisecond, 320 * time.Millisecond, 320 * time.Millisecond}, arrives)
}
