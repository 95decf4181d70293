package judge

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// anyPath is a path with corners at odd times.
func anyPath(t *rapid.T, compare rulebook.Compare) *path {
	p := &path{compare: compare, circle: 360}
	now := time.Duration(0)
	for range rapid.IntRange(1, 30).Draw(t, "corners") {
		now += time.Duration(rapid.Int64Range(1, 200).Draw(t, "step")) * ms
		var v point
		switch compare {
		case rulebook.Exact:
			v = point{float64(rapid.IntRange(0, 3).Draw(t, "value")), 1}
		case rulebook.Angle:
			v = point{rapid.Float64Range(0, 360).Draw(t, "angle")}
		default:
			v = point{rapid.Float64Range(-5, 5).Draw(t, "x"), rapid.Float64Range(-5, 5).Draw(t, "y")}
		}
		since := now
		if rapid.Bool().Draw(t, "stood") {
			since = now - time.Duration(rapid.Int64Range(0, 50).Draw(t, "since"))*ms
		}
		p.add(now, since, v)
	}
	return p
}

// sampled looks at every millisecond of [low, high]: when the path was last
// within tolerance, and how near it came.
func (p *path) sampled(v point, within float64, low, high time.Duration) (latest time.Duration, found bool, gap float64) {
	gap = math.Inf(1)
	for at := low; at <= high; at += ms {
		here := p.at(at)
		d := 0.0
		if p.compare == rulebook.Exact {
			if here != v {
				d = 1
			}
		} else {
			off := p.minus(here, v)
			d = math.Sqrt(dot(off, off))
		}
		gap = min(gap, d)
		if d <= within {
			latest, found = at, true
		}
	}
	return latest, found, gap
}

// The exact answers agree with what looking at every millisecond finds.
func TestAPathIsSearchedExactly(t *testing.T) {
	for _, compare := range []rulebook.Compare{rulebook.Exact, rulebook.Distance, rulebook.Angle} {
		rapid.Check(t, func(t *rapid.T) {
			p := anyPath(t, compare)
			first, last := p.corners[0].t, p.corners[len(p.corners)-1].t
			low := first + time.Duration(rapid.Int64Range(0, 1500).Draw(t, "low"))*ms
			high := low + time.Duration(rapid.Int64Range(0, 1500).Draw(t, "length"))*ms
			low, high = min(low, last), min(high, last+300*ms)
			v := p.corners[rapid.IntRange(0, len(p.corners)-1).Draw(t, "near")].v
			within := 0.0
			if compare != rulebook.Exact {
				v[0] += rapid.Float64Range(-1, 1).Draw(t, "off")
				within = 0.8
			}
			latest, ok := p.latest(v, within, low, high)
			seen, found, gap := p.sampled(v, max(0, within-1e-6), low, high)
			if found {
				require.True(t, ok)
				require.GreaterOrEqual(t, latest, seen-time.Microsecond)
				require.LessOrEqual(t, latest, high)
			}
			if ok {
				require.GreaterOrEqual(t, latest, low)
			}
			require.LessOrEqual(t, p.gap(v, low, high), gap+1e-9)
		})
	}
}

func TestAngleGoesTheShortWay(t *testing.T) {
	p := &path{compare: rulebook.Angle, circle: 360}
	p.add(0, 0, point{350})
	p.add(100*ms, 0, point{10})
	assert.InDelta(t, 0, math.Remainder(p.at(50 * ms)[0], 360), 1e-9, "across north")
	_, ok := p.latest(point{180}, 5, 0, 100*ms)
	assert.False(t, ok)
}

func TestAValueThatStoodMovesOnlyAtTheEnd(t *testing.T) {
	p := &path{compare: rulebook.Distance}
	p.add(0, 0, point{0})
	p.add(10*time.Second, 9950*ms, point{5}) // said nothing for long: it stood
	assert.Equal(t, point{0}, p.at(9*time.Second))
	assert.InDelta(t, 2.5, p.at(9975 * ms)[0], 1e-9)
}

func TestForgettingKeepsTheAnswers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &path{compare: rulebook.Distance}
		for i := range 300 {
			p.add(time.Duration(i)*50*ms, time.Duration(i)*50*ms, point{rapid.Float64Range(-5, 5).Draw(t, "x")})
		}
		from := time.Duration(rapid.Int64Range(0, 14000).Draw(t, "from")) * ms
		v := point{rapid.Float64Range(-5, 5).Draw(t, "v")}
		before, ok := p.latest(v, 0.2, from, 15*time.Second)
		gap := p.gap(v, from, 15*time.Second)
		p.forget(from)
		after, still := p.latest(v, 0.2, from, 15*time.Second)
		require.Equal(t, ok, still)
		require.Equal(t, before, after)
		require.Equal(t, gap, p.gap(v, from, 15*time.Second))
	})
}

// What had been heard, held against a plain list of packets.
func TestHearingAgreesWithAPlainList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		type packet struct{ sent, at time.Duration }
		h, now := hearing{known: true}, time.Duration(0)
		var list []packet
		for range rapid.IntRange(0, 50).Draw(t, "packets") {
			now += time.Duration(rapid.Int64Range(0, 80).Draw(t, "pause")) * ms
			p := packet{now, now + time.Duration(rapid.Int64Range(0, 300).Draw(t, "delay"))*ms}
			list = append(list, p)
			h.arrives(p.sent, p.at)
		}
		at := time.Duration(rapid.Int64Range(0, 4000).Draw(t, "at")) * ms
		newest, first := -never, never
		for _, p := range list {
			if p.at <= at {
				newest = max(newest, p.sent)
			}
			if p.sent >= at {
				first = min(first, max(at, p.at))
			}
		}
		require.Equal(t, newest, h.newest(at))
		require.Equal(t, first, h.firstSince(at))
		h.forget(at)
		require.Equal(t, newest, h.newest(at))
	})
	var unknown hearing
	assert.Equal(t, 5*time.Second, unknown.newest(5*time.Second), "without outcomes everything is known at once")
	assert.Equal(t, 5*time.Second, unknown.firstSince(5*time.Second))
}

func TestRecordsWaitInOrderAndDeedsAmongThem(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var q queue
		done := 0
		var times []time.Duration
		for range rapid.IntRange(0, 40).Draw(t, "entries") {
			at := time.Duration(rapid.Int64Range(0, 20).Draw(t, "at")) * ms
			times = append(times, at)
			if rapid.Bool().Draw(t, "deed") {
				q.when(at, func() { done++ })
			} else {
				q.push(rapid.IntRange(0, 3).Draw(t, "view"), &trace.Record{T: at})
			}
		}
		last, lastView, records := time.Duration(-1), 0, 0
		for {
			at, ok := q.peek()
			if !ok {
				break
			}
			require.GreaterOrEqual(t, at, last)
			view, r := q.pop()
			if r != nil {
				require.Equal(t, at, r.T)
				if at == last {
					require.GreaterOrEqual(t, view, lastView)
				}
				records, lastView = records+1, view
			} else {
				lastView = 0
			}
			last = at
		}
		require.Equal(t, len(times), records+done)
	})
}

// A value just at the edge of the tolerance, where rounding makes the square too large and its root not: it is
// explained by the end of the stretch, and not by the beginning of all time.
func TestAValueAtTheEdgeIsExplainedThere(t *testing.T) {
	p := newPath(&rulebook.Rule{Compare: rulebook.Angle, Circle: 360}, nil)
	for _, c := range []struct {
		t time.Duration
		v float64
	}{{2889999999, 115.5999999999993}, {3059999999, 106.39999999999915}, {3229999999, 113.19999999999901}} {
		p.add(c.t, 0, point{c.v})
	}
	const edge = time.Duration(3099999999)
	moment, ok := p.latest(point{111.99999999999912}, 4, edge-100*ms, edge)
	assert.True(t, ok)
	assert.Equal(t, edge, moment)
}
