package judge

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

// kindRules watch what the tests of kinds talk about.
var kindRules = append([]rulebook.Rule{
	{Entities: "mill/*", Fields: []string{"angle"}, Compare: rulebook.Angle, Circle: 360, Tolerance: 5, MaxDelay: 200 * ms, MinDuration: 500 * ms, TimeDriven: true},
	{Entities: "bell/*", Fields: []string{"wearer"}, Role: rulebook.Owner, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "round/*", Fields: []string{"winner"}, Role: rulebook.Outcome, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"score"}, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"gait"}, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "lamp/*", Fields: []string{"on"}, MaxDelay: 100 * ms, MinDuration: 300 * ms, TimeDriven: true},
	{Entities: "lamp/*", Fields: []string{"lit"}, MaxDelay: 300 * ms, MinDuration: 500 * ms, EveryValue: true},
}, rules...)

func field(entity, name, value string) string {
	return fmt.Sprintf(`"state":{"%s":{"%s":%s}}`, entity, name, value)
}

// lamp goes on and off by the clock, and in the view so much later.
func lamp(m *match, late float64) {
	on := func(s float64) string { return field("lamp/l", "on", fmt.Sprint(int(s/3)%2 == 1)) }
	m.every(0, 0, 14, 0.05, on)
	m.every(1, 1.01, 14, 0.05, func(s float64) string { return on(s - late) })
}

// path is a winding way, walked at about 3 m/s.
func winding(t float64) (x, y float64) {
	return 12*math.Sin(t/3) + 2*math.Sin(1.3*t), 9 * math.Cos(t/4)
}

func TestKindsAreToldApart(t *testing.T) {
	walk := func(m *match, entity string, until float64) {
		m.every(0, 0, until, 0.05, func(t float64) string { x, y := winding(t); return position(entity, x, y) })
	}
	for _, c := range []struct {
		name string
		play func(m *match)
		want Kind
		why  string
	}{
		{"a flag that follows every change the wrong way round", func(m *match) {
			for i, at := range []float64{0, 2, 5, 8} {
				m.say(0, at, field("gate/n", "open", fmt.Sprint(i%2 == 1)))
			}
			for i, at := range []float64{0.1, 5.1, 8.1} { // the change at 2 was lost
				m.say(1, at, field("gate/n", "open", fmt.Sprint(i%2 == 1)))
			}
			m.say(0, 12, `"checkpoint":"end"`)
		}, Inverted, "opposite"},
		{"a gait that the server changes and the view never does, while the place goes on", func(m *match) {
			walk(m, "dog/a", 8)
			m.every(1, 0.2, 8, 0.05, func(t float64) string { x, y := winding(t - 0.1); return position("dog/a", x, y) })
			for i, at := range []float64{0, 2, 4, 6} {
				m.say(0, at, field("dog/a", "gait", fmt.Sprintf(`"%s"`, [...]string{"stand", "trot", "run", "trot"}[i])))
			}
			m.say(1, 0.2, field("dog/a", "gait", `"stand"`))
		}, NeverArrived, "other fields of it go on"},
		{"a score that stood before the view came", func(m *match) {
			m.say(0, 0, field("dog/a", "score", "3"))
			m.say(1, 5, `"joined":"fern","entity":"dog/fern"`)
			m.say(1, 5, field("dog/a", "score", "0"))
			m.say(0, 9, `"checkpoint":"end"`)
		}, LeftBehind, "before the view came"},
		{"a score that the view steps over", func(m *match) {
			m.say(0, 0, field("dog/a", "score", "0"))
			m.say(0, 2, field("dog/a", "score", "1"))
			m.say(0, 5, field("dog/a", "score", "2"))
			m.say(1, 0.1, field("dog/a", "score", "0"))
			m.say(1, 5.1, field("dog/a", "score", "2"))
			m.say(0, 9, `"checkpoint":"end"`)
		}, Skipped, "went past a value"},
		{"a lamp that blinks unseen, for less than settle", func(m *match) {
			m.every(0, 0, 6, 0.05, func(t float64) string { return field("lamp/a", "lit", fmt.Sprint(t > 2 && t < 2.6)) })
			m.every(1, 0.1, 6, 0.05, func(t float64) string { return field("lamp/a", "lit", "false") })
		}, Skipped, "the reference had true for 0.6"},
		{"a score that goes back to an older one", func(m *match) {
			for i, at := range []float64{0, 2, 4} {
				m.say(0, at, field("dog/a", "score", fmt.Sprint(i)))
				m.say(1, at+0.1, field("dog/a", "score", fmt.Sprint(i)))
			}
			m.say(1, 5, field("dog/a", "score", "1"))
			m.say(1, 7, field("dog/a", "score", "0"))
			m.say(0, 9, field("dog/a", "score", "3"))
		}, OutOfOrder, "went back"},
		{"one that does so while the server goes on", func(m *match) {
			for i := range 9 {
				m.say(0, float64(i), field("dog/a", "score", fmt.Sprint(i)))
				if i < 5 {
					m.say(1, float64(i)+0.1, field("dog/a", "score", fmt.Sprint(i)))
				}
			}
			m.say(1, 5.1, field("dog/a", "score", "2"))
			m.say(1, 6.1, field("dog/a", "score", "3"))
			m.say(0, 9, `"checkpoint":"end"`)
		}, OutOfOrder, "went back"},
		{"a change that is counted again a moment later, the only one", func(m *match) {
			m.say(0, 0, field("bell/b", "score", "0"))
			m.say(1, 0.1, field("bell/b", "score", "0"))
			m.say(0, 2, field("bell/b", "score", "1"))
			m.say(1, 2.10, field("bell/b", "score", "1"))
			m.say(1, 2.15, field("bell/b", "score", "2"))
			m.say(0, 12, `"checkpoint":"end"`)
			m.say(1, 12, `"checkpoint":"end"`)
		}, Doubled, "a change of 1 was made 2 times"},
		{"a change that is counted again a moment later, each time", func(m *match) {
			m.say(0, 0, field("bell/b", "score", "0"))
			m.say(1, 0.1, field("bell/b", "score", "0"))
			for i, at := range []float64{2, 5, 7} {
				m.say(0, at, field("bell/b", "score", fmt.Sprint(i+1)))
				m.say(1, at+0.10, field("bell/b", "score", fmt.Sprint(2*i+1)))
				m.say(1, at+0.15, field("bell/b", "score", fmt.Sprint(2*i+2)))
			}
			m.say(0, 12, `"checkpoint":"end"`)
			m.say(1, 12, `"checkpoint":"end"`)
		}, Doubled, "a change of 1 was made 2 times"},
		{"a point that counts twice", func(m *match) {
			m.say(0, 0, field("dog/a", "score", "3"))
			m.say(0, 2, field("dog/a", "score", "4"))
			m.say(1, 0.1, field("dog/a", "score", "3"))
			m.say(1, 2.1, field("dog/a", "score", "5"))
			m.say(0, 9, `"checkpoint":"end"`)
		}, Doubled, "a change of 1 was made 2 times"},
		{"the bell on two dogs", func(m *match) {
			m.say(0, 0, field("bell/b", "wearer", `"moss"`))
			m.say(1, 0.1, field("bell/b", "wearer", `"moss"`))
			m.say(1, 2, field("bell/b", "wearer", `"fern"`))
			m.say(0, 6, `"checkpoint":"end"`)
		}, SplitOwner, "believes that it is the owner"},
		{"the bell that goes to moss and comes back, while fern keeps it", func(m *match) {
			walk(m, "dog/a", 9)
			m.every(1, 0.2, 9, 0.05, func(t float64) string { x, y := winding(t - 0.1); return position("dog/a", x, y) })
			for i, at := range []float64{0, 3, 6} {
				m.say(0, at, field("bell/b", "wearer", []string{`"fern"`, `"moss"`, `"fern"`}[i]))
			}
			m.say(1, 0.1, field("bell/b", "wearer", `"fern"`))
		}, SplitOwner, "believes that it is the owner"},
		{"a lamp that follows the clock, 0.7 s late", func(m *match) {
			lamp(m, 0.7)
		}, ClockShift, "s late"},
		{"a lamp that follows the clock, 0.6 s early", func(m *match) {
			lamp(m, -0.6)
		}, ClockShift, "s early"},
		{"the bell on nobody's dog", func(m *match) {
			m.say(0, 0, field("bell/b", "wearer", `""`))
			m.say(0, 2, field("bell/b", "wearer", `"fern"`))
			m.say(1, 0.1, field("bell/b", "wearer", `""`))
			m.say(0, 6, `"checkpoint":"end"`)
		}, NoOwner, "does not know"},
		{"another winner", func(m *match) {
			m.say(0, 0, field("round/r", "winner", `"moss"`))
			m.say(1, 0.1, field("round/r", "winner", `"fern"`))
			m.say(0, 6, `"checkpoint":"end"`)
		}, OutcomeDiffer, "result"},
		{"places rounded to whole metres", func(m *match) {
			m.say(0, 0, position("sheep/a", 3.42, -7.37))
			m.say(1, 0.1, position("sheep/a", 3, -7))
			m.say(0, 6, `"checkpoint":"end"`)
		}, Quantised, "multiples of 1"},
		{"a place that stays at a round number by chance", func(m *match) {
			m.every(0, 0, 6, 0.05, func(t float64) string { return position("sheep/a", 4*t+0.003, 0.007) })
			m.every(1, 0.1, 2.5, 0.05, func(t float64) string { return position("sheep/a", 4*t, 0) })
		}, Frozen, "kept the value"},
		{"places doubled", func(m *match) {
			walk(m, "sheep/a", 8)
			m.every(1, 0.5, 8, 0.05, func(t float64) string { x, y := winding(t); return position("sheep/a", 2*x, 2*y) })
		}, Scaled, "times 2"},
		{"an arm that turns half as fast", func(m *match) {
			m.every(0, 0, 9, 0.05, func(t float64) string { return field("mill/m", "angle", fmt.Sprintf("%.3f", math.Mod(90*t, 360))) })
			m.every(1, 0.5, 9, 0.05, func(t float64) string { return field("mill/m", "angle", fmt.Sprintf("%.3f", math.Mod(45*t, 360))) })
		}, Rate, "0.5 times"},
		{"an arm that is 150 ms late", func(m *match) {
			m.every(0, 0, 9, 0.05, func(t float64) string { return field("mill/m", "angle", fmt.Sprintf("%.3f", math.Mod(90*t, 360))) })
			m.every(1, 0.5, 9, 0.05, func(t float64) string {
				return field("mill/m", "angle", fmt.Sprintf("%.3f", math.Mod(90*(t-0.15), 360)))
			})
		}, ClockShift, "150 ms late"},
		{"a place that is a second late on a winding way", func(m *match) {
			walk(m, "sheep/a", 20)
			m.every(1, 2, 20, 0.05, func(t float64) string { x, y := winding(t - 1); return position("sheep/a", x, y) })
		}, Late, "ms late, 300 ms are allowed"},
		{"a dog that moves with the own one", func(m *match) {
			m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
			m.every(0, 0, 20, 0.05, func(t float64) string {
				x, y := winding(t)
				return fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":%.3f},"dog/a":{"x":30,"y":%.3f}}`, x, y, t)
			})
			m.every(1, 0.1, 20, 0.05, func(t float64) string {
				x, y := winding(t)
				return fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":%.3f},"dog/a":{"x":%.3f,"y":%.3f}}`, x, y, 30+x, t+y-9)
			})
		}, InputLeak, "own entity"},
		{"a gap that creeps up", func(m *match) {
			walk(m, "sheep/a", 12)
			m.every(1, 0.5, 12, 0.05, func(t float64) string { x, y := winding(t); return position("sheep/a", x+0.2*t, y-0.1*t) })
		}, Drift, "grows by"},
		{"a place that is simply elsewhere", func(m *match) {
			walk(m, "sheep/a", 8)
			m.every(1, 0.5, 8, 0.05, func(t float64) string { x, y := winding(t); return position("sheep/a", x+2, y-3) })
		}, Offset, "it is off by"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules, m.views = kindRules, []string{"server", "fern"}
			c.play(m)
			v := m.judge()
			require.NotEmpty(t, v.Findings)
			var kinds []Kind
			for _, f := range v.Findings {
				kinds = append(kinds, f.Kind)
				if f.Kind == c.want {
					assert.Contains(t, f.Why, c.why)
				}
			}
			assert.Contains(t, kinds, c.want)
			assert.Equal(t, c.want, v.Incidents[0].Kind, "%v", told(v))
		})
	}
}

func TestAPredictionIsExcusedUntilTheViewCouldKnow(t *testing.T) {
	// The dog is pushed by 3 m at 3 s. A packet takes 300 ms each way; the view is
	// right again when it could be, or a second later.
	play := func(right float64) *Verdict {
		m := newMatch()
		m.outcomes, m.views = true, []string{"server", "fern"}
		m.rules = []rulebook.Rule{{Entities: "dog/*", Of: rulebook.Own, Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.5, MaxDelay: 200 * ms, MaxAhead: 200 * ms, MinDuration: 400 * ms}}
		m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
		for i := range 200 {
			sent := float64(i) * 0.05
			m.packet(uint64(i+1), sent, sent+0.3)
			m.upPacket(uint64(i+1), sent, sent+0.3)
		}
		y := func(t, push float64) float64 {
			if t >= push {
				return 3
			}
			return 0
		}
		m.every(0, 0, 9, 0.05, func(t float64) string { return position("dog/fern", t, y(t, 3)) })
		m.every(1, 0.5, 9, 0.05, func(t float64) string { return position("dog/fern", t, y(t, right)) })
		return m.judge()
	}
	assert.Empty(t, play(3.4).Findings, "nobody can foresee a push")
	v := play(4.5)
	require.Len(t, v.Findings, 1)
	assert.True(t, v.Findings[0].Own)
}

func TestEventsAreMatchedAndCounted(t *testing.T) {
	m := newMatch()
	m.more.Events = []rulebook.EventRule{
		{Event: "whisper", SeenBy: rulebook.OwnerOnly, MaxDelay: 200 * ms, MinDuration: 300 * ms},
		{Event: "*", Ordered: true, MaxDelay: 200 * ms, MinDuration: 300 * ms},
	}
	for view := 1; view <= 2; view++ {
		m.say(view, 0, fmt.Sprintf(`"joined":"%s","entity":"dog/%s"`, m.views[view], m.views[view]))
	}
	for i := range 6 {
		m.say(0, 1+float64(i), fmt.Sprintf(`"event":"bark","id":"%d","entity":"dog/a"`, i))
	}
	for _, e := range []struct {
		t  float64
		id int
	}{{1.1, 0}, {2.1, 1}, {2.4, 1}, {4.1, 3}, {4.2, 2}, {6.3, 4}, {6.4, 5}} { // 1 twice, 2 after 3, 4 late
		m.say(1, e.t, fmt.Sprintf(`"event":"bark","id":"%d","entity":"dog/a"`, e.id))
	}
	for i := range 5 { // 5 is lost
		m.say(2, 1.1+float64(i), fmt.Sprintf(`"event":"bark","id":"%d"`, i))
	}
	m.say(0, 2, `"event":"whisper","to":"fern","data":{"word":"hush"}`)
	m.say(1, 2.1, `"event":"whisper"`)
	m.say(2, 2.1, `"event":"whisper"`)
	m.say(2, 3, `"event":"shout","id":"9"`)
	m.say(0, 9, `"checkpoint":"end"`)
	v := m.judge()
	var got []string
	for _, f := range v.Findings {
		if f.Kind != Missing {
			got = append(got, fmt.Sprintf("%s %s %s", f.View, f.Kind, f.Subject))
		}
	}
	assert.ElementsMatch(t, []string{
		"fern event-repeated event bark", "fern event-misordered event bark", "fern event-late event bark", "fern event-late event bark",
		"moss event-lost event bark", "moss event-unexpected event whisper", "moss event-unexpected event shout",
	}, got)
	table := map[string]EventViewCount{}
	for _, e := range v.Events {
		for _, c := range e.Views {
			table[e.Event+" "+c.View] = c
		}
	}
	assert.Equal(t, EventViewCount{View: "fern", Expected: 6, Seen: 6, Late: 2, Repeated: 1, Misordered: 1}, table["bark fern"])
	assert.Equal(t, EventViewCount{View: "moss", Expected: 6, Seen: 5, Lost: 1}, table["bark moss"])
	assert.Equal(t, EventViewCount{View: "fern", Expected: 1, Seen: 1}, table["whisper fern"])
}

func TestLawsOfTheWorld(t *testing.T) {
	place := []string{"x", "y"}
	for _, c := range []struct {
		name      string
		invariant rulebook.InvariantRule
		play      func(m *match)
		want      string
	}{
		{"there are two bells", rulebook.InvariantRule{Invariant: rulebook.One, Entities: "bell/*", MinDuration: 300 * ms}, func(m *match) {
			m.every(0, 0, 3, 0.1, func(t float64) string { return field("bell/a", "x", fmt.Sprint(t)) })
			m.every(0, 3, 5, 0.1, func(t float64) string {
				return fmt.Sprintf(`"state":{"bell/b":{"x":%v},"bell/a":{"x":%v}}`, t, t)
			})
		}, "not-one bell/* there are 2"},
		{"there is one bell, and for a moment none", rulebook.InvariantRule{Invariant: rulebook.One, Entities: "bell/*", MinDuration: 300 * ms}, func(m *match) {
			m.every(0, 0, 3, 0.1, func(t float64) string { return field("bell/a", "x", fmt.Sprint(t)) })
			m.say(0, 3, `"despawned":["bell/a"]`)
			m.every(0, 3.2, 6, 0.1, func(t float64) string { return field("bell/a", "x", fmt.Sprint(t)) })
		}, ""},
		{"a dog comes back beside its old self", rulebook.InvariantRule{Invariant: rulebook.Unique, Entities: "dog/*", Fields: []string{"player"}, MinDuration: 300 * ms}, func(m *match) {
			m.say(0, 0, field("dog/a", "player", `"ash"`))
			m.say(0, 1, field("dog/b", "player", `"bramble"`))
			m.every(0, 2, 5, 0.1, func(t float64) string { return field("dog/a-2", "player", `"ash"`) })
		}, "duplicate-entity dog/a-2 dog/a and dog/a-2 have the same player"},
		{"two start on one spot", rulebook.InvariantRule{Invariant: rulebook.Apart, Entities: "dog/*", Fields: place, Min: 2}, func(m *match) {
			m.say(0, 0, position("dog/a", 5, 5))
			m.say(0, 2, `"joined":"moss","entity":"dog/moss"`)
			m.say(0, 2, `"state":{"dog/moss":{"x":5.5,"y":5}}`)
		}, "invariant-broken dog/moss it starts 0.5 from dog/a"},
		{"two stand together when the round begins", rulebook.InvariantRule{Invariant: rulebook.Apart, Entities: "dog/*", Fields: place, Min: 2, When: "begin"}, func(m *match) {
			m.say(0, 0, position("dog/a", 5, 5))
			m.say(0, 1, position("dog/b", 6, 5))
			m.say(0, 2, position("dog/c", 16, 5))
			m.say(0, 3, `"event":"begin"`)
		}, "invariant-broken dog/b it is 1 from dog/a"},
		{"stamina below nothing", rulebook.InvariantRule{Invariant: rulebook.Range, Entities: "dog/*", Fields: []string{"stamina"}, Max: 100}, func(m *match) {
			m.every(0, 0, 4, 0.1, func(t float64) string { return field("dog/a", "stamina", fmt.Sprint(10-5*t)) })
		}, "invariant-broken dog/a the value is -0.5"},
		{"a score that falls", rulebook.InvariantRule{Invariant: rulebook.Rising, Entities: "dog/*", Fields: []string{"score"}}, func(m *match) {
			m.say(0, 0, field("dog/a", "score", "3"))
			m.say(0, 1, field("dog/a", "score", "2"))
		}, "invariant-broken dog/a the value fell from 3 to 2"},
		{"a score that begins again with its dog", rulebook.InvariantRule{Invariant: rulebook.Rising, Entities: "dog/*", Fields: []string{"score"}}, func(m *match) {
			m.say(0, 0, field("dog/a", "score", "3"))
			m.say(0, 1, `"despawned":["dog/a"]`)
			m.say(0, 1, field("dog/a", "score", "0"))
		}, ""},
		{"a leap that nobody's client showed", rulebook.InvariantRule{Invariant: rulebook.Speed, Entities: "dog/*", Fields: place, Max: 20}, func(m *match) {
			m.every(0, 0, 4, 0.1, func(t float64) string { return position("dog/fern", 30*math.Floor(t/2), 0) })
		}, "invariant-broken dog/fern it went 30 in 100 ms"},
		{"a leap that came from the client", rulebook.InvariantRule{Invariant: rulebook.Speed, Entities: "dog/*", Fields: place, Max: 20}, func(m *match) {
			m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
			m.every(0, 0, 4, 0.1, func(t float64) string { return position("dog/fern", 30*math.Floor(t/2), 0) })
			m.every(1, 0, 4, 0.1, func(t float64) string { return position("dog/fern", 30*math.Floor((t+0.25)/2), 0) })
		}, "unvalidated dog/fern it went 30 in 100 ms, the invariant allows 20 a second; fern showed it there"},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules, m.views = nil, []string{"server", "fern"}
			m.more.Invariants = []rulebook.InvariantRule{c.invariant}
			c.play(m)
			m.say(0, 8, `"checkpoint":"end"`)
			v := m.judge()
			if c.want == "" {
				assert.Empty(t, v.Findings)
				return
			}
			require.Len(t, v.Findings, 1, told(v))
			f := v.Findings[0]
			assert.Contains(t, fmt.Sprintf("%s %s %s", f.Kind, f.Entity, f.Why), c.want)
			assert.Equal(t, "server", f.View)
		})
	}
}

func TestASequenceNamesTheStepThatNeverCame(t *testing.T) {
	for _, c := range []struct {
		name  string
		steps func(m *match)
		want  string
	}{
		{"all came", func(m *match) {
			m.say(0, 1.2, `"checkpoint":"request","by":"fern"`)
			m.say(0, 1.3, `"event":"granted","by":"fern"`)
			m.say(1, 1.5, `"event":"granted","by":"fern"`)
			m.say(2, 1.6, `"event":"granted","by":"fern"`)
		}, ""},
		{"the request got lost", func(m *match) {}, "step 2, mark request in server, never came within 1s of step 1"},
		{"the grant never reached moss", func(m *match) {
			m.say(0, 1.2, `"checkpoint":"request","by":"fern"`)
			m.say(0, 1.3, `"event":"granted","by":"fern"`)
			m.say(1, 1.5, `"event":"granted","by":"fern"`)
			m.say(2, 1.6, `"event":"granted","by":"ash"`)
		}, "step 4, event granted in moss, never came"},
		{"the server said no", func(m *match) {
			m.say(0, 1.2, `"checkpoint":"request","by":"fern"`)
			m.say(0, 1.3, `"checkpoint":"denied","by":"fern"`)
		}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.rules = nil
			m.more.Sequences = []rulebook.Sequence{{Name: "bell", By: "by", Unless: "denied", Steps: []rulebook.SequenceStep{
				{Checkpoint: "touch", In: "client"}, {Checkpoint: "request", In: "server", Within: time.Second},
				{Event: "granted", In: "server", Within: time.Second}, {Event: "granted", In: "all", Within: time.Second}}}}
			for view := 1; view <= 2; view++ {
				m.say(view, 0, fmt.Sprintf(`"joined":"%s"`, m.views[view]))
			}
			m.say(1, 1, `"checkpoint":"touch","by":"fern"`)
			c.steps(m)
			m.say(0, 6, `"checkpoint":"end"`)
			v := m.judge()
			if c.want == "" {
				assert.Empty(t, v.Findings)
				return
			}
			require.Len(t, v.Findings, 1)
			assert.Equal(t, Broken, v.Findings[0].Kind)
			assert.Contains(t, v.Findings[0].Why, c.want)
		})
	}
}

func TestAViewThatPlaysOnWithoutBeingIn(t *testing.T) {
	m := newMatch()
	m.say(0, 0, `"joined":"fern"`)
	m.say(1, 0.1, `"joined":"fern","entity":"dog/fern"`)
	m.say(0, 1, `"refused":"moss"`)
	m.say(2, 2, `"joined":"moss","entity":"dog/moss"`)
	m.every(0, 0.1, 8, 0.1, func(t float64) string { return position("dog/fern", t, 0) })
	m.every(1, 0.2, 8, 0.1, func(t float64) string { return position("dog/fern", t, 0) })
	m.every(2, 2, 8, 0.1, func(t float64) string { return position("dog/moss", t, 0) })
	v := m.judge()
	require.Equal(t, []string{"moss rejected-but-playing  membership 2.00-8.00 open"}, told(v), "told once, not as all that it does not show")
}

// With times that stand for ticks, one differing tick is a finding.
func TestEqualTicksAreCompared(t *testing.T) {
	m := newMatch()
	m.ticks, m.views = true, []string{"server", "fern"}
	m.rules = []rulebook.Rule{{Entities: "*/*", Fields: []string{"x"}, Compare: rulebook.Distance, MinDuration: 500 * ms}, {Entities: "*/*", Fields: []string{"sum"}, MinDuration: 500 * ms}}
	for tick := range 100 {
		x := tick * tick
		m.say(0, float64(tick)/10, fmt.Sprintf(`"tick":%d,"state":{"unit/a":{"x":%d},"state/all":{"sum":"%x"}}`, tick, x, x*7))
		if tick >= 60 {
			x++
		}
		if tick%3 == 0 && tick < 70 {
			m.say(1, float64(tick)/10, fmt.Sprintf(`"tick":%d,"state":{"unit/a":{"x":%d},"state/all":{"sum":"%x"}}`, tick, x, x*7))
		}
	}
	v := m.judge()
	require.Len(t, v.Findings, 3, told(v))
	assert.Equal(t, int64(60), v.Findings[0].Tick)
	assert.ElementsMatch(t, []string{"x", "sum"}, []string{v.Findings[0].Subject.String(), v.Findings[1].Subject.String()})
	assert.Equal(t, "ticks", v.Findings[2].Subject.String())
	assert.Contains(t, v.Findings[2].Why, "no tick after 69")
	require.Len(t, v.Incidents, 1, "one divergence is one incident")
	assert.Equal(t, "the view has 3601 and the reference 3600; at the same tick also sum of state/all", v.Findings[0].Why)
}

// A client that is the reference says of itself alone that it is in.
func TestAReferenceThatKnowsOnlyOfItselfRefusesNobody(t *testing.T) {
	m := newMatch()
	m.say(0, 0, `"joined":"server","entity":"dog/oak"`)
	m.say(1, 0.1, `"joined":"fern","entity":"dog/fern"`)
	for view := range 2 {
		m.every(view, 0.2, 8, 0.1, func(t float64) string { return position("dog/fern", t, 0) })
	}
	require.Empty(t, told(m.judge()))
}

// A number that goes on as the reference's from another beginning is off by one number: that of what the view was not told.
func TestACountFromAnotherBeginningIsOffByWhatWasBefore(t *testing.T) {
	m := newMatch()
	count := func(t, beginning, every float64) string {
		return fmt.Sprintf(`"state":{"gate/n":{"open":%d}}`, int(t/every)-int(beginning/every))
	}
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.say(2, 6, `"joined":"moss","entity":"dog/moss"`)
	m.every(0, 0, 25, 0.05, func(t float64) string { return count(t, 0, 1.7) })
	m.every(1, 0.1, 25, 0.05, func(t float64) string { return count(t-0.1, 0, 1.7) })
	m.every(2, 6.1, 25, 0.07, func(t float64) string { return count(t-0.15, 6, 1.7) })
	v := m.judge()
	require.Equal(t, []string{"moss offset gate/n open 6.10-24.95 open"}, told(v))
	assert.Equal(t, "it counts as the reference does, and is off by -3 throughout since the view joined: it was not told what had been before", v.Findings[0].Why)
}

// A change that was made twice just after joining, before anything is compared, is known by where both sides came from.
func TestAChangeMadeTwiceBeforeAnythingIsComparedIsDoubled(t *testing.T) {
	m := newMatch()
	m.rules = []rulebook.Rule{{Entities: "*/*", Fields: []string{"open"}, MaxDelay: 300 * ms, MinDuration: 500 * ms, Grace: time.Second}}
	m.say(1, 0.1, `"joined":"fern","entity":"dog/fern"`)
	m.say(2, 0.1, `"joined":"moss","entity":"dog/moss"`)
	shows := func(view int, after float64, value int) {
		m.every(view, 0.1, 9, 0.1, func(t float64) string {
			if t < after {
				return `"state":{"gate/n":{"open":4}}`
			}
			return fmt.Sprintf(`"state":{"gate/n":{"open":%d}}`, value)
		})
	}
	shows(0, 0.5, 7)
	shows(1, 0.6, 7)
	shows(2, 0.7, 10)
	v := m.judge()
	require.Equal(t, []string{"moss doubled gate/n open 1.10-9.00 open"}, told(v))
	assert.Equal(t, "a change of 3 was made 2 times", v.Findings[0].Why)
}

func TestKindsAreAllThatThereAre(t *testing.T) {
	text, err := os.ReadFile("kinds.go")
	require.NoError(t, err)
	var told []Kind
	for _, m := range regexp.MustCompile(`(?m)^\t\w+ +Kind = "([^"]+)"`).FindAllSubmatch(text, -1) {
		told = append(told, Kind(m[1]))
	}
	require.Greater(t, len(told), 40)
	assert.ElementsMatch(t, told, Kinds)
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(Kinds))), len(Kinds))
}
