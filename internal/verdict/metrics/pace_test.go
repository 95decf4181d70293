package metrics

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

func TestThePaceOfTicks(t *testing.T) {
	for _, row := range []struct {
		name      string
		tell      func(say func(at float64, text string))
		ticks     int64
		perSecond float64
		interval  float64 // p95
		pause     float64
		starves   bool // of 20 a second
	}{
		{"20 a second", func(say func(at float64, text string)) {
			for n := range 201 {
				say(float64(n)/20, tickAt(n))
			}
		}, 200, 20, 50, 50, false},
		{"ticks at which nothing has changed", func(say func(at float64, text string)) {
			for n := range 201 {
				if n%40 == 0 {
					say(float64(n)/20, tickAt(n))
				} else {
					say(float64(n)/20, fmt.Sprintf(`"tick":%d`, n))
				}
			}
		}, 200, 20, 50, 50, false},
		{"events at their ticks", func(say func(at float64, text string)) {
			for n := 0; n <= 200; n += 4 {
				say(float64(n)/20, tickAt(n))
				say(float64(n)/20+0.01, fmt.Sprintf(`"tick":%d,"event":"bell"`, n+2))
			}
		}, 200, 20, 50, 200, false},
		{"every third of 20 a second", func(say func(at float64, text string)) {
			for n := 0; n <= 201; n += 3 {
				say(float64(n)/20, tickAt(n))
			}
		}, 201, 20, 50, 150, false},
		{"told again, as by a view that rolls back", func(say func(at float64, text string)) {
			for n := range 201 {
				for again := max(0, n-3); again <= n; again++ {
					say(float64(n)/20, tickAt(again))
				}
			}
		}, 200, 20, 50, 50, false},
		{"crawling at 2 a second", func(say func(at float64, text string)) {
			for n := range 21 {
				say(float64(n)/2, tickAt(n))
			}
		}, 20, 2, 500, 500, true},
		{"one stall of two seconds", func(say func(at float64, text string)) {
			for n := range 101 {
				say(float64(n)/20, tickAt(n))
			}
			for n := range 100 {
				say(7+float64(n)/20, tickAt(101+n))
			}
		}, 200, 200 / 11.95, 50, 2000, true},
		{"none any more", func(say func(at float64, text string)) {
			for n := range 101 {
				say(float64(n)/20, tickAt(n))
			}
			say(10, `"event":"bell"`)
		}, 100, 10, 50, 5000, true},
		{"out of the match for a while", func(say func(at float64, text string)) {
			for n := range 101 {
				say(float64(n)/20, tickAt(n))
			}
			say(5, `"left":"fern"`)
			say(8, `"joined":"fern"`)
			for n := range 101 {
				say(8+float64(n)/20, tickAt(160+n))
			}
		}, 200, 20, 50, 50, false},
	} {
		t.Run(row.name, func(t *testing.T) {
			d := newDesk()
			d.say(1, 0, `"joined":"fern"`)
			row.tell(func(at float64, text string) { d.say(1, at, text) })
			m := d.c.Finish(nil)
			v := m.Views[0].Pace
			require.NotNil(t, v)
			assert.Equal(t, row.ticks, v.Ticks)
			assert.InDelta(t, row.perSecond, v.PerSecond, 0.05)
			assert.InDelta(t, row.interval, v.Interval.P95, 0.1)
			assert.InDelta(t, row.pause, v.Pause, 0.1)
			assert.Equal(t, row.starves, len(m.Starving(20)) > 0)
		})
	}
}

// A pace that nobody tells is not one that is kept.
func TestAPaceThatNobodyTellsIsNotMeasured(t *testing.T) {
	wanted := rulebook.Rules{TickRate: 20, Limits: []rulebook.Limit{{Measure: "tick-pause-ms", Max: 100}}}
	d := newDesk()
	d.say(1, 0, `"joined":"fern"`)
	d.say(1, 1, `"state":{"dog/1":{"x":1}}`)
	assert.Equal(t, []string{"tick-pause-ms", "ticks-per-second"}, d.c.Finish(nil).Unmeasured(wanted))
	d.say(1, 1.1, tickAt(2))
	d.say(1, 1.2, tickAt(3))
	assert.Empty(t, d.c.Finish(nil).Unmeasured(wanted))
}

func tickAt(n int) string { return fmt.Sprintf(`"tick":%d,"state":{"dog/1":{"x":%d}}`, n, n) }
