package relay

import (
	"math/bits"
	"time"
)

// Timing is a histogram of how late things were: of durations from a microsecond
// to minutes, each known to within an eighth. The zero value is empty.
type Timing struct {
	counts [timingBuckets]uint32
	count  int
	most   time.Duration
}

const timingBuckets = 256

// Add puts in a duration; one below zero counts as zero.
func (t *Timing) Add(d time.Duration) {
	d = max(d, 0)
	t.counts[bucketOf(d)]++
	t.count++
	t.most = max(t.most, d)
}

// bucketOf numbers the microseconds: one by one up to 8, then eight to an octave.
func bucketOf(d time.Duration) int {
	us := uint64(d / time.Microsecond)
	if us < 8 {
		return int(us)
	}
	octave := bits.Len64(us) - 4 // 8..15 is octave 0
	return min(8+octave*8+int(us>>octave)-8, timingBuckets-1)
}

// floorOf is the least duration of a bucket.
func floorOf(bucket int) time.Duration {
	if bucket < 8 {
		return time.Duration(bucket) * time.Microsecond
	}
	octave := (bucket - 8) / 8
	return time.Duration(uint64(8+(bucket-8)%8)<<octave) * time.Microsecond
}

// Count is how many were put in.
func (t *Timing) Count() int { return t.count }

// Most is the longest.
func (t *Timing) Most() time.Duration { return t.most }

// Quantile is the duration that the share q of all do not exceed, rounded down to
// its bucket; 0 if there are none.
func (t *Timing) Quantile(q float64) time.Duration {
	if q >= 1 || t.count == 0 {
		return t.most
	}
	rank, seen := int(q*float64(t.count-1)), 0
	for bucket, n := range t.counts {
		if seen += int(n); seen > rank {
			return min(floorOf(bucket), t.most)
		}
	}
	return t.most
}

// Bars are the histogram in coarse steps: how many lay below each of the limits,
// and above the one before; the last bar is what lay above all.
func (t *Timing) Bars(limits []time.Duration) []int {
	bars := make([]int, len(limits)+1)
	for bucket, n := range t.counts {
		i := 0
		for i < len(limits) && floorOf(bucket) >= limits[i] {
			i++
		}
		bars[i] += int(n)
	}
	return bars
}
