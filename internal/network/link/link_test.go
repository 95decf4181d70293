package link

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/random"
)

// send puts n packets on a line, one every millisecond.
func send(q Conditions, seed uint64, n int) []Outcome {
	line, outcomes := NewLine(Course{Conditions: q}, random.Stream(seed, "link/fern/down")), make([]Outcome, n)
	for i := range outcomes {
		outcomes[i] = line.Send(time.Duration(i)*ms, 100)
	}
	return outcomes
}

func TestAPerfectLineDeliversAtOnce(t *testing.T) {
	for i, outcome := range send(Conditions{}, 1, 100) {
		want := Outcome{Number: uint64(i + 1), Sent: time.Duration(i) * ms, Size: 100, Copies: 1}
		want.Arrives[0] = want.Sent
		require.Equal(t, want, outcome)
	}
}

func TestLossRateAndBurstLengthAreAsAsked(t *testing.T) {
	for _, q := range []Conditions{
		{Loss: 0.04}, {Loss: 0.04, Burst: 3}, {Loss: 0.15, Burst: 5}, {Loss: 0.5, Burst: 1}, {Loss: 0.02, Burst: 20},
	} {
		const n = 400_000
		lost, bursts, row := 0, 0, false
		for _, outcome := range send(q, 3, n) {
			dropped := outcome.Dropped != Delivered
			require.Equal(t, dropped, outcome.Copies == 0)
			if dropped {
				lost++
				if !row {
					bursts++
				}
			}
			row = dropped
		}
		burst := max(q.Burst, 1)
		wantBurst := burst
		if q.Burst == 0 {
			wantBurst = 1 / (1 - q.Loss)
		}
		// Losses in a row count once: the effective sample is the number of bursts.
		rateError := 5 * math.Sqrt(2*burst*q.Loss/n)
		assert.InDelta(t, q.Loss, float64(lost)/n, rateError, "rate of %+v", q)
		assert.InEpsilon(t, wantBurst, float64(lost)/float64(bursts), 5/math.Sqrt(float64(bursts)), "burst of %+v", q)
	}
}

// A burst in time is as long whoever sends into it: the share that is lost and how likely a packet fares
// like the one before it depend on how far apart the two are sent alone.
func TestBurstsInTimeAreAsLongAsAsked(t *testing.T) {
	for _, q := range []Conditions{{Loss: 0.04, BurstTime: 100 * ms}, {Loss: 0.3, BurstTime: 50 * ms}, {Loss: 0.1, BurstTime: 2 * time.Second}} {
		for _, every := range []time.Duration{5 * ms, 80 * ms, time.Second} {
			const n = 300_000
			line := NewLine(Course{Conditions: q}, random.Stream(7, "bursts"))
			lost, both, before := 0, 0, false
			for i := range n {
				dropped := line.Send(time.Duration(i)*every, 100).Dropped != Delivered
				if dropped {
					lost++
					if before {
						both++
					}
				}
				before = dropped
			}
			again := q.Loss + (1-q.Loss)*math.Exp(-every.Seconds()/(q.BurstTime.Seconds()*(1-q.Loss)))
			together := max(1, q.BurstTime.Seconds()/every.Seconds()) // losses that count as one
			assert.InDelta(t, q.Loss, float64(lost)/n, 5*math.Sqrt(2*together*q.Loss/n), "%+v every %v", q, every)
			assert.InDelta(t, again, float64(both)/float64(lost), 5*math.Sqrt(again*(1-again)/float64(lost))+1e-9, "%+v every %v", q, every)
		}
	}
}

// A client that waits longer before each of its tries gets through a burst in time, where one of packets
// would hold it for as many tries as a burst has.
func TestABackoffOutlastsABurstInTime(t *testing.T) {
	longest := func(q Conditions) (tries int) {
		for seed := range uint64(3000) {
			line := NewLine(Course{Conditions: q}, random.Stream(seed, "tries"))
			at, wait, n := time.Duration(0), 250*ms, 1
			for ; line.Send(at, 50).Dropped != Delivered; n++ {
				at += wait
				wait *= 2
			}
			tries = max(tries, n)
		}
		return tries
	}
	assert.Greater(t, longest(Conditions{Loss: 0.15, Burst: 5}), 12)
	assert.Less(t, longest(Conditions{Loss: 0.15, BurstTime: 200 * ms}), 9)
}

// Kolmogorov-Smirnov against the truncated normal distribution, at the 0.1%
// level (Massey 1951: 1.95/sqrt(n)).
func TestDelaysFollowATruncatedNormal(t *testing.T) {
	for _, q := range []Conditions{{Latency: 80 * ms, Jitter: 25 * ms, Reorder: true}, {Latency: 10 * ms, Jitter: 20 * ms, Reorder: true}} {
		const n = 20_000
		normal := func(z float64) float64 { return 0.5 * math.Erfc(-z/math.Sqrt2) }
		below := normal(-float64(q.Latency) / float64(q.Jitter))
		counts := make([]int, 2000)
		for _, outcome := range send(q, 5, n) {
			counts[min(int((outcome.Arrives[0]-outcome.Sent)/ms), len(counts)-1)]++
		}
		seen, worst := 0, 0.0
		for i, c := range counts {
			seen += c
			z := (float64(i+1)*float64(ms) - float64(q.Latency)) / float64(q.Jitter)
			want := (normal(z) - below) / (1 - below)
			worst = max(worst, math.Abs(want-float64(seen)/n))
		}
		assert.Less(t, worst, 1.95/math.Sqrt(n), "%+v", q)
	}
}

func TestDuplicatesComeAsOftenAsAsked(t *testing.T) {
	twice := 0
	for _, outcome := range send(Conditions{Duplicate: 0.1, Latency: 20 * ms, Jitter: 5 * ms, Reorder: true}, 2, 50_000) {
		if outcome.Copies == 2 {
			twice++
			require.GreaterOrEqual(t, outcome.Arrives[1], outcome.Arrives[0])
		}
	}
	assert.InDelta(t, 0.1, float64(twice)/50_000, 0.007)
}

func anyQuality(t *rapid.T) Conditions {
	return Conditions{
		Latency:   time.Duration(rapid.IntRange(0, 500).Draw(t, "latency")) * ms,
		Jitter:    time.Duration(rapid.IntRange(0, 100).Draw(t, "jitter")) * ms,
		Loss:      float64(rapid.IntRange(0, 50).Draw(t, "loss")) / 100,
		Burst:     float64(rapid.SampledFrom([]int{0, 1, 3, 8}).Draw(t, "burst")),
		Duplicate: float64(rapid.IntRange(0, 20).Draw(t, "duplicate")) / 100,
		Reorder:   rapid.Bool().Draw(t, "reorder"),
	}
}

func TestPropertiesOfAnyLine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		q := anyQuality(t)
		require.NoError(t, q.Validate())
		outcomes := send(q, rapid.Uint64().Draw(t, "seed"), 200)
		latest := time.Duration(0)
		for i, outcome := range outcomes {
			require.Equal(t, uint64(i+1), outcome.Number)
			for _, at := range outcome.Arrives[:outcome.Copies] {
				require.GreaterOrEqual(t, at, outcome.Sent, "arrived before it was sent")
				if !q.Reorder {
					require.GreaterOrEqual(t, at, latest, "overtook an earlier packet")
				}
				latest = max(latest, at)
			}
		}
	})
}

// A counter-example needs the rest of the world unchanged: making a line worse
// at losing must not change the delays of the packets that still arrive.
func TestLossDoesNotChangeTheDelaysOfOthers(t *testing.T) {
	clean := send(Conditions{Latency: 80 * ms, Jitter: 10 * ms, Reorder: true}, 9, 2000)
	lossy := send(Conditions{Latency: 80 * ms, Jitter: 10 * ms, Reorder: true, Loss: 0.2}, 9, 2000)
	for i := range clean {
		if lossy[i].Copies > 0 {
			require.Equal(t, clean[i].Arrives[0], lossy[i].Arrives[0])
		}
	}
}

func TestImpossibleQualitiesAreRefused(t *testing.T) {
	for _, c := range []struct {
		quality Conditions
		message string
	}{
		{Conditions{Latency: -ms}, "latency: -1ms is negative; write 0 or more"},
		{Conditions{Jitter: -ms}, "jitter: -1ms is negative; write 0 or more"},
		{Conditions{Loss: 1.2}, "loss: 1.2 is not a share from 0 to 1"},
		{Conditions{Loss: math.NaN()}, "loss: NaN is not a share from 0 to 1"},
		{Conditions{Duplicate: -1}, "duplicate: -1 is not a share from 0 to 1"},
		{Conditions{Loss: 0.1, Burst: 3, BurstTime: 100 * ms}, "burst and burst-time: write how many packets are lost in a row, or for how long, and not both"},
		{Conditions{Loss: 0.1, Burst: 0.5}, "burst: a mean burst of 0.5 packets is not possible; write 1 or more"},
		{Conditions{Loss: 0.8, Burst: 2}, "loss: 80% cannot come in bursts of 2 packets on average; at most 66.67% can, or write a longer burst"},
	} {
		assert.EqualError(t, c.quality.Validate(), c.message)
	}
	assert.NoError(t, Conditions{Loss: 1, Burst: 4}.Validate(), "a dead line")
}

func BenchmarkSend(b *testing.B) {
	for name, q := range map[string]Conditions{
		"perfect":  {},
		"latency":  {Latency: 80 * ms},
		"all":      {Latency: 80 * ms, Jitter: 25 * ms, Loss: 0.04, Burst: 3, Duplicate: 0.01},
		"lossOnly": {Loss: 0.04},
	} {
		b.Run(name, func(b *testing.B) {
			line := NewLine(Course{Conditions: q}, random.Stream(1, "link/fern/down"))
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				line.Send(time.Duration(i), 300)
			}
		})
	}
}
