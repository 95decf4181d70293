package judge

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

// Where the two sides do not tell the same kind of thing, that is said and not what follows from it.
func TestWhatIsNotOfOneKindIsSaid(t *testing.T) {
	score := func(t float64) int { return 10 + int(t) }
	for _, c := range []struct {
		name  string
		shows func(t float64) string // the fields of dog/a in the view
		kind  Kind
		why   string
	}{
		{"a field that is called otherwise there", func(t float64) string { return fmt.Sprintf(`"points":%d,"fur":"red"`, score(t)) },
			NoRelation, "fern tells no score of anything; of dog/a it tells fur and points"},
		{"a number in quotes", func(t float64) string { return fmt.Sprintf(`"score":"%d"`, score(t)) },
			NoRelation, `the view tells score as text, "22", and the reference as a number, 22`},
		{"a number in another unit", func(t float64) string { return fmt.Sprintf(`"score":%.2f`, float64(score(t))/100) },
			Scaled, "its numbers are the reference's times 0.01"},
		{"a number that is no multiple", func(t float64) string { return fmt.Sprintf(`"score":%d`, 3*score(t)+int(t*7)%5) },
			NoRelation, "the view shows"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules = []rulebook.Rule{{Entities: "dog/*", Fields: []string{"score"}, MaxDelay: 300 * ms, MinDuration: 500 * ms, Grace: time.Second}}
			m.every(0, 0, 12.9, 0.1, func(t float64) string { return fmt.Sprintf(`"state":{"dog/a":{"score":%d}}`, score(t)) })
			m.every(1, 0.1, 12.9, 0.1, func(t float64) string { return `"state":{"dog/a":{` + c.shows(t-0.1) + `}}` })
			d := m.judge()
			require.NotEmpty(t, d.Findings, "%v", d.Warnings)
			assert.Equal(t, c.kind, d.Findings[0].Kind, d.Findings[0].Why)
			assert.Contains(t, d.Findings[0].Why, c.why)
		})
	}
}

func TestNamesThatDifferInTheirCaseAlone(t *testing.T) {
	m := newMatch()
	m.every(0, 0, 5, 0.1, func(float64) string { return `"state":{"gate/north_side":{"open":true},"gate/s":{"open":true}}` })
	m.every(1, 0.1, 5, 0.1, func(float64) string {
		return `"state":{"gate/NorthSide":{"open":true},"gate/S":{"open":true},"leaf/1":{"x":1}}`
	})
	var said []string
	for _, w := range m.judge().Warnings {
		said = append(said, w.Text)
	}
	assert.Contains(t, said, "fern shows gate/NorthSide, and server has gate/north_side: names are compared to the letter (and 1 more of the kind)")
}

// A view that goes on telling a little longer than the reference: what was wrong as long as anybody can say is
// wrong still.
func TestWhatIsWrongUpToTheLastOfTheReferenceIsSoStill(t *testing.T) {
	m := newMatch()
	m.every(0, 0, 8, 0.05, func(t float64) string { x, y := winding(t); return position("dog/a", x, y) })
	m.every(1, 0.1, 8.05, 1.0/30, func(t float64) string {
		x, y := winding(t - 0.1)
		if t > 4 {
			y -= 3
		}
		return position("dog/a", x, y)
	})
	v := m.judge()
	require.Len(t, v.Findings, 1)
	assert.True(t, v.Findings[0].Open)
	assert.Equal(t, "still so at the end", v.Findings[0].Ended)
}

// A view in which a whole entity stands still for a while: a field that changes on the reference meanwhile is no
// field that alone was left behind, and what comes right in one go is one incident.
func TestAnEntityThatStoodStillIsOneIncident(t *testing.T) {
	m := newMatch()
	fields := func(t float64) string {
		x, y := winding(t)
		return fmt.Sprintf(`"full":true,"state":{"dog/a":{"x":%.3f,"y":%.3f,"open":%v}}`, x, y, int((t+1)/4)%2 == 1)
	}
	m.every(0, 0, 14, 0.05, fields)
	m.every(1, 0.1, 14, 0.05, func(t float64) string {
		if t > 6 && t < 10.5 {
			t = 6
		}
		return fields(t - 0.1)
	})
	v := m.judge()
	require.Len(t, v.Findings, 2, "%v", told(v))
	for _, f := range v.Findings {
		assert.NotEqual(t, NeverArrived, f.Kind, f.Why)
	}
	assert.Len(t, v.Incidents, 1)
}

func TestWhatFlickersIsTold(t *testing.T) {
	for _, c := range []struct {
		name string
		gone func(t float64) bool
		want []string
	}{
		{"again and again", func(t float64) bool { return t > 3 && int(t*4)%4 == 0 },
			[]string{"in fern, existence of gate/n was wrong 7 times, for 0.25 s on average, each too short to be a finding (min-duration 500ms)"}},
		{"twice", func(t float64) bool { return t > 3 && t < 5 && int(t*4)%4 == 0 }, nil},
		{"never", func(float64) bool { return false }, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.views = m.views[:2]
			m.every(0, 0, 9.9, 0.05, func(float64) string { return `"full":true,"state":{"gate/n":{"open":true},"gate/s":{"open":true}}` })
			m.every(1, 0.02, 9.9, 0.05, func(t float64) string {
				if c.gone(t) {
					return `"full":true,"state":{"gate/s":{"open":true}}`
				}
				return `"full":true,"state":{"gate/n":{"open":true},"gate/s":{"open":true}}`
			})
			v := m.judge()
			assert.Equal(t, InSync, v.Outcome)
			var said []string
			for _, w := range v.Warnings {
				if strings.Contains(w.Text, "too short") {
					said = append(said, w.Text)
				}
			}
			assert.Equal(t, c.want, said)
		})
	}
}

// What one side leaves out of an event is no difference, its id included; a name that is written otherwise is.
func TestEventsOfWhichOneSideTellsLess(t *testing.T) {
	for _, c := range []struct {
		name        string
		told, shown string // of the n-th
		want        []Kind
		note        string
	}{
		{"ids on both sides", `"event":"bell","id":"#","by":"moss"`, `"event":"bell","id":"#","by":"moss"`, nil, ""},
		{"no ids in the view", `"event":"bell","id":"#","by":"moss"`, `"event":"bell","by":"moss"`, nil, ""},
		{"no ids on the reference", `"event":"bell","by":"moss"`, `"event":"bell","id":"#"`, nil, ""},
		{"ids of its own in the view", `"event":"bell","id":"#"`, `"event":"bell","id":"v#"`, []Kind{EventLost, EventUnexpected}, ""},
		{"a name in capitals", `"event":"bell","id":"#"`, `"event":"BELL","id":"#"`, []Kind{EventLost}, "fern tells of BELL, and server of bell: names are compared to the letter"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.views = m.views[:2]
			m.more.Events = []rulebook.EventRule{{Event: "bell", MaxDelay: 300 * ms, MinDuration: 500 * ms}}
			m.every(0, 0, 12, 0.1, func(float64) string { return field("gate/n", "open", "true") })
			m.every(1, 0.1, 12, 0.1, func(float64) string { return field("gate/n", "open", "true") })
			for n := range 5 {
				m.say(0, 2+float64(n), strings.ReplaceAll(c.told, "#", fmt.Sprint(n)))
				m.say(1, 2.1+float64(n), strings.ReplaceAll(c.shown, "#", fmt.Sprint(n)))
			}
			v := m.judge()
			var kinds []Kind
			for _, f := range v.Findings {
				if !slices.Contains(kinds, f.Kind) {
					kinds = append(kinds, f.Kind)
				}
			}
			assert.ElementsMatch(t, c.want, kinds, "%v", told(v))
			note := ""
			for _, w := range v.Warnings {
				if strings.Contains(w.Text, "to the letter") {
					note = w.Text
				}
			}
			assert.Equal(t, c.note, note)
		})
	}
}
