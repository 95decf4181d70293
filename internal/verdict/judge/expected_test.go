package judge

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/verdict/rulebook"
)

func exactly(n int) rulebook.Often { return rulebook.Often{Min: n, Max: n, Capped: true} }

// notices is a match of three players in which each tells every one of the others and itself a notice, but
// for what skip says.
func notices(rule rulebook.EventRule, times func(by, in string) int) *match {
	m := newMatch()
	players := []string{"fern", "moss", "oak"}
	m.views = append([]string{"server"}, players...)
	m.more.Events = []rulebook.EventRule{rule}
	for i, name := range players {
		m.say(0, 0, fmt.Sprintf(`"joined":"%s","entity":"dog/%[1]s"`, name))
		m.say(i+1, 0, fmt.Sprintf(`"joined":"%s","entity":"dog/%[1]s"`, name))
	}
	m.every(0, 0, 20, 0.1, func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1}}` })
	for i := range players {
		m.every(i+1, 0.02, 20, 0.1, func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1}}` })
	}
	for k, by := range players {
		at := 2 + float64(k)*2
		m.say(0, at, fmt.Sprintf(`"event":"notice","id":"%d","by":"%s"`, k, by))
		for i, in := range players {
			for range times(by, in) {
				m.say(i+1, at+0.1, fmt.Sprintf(`"event":"notice","id":"%d","by":"%s"`, k, by))
			}
		}
	}
	return m
}

func whys(v *Verdict) (list []string) {
	for _, f := range v.Findings {
		list = append(list, f.View+" "+string(f.Kind)+": "+f.Why)
	}
	return list
}

func TestHowOftenIsCountedOfEachPlayerInEachView(t *testing.T) {
	once := func(string, string) int { return 1 }
	rule := rulebook.EventRule{Event: "notice", SeenBy: rulebook.Nobody, Told: exactly(3), PerSender: exactly(1), PerPlayer: exactly(3), PerPair: exactly(1)}
	for _, c := range []struct {
		name  string
		times func(by, in string) int
		want  []string
	}{
		{"every player hears of each once", once, nil},
		{"one hears of its own notice twice and of another's never", func(by, in string) int {
			return map[string]int{"mossmoss": 2, "fernmoss": 0}[by+in] + map[bool]int{true: 1}[in != "moss" || by == "oak"]
		}, []string{"moss count: notice came 0 times by fern, 2 times by moss in moss (expected: exactly 1 of each)"}},
		{"all hear everything twice", func(string, string) int { return 2 }, []string{
			"fern count: notice came 6 times in fern (expected: exactly 3)", "fern count: notice came 2 times by fern, 2 times by moss, 2 times by oak in fern (expected: exactly 1 of each)",
			"moss count: notice came 6 times in moss (expected: exactly 3)", "moss count: notice came 2 times by fern, 2 times by moss, 2 times by oak in moss (expected: exactly 1 of each)",
			"oak count: notice came 6 times in oak (expected: exactly 3)", "oak count: notice came 2 times by fern, 2 times by moss, 2 times by oak in oak (expected: exactly 1 of each)"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := notices(rule, c.times).judge()
			assert.Equal(t, c.want, whys(d))
			require.Len(t, d.Counts, 1)
			assert.Equal(t, []SenderCount{{"fern", 1}, {"moss", 1}, {"oak", 1}}, d.Counts[0].Senders)
			assert.Equal(t, []int{c.times("fern", "moss"), c.times("moss", "moss"), c.times("oak", "moss")}, d.Counts[0].Views[1].Of)
			assert.LessOrEqual(t, len(d.Incidents), 1)
		})
	}
}

func TestCheckpointsAreCountedLikeEvents(t *testing.T) {
	m := notices(rulebook.EventRule{Checkpoint: "respawn*", PerPlayer: rulebook.Often{Min: 1}, Told: rulebook.Often{Max: 1, Capped: true}}, func(string, string) int { return 0 })
	for _, view := range []int{0, 0, 1, 3} {
		m.say(view, 5, `"checkpoint":"respawned","by":"oak"`)
	}
	assert.Equal(t, []string{"moss count: respawn* came 0 times in moss (expected: at least 1)", "server count: respawn* was told 2 times in the match (allowed: at most 1)"}, whys(m.judge()))
}

func TestWhatMustComeBeforeAnEvent(t *testing.T) {
	m := notices(rulebook.EventRule{Event: "notice", SeenBy: rulebook.Nobody, NotBefore: "board-ready"}, func(string, string) int { return 1 })
	m.say(1, 1, `"checkpoint":"board-ready"`)
	m.say(2, 3, `"checkpoint":"board-ready"`)
	assert.Equal(t, []string{"moss event-misordered: notice came before any board-ready since it joined",
		"oak event-misordered: notice came before any board-ready since it joined; 3 such in a row"}, whys(m.judge()))
}

// What is told to one who has only just joined is not expected there, and said not to be; what is
// addressed to it alone is.
func TestGraceIsTold(t *testing.T) {
	m := newMatch()
	m.views = m.views[:2]
	m.more.Events = []rulebook.EventRule{{Event: "notice", MaxDelay: 300 * ms, MinDuration: 300 * ms, Grace: time.Second}, {Event: "welcome", SeenBy: rulebook.OwnerOnly, MaxDelay: 300 * ms, MinDuration: 300 * ms, Grace: time.Second}}
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.every(0, 0, 10, 0.1, func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1}}` })
	m.every(1, 0.02, 10, 0.1, func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1}}` })
	m.say(0, 0.3, `"event":"notice","id":"1"`)
	m.say(0, 0.5, `"event":"notice","id":"2"`)
	m.say(0, 0.6, `"event":"welcome","id":"3","to":"fern"`)
	d := m.judge()
	assert.Equal(t, []string{"fern event-lost: welcome 3 never came"}, whys(d))
	assert.Equal(t, 2, d.Events[0].Views[0].Graced)
}

// A view that has shown the whole world is in it: what it loses from then on is lost, however
// shortly it has been there.
func TestGraceEndsWithAWholePicture(t *testing.T) {
	for _, c := range []struct {
		name, picture string
		lost          []string
	}{
		{"all that the server has", `"full":true,"state":{"dog/fern":{"x":1,"y":1},"dog/oak":{"x":2,"y":1}}`, []string{"fern event-lost: notice 2 never came"}},
		{"only its own", `"full":true,"state":{"dog/fern":{"x":1,"y":1}}`, nil},
		{"changes alone", `"state":{"dog/fern":{"x":1,"y":1},"dog/oak":{"x":2,"y":1}}`, nil},
	} {
		m := newMatch()
		m.views = m.views[:2]
		m.more.Events = []rulebook.EventRule{{Event: "notice", MaxDelay: 300 * ms, MinDuration: 300 * ms, Grace: time.Second}}
		both := func(float64) string { return `"state":{"dog/fern":{"x":1,"y":1},"dog/oak":{"x":2,"y":1}}` }
		m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
		m.every(0, 0, 10, 0.1, both)
		m.say(1, 0.22, c.picture)
		m.every(1, 2.02, 10, 0.1, both)
		m.say(0, 0.1, `"event":"notice","id":"1"`)
		m.say(0, 0.5, `"event":"notice","id":"2"`)
		m.say(0, 0.6, `"event":"notice","id":"3"`)
		m.say(1, 0.7, `"event":"notice","id":"3"`)
		d := m.judge()
		var lost []string
		for _, why := range whys(d) {
			if strings.Contains(why, "notice") {
				lost = append(lost, why)
			}
		}
		assert.Equal(t, c.lost, lost, c.name)
		cell := d.Events[0].Views[0]
		assert.Equal(t, 3, cell.Graced+cell.Expected, c.name)
		assert.Equal(t, cell.Expected, cell.Seen+cell.Lost, c.name)
	}
}

func TestDataOfEventsDifferByAsMuchAsTheyMay(t *testing.T) {
	rule := rulebook.DataRule{"*": 0.01, "x": 0.1}
	for _, c := range []struct {
		name, a, b string
		rule       rulebook.DataRule
		want       bool
	}{
		{"a place within its tolerance", `{"x":10.0,"y":3}`, `{"x":10.04,"y":3}`, rule, true},
		{"a place beyond it", `{"x":10.0,"y":3}`, `{"x":10.0,"y":3.04}`, rule, false},
		{"the same number in other digits", `{"x":10.0}`, `{"x":10}`, rule, true},
		{"keys in another order", `{"x":1,"y":2}`, `{"y":2,"x":1}`, rule, true},
		{"a key more", `{"x":1}`, `{"x":1,"y":2}`, rule, false},
		{"deeper", `{"at":[{"x":1}]}`, `{"at":[{"x":1.05}]}`, rule, true},
		{"a list of another length", `[1,2]`, `[1]`, rule, false},
		{"a number and a text", `{"x":1}`, `{"x":"1"}`, rule, false},
		{"no JSON", `x`, `y`, rule, false},
		{"no rule", `{"x":10.0}`, `{"x":10}`, nil, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, c.rule.Same(c.a, c.b))
			assert.Equal(t, c.want, c.rule.Same(c.b, c.a))
		})
	}
}

// snatches is a match in which each snatch costs fern 25 of its stamina, on the server and in its
// own view as change says.
func snatches(change func(view int) float64, at ...float64) *match {
	m, last := newMatch(), 5+at[len(at)-1]
	if at[0] > 10 {
		last = 20
	}
	m.views = m.views[:2]
	m.rules = rules[8:] // numbers need not be compared
	m.more.Effects = []rulebook.EffectRule{{Event: "snatched", Whose: "by", Field: "stamina", Change: -25, Tolerance: 1, Within: 400 * ms}}
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for view := range 2 {
		late := 0.15 * float64(view)
		m.every(view, 0, last, 0.1, func(s float64) string {
			stamina := 1000.0
			for _, a := range at {
				if s >= a+late {
					stamina += change(view)
				}
			}
			return fmt.Sprintf(`"state":{"dog/fern":{"stamina":%f}}`, stamina)
		})
		for i, a := range at {
			m.say(view, a+0.13*float64(view), fmt.Sprintf(`"event":"snatched","by":"fern","id":"%d"`, i))
		}
	}
	return m
}

func TestWhatMustFollowFromAnEvent(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(view int) float64
		at     []float64
		want   []string
	}{
		{"it costs what it must", func(int) float64 { return -25 }, []float64{3, 7}, nil},
		{"several close together", func(int) float64 { return -25 }, []float64{3, 3.2, 3.9, 4.4}, nil},
		{"doubled on both sides, which agree", func(int) float64 { return -50 }, []float64{3}, []string{
			"fern wrong-effect: stamina of dog/fern went from 1000 to 950 at snatched, and must change by -25: 2 times of it",
			"server wrong-effect: stamina of dog/fern went from 1000 to 950 at snatched, and must change by -25: 2 times of it"}},
		{"half in the view", func(view int) float64 { return []float64{-25, -12.5}[view] }, []float64{3}, []string{
			"fern wrong-effect: stamina of dog/fern went from 1000 to 987.5 at snatched, and must change by -25: half of it"}},
		{"never on the server", func(view int) float64 { return []float64{0, -25}[view] }, []float64{3}, []string{
			"server wrong-effect: stamina of dog/fern went from 1000 to 1000 at snatched, and must change by -25: it did not change"}},
		{"what is just happening at the end is not asked of", func(int) float64 { return 0 }, []float64{19.8}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := snatches(c.change, c.at...).judge()
			assert.ElementsMatch(t, c.want, whys(d))
			assert.LessOrEqual(t, len(d.Incidents), 1)
		})
	}
}

// Whatever moments events come at, what costs as much as it must is never flagged, and what costs twice
// as much always is.
func TestEffectsOfAnyMoments(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var at []float64
		for s := 1.0; s < 5; {
			s += rapid.Float64Range(0.01, 3).Draw(t, "pause")
			at = append(at, s)
		}
		assert.Empty(t, snatches(func(int) float64 { return -25 }, at...).judge().Findings)
		assert.NotEmpty(t, snatches(func(int) float64 { return -50 }, at...).judge().Findings)
	})
}
