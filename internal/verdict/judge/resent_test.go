package judge

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

// gate is a match of 20 s in which a gate opens at 5 s and fern shows it from shown on, over a link on which packets of those
// numbers, one every 50 ms, are lost, each as large as given says.
func gate(shown float64, lost map[int]int, within float64) *match {
	m := newMatch()
	m.outcomes, m.views = true, []string{"server", "fern"}
	m.rules = []rulebook.Rule{{Entities: "gate/*", Fields: []string{"open"}, MaxDelay: 200 * ms, MinDuration: 300 * ms, ResentWithin: seconds(within)}}
	m.more.Events = []rulebook.EventRule{{Event: "creak", MaxDelay: 200 * ms, MinDuration: 300 * ms, ResentWithin: seconds(within)}}
	m.every(0, 0, 20, 0.05, func(t float64) string { return fmt.Sprintf(`"state":{"gate/g":{"open":%v}}`, t >= 4.999) })
	m.every(1, 0.5, 20, 0.05, func(t float64) string { return fmt.Sprintf(`"state":{"gate/g":{"open":%v}}`, t >= shown) })
	m.say(0, 5, `"event":"creak","id":"c1"`)
	m.say(1, shown, `"event":"creak","id":"c1"`)
	for i := range 400 {
		at := float64(i) * 0.05
		size, drop := lost[i]
		if !drop {
			size = 90
		}
		arrives := at + 0.06
		if drop {
			arrives = 0
		}
		m.packet(uint64(i+1), at, arrives)
		m.lines[len(m.lines)-1].down.Size = size
	}
	return m
}

func seconds(s float64) time.Duration { return time.Duration(s * 1e9) }

func TestWhatIsSentAgainIsExcusedWhereAPacketWasLost(t *testing.T) {
	for _, c := range []struct {
		what   string
		shown  float64
		lost   map[int]int // by number: packet 100 is sent at 5 s
		within float64
		found  []Kind
	}{
		{"at once", 5.1, nil, 1.3, nil},
		{"1.2 s late, and its packet was lost", 6.2, map[int]int{100: 70}, 1.3, nil},
		{"likewise, but nothing is said of sending again", 6.2, map[int]int{100: 70}, 0, []Kind{EventLate, Late}},
		{"1.2 s late, and nothing was lost", 6.2, nil, 1.3, []Kind{EventLate, Late}},
		{"1.2 s late, and something was lost long before", 6.2, map[int]int{20: 70}, 1.3, []Kind{EventLate, Late}},
		{"2.4 s late, and lost twice", 7.4, map[int]int{100: 70, 123: 70}, 1.3, nil},
		{"2.4 s late, and what was lost then was something else", 7.4, map[int]int{100: 70, 123: 40}, 1.3, []Kind{EventLate, Late}},
		{"3 s late, though it was lost", 8, map[int]int{100: 70}, 1.3, []Kind{EventLate, Frozen}},
		{"1.2 s late, because one before it was lost and order is kept", 6.1, map[int]int{97: 70}, 1.3, nil},
	} {
		t.Run(c.what, func(t *testing.T) {
			var kinds []Kind
			for _, f := range gate(c.shown, c.lost, c.within).judge().Findings {
				kinds = append(kinds, f.Kind)
			}
			slices.Sort(kinds)
			assert.Equal(t, c.found, kinds)
		})
	}
}

// Where all packets are as large and many are lost, one that was lost may always have been the one that
// was sent again. The excuse ends all the same.
func TestWhatIsSentAgainIsNotWaitedForForEver(t *testing.T) {
	lost := map[int]int{}
	for number := 100; number < 400; number += 10 {
		lost[number] = 90
	}
	var kinds []Kind
	for _, f := range gate(19, lost, 1.3).judge().Findings {
		kinds = append(kinds, f.Kind)
	}
	assert.Contains(t, kinds, Frozen)
	assert.Contains(t, kinds, EventLate)
}

// What came late when a packet was lost reads as what it may be.
func TestAKnobForWhatIsSentAgainIsTold(t *testing.T) {
	v := gate(6.2, map[int]int{100: 70}, 0).judge()
	require.NotEmpty(t, v.Incidents)
	for _, in := range v.Incidents {
		require.NotNil(t, in.Knob)
		assert.Equal(t, "resent-within", in.Knob.Name, in.Kind)
		assert.InDelta(t, 1.2, in.Knob.To, 0.2)
	}
	v = gate(6.2, nil, 0).judge()
	require.NotEmpty(t, v.Incidents)
	assert.Equal(t, "max-delay", v.Incidents[0].Knob.Name, "nothing was lost")
}
