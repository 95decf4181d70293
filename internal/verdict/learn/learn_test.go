package learn

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

const ms = time.Millisecond

// match is a match that is told in JSON: the server's view, then those of fern and moss.
type match struct {
	*Match
	t *testing.T
}

func newMatch(t *testing.T) match {
	m := match{NewMatch(trace.NewNames(), []string{"server", "fern", "moss"}), t}
	for view, name := range []string{"", "fern", "moss"} {
		if view > 0 {
			m.say(view, 0, fmt.Sprintf(`"joined":"%s","entity":"boat/%[1]s"`, name))
		}
	}
	return m
}

func (m match) say(view int, at float64, rest string) {
	r, reader := trace.Record{}, trace.NewReader(strings.NewReader(fmt.Sprintf(`{"t":%f,%s}`, at, rest)), m.names)
	require.NoError(m.t, reader.Next(&r))
	m.Record(view, &r)
}

// plays lets a world happen for half a minute: the server tells 20 times a second, the clients as often
// what was so some time before.
func (m match) plays(world func(at float64) string, late ...float64) {
	for i := range 600 {
		at := float64(i) / 20
		m.say(0, at, `"full":true,"state":{`+world(at)+`}`)
		for view, by := range late {
			if at > 0.5 {
				m.say(view+1, at+0.001, `"full":true,"state":{`+world(at-by)+`}`)
			}
		}
	}
}

func find(t *testing.T, l *Lesson, label string) Rule {
	t.Helper()
	for _, r := range l.Rules {
		if r.Label() == label {
			return r
		}
	}
	require.Fail(t, "no rule for "+label)
	return Rule{}
}

func TestWhatAFieldIsIsLearnedFromItsValues(t *testing.T) {
	m := newMatch(t)
	m.plays(func(at float64) string {
		return fmt.Sprintf(`"boat/a":{"x":%.2f,"y":%.2f,"yaw":%.1f,"fuel":%.2f,"cargo":%d,"lit":%t,"mood":"%s","captain":"%s","name":"a"}`,
			10*math.Sin(at), 10*math.Cos(at/2), math.Mod(at*50+3600, 360), 100-at, int(at/3), int(at/4)%2 == 0, []string{"calm", "keen"}[int(math.Abs(at)/5)%2], []string{"fern", "moss"}[int(math.Abs(at)/7)%2])
	}, 0.2, 0.3)
	l := Learn([]*Match{m.Match})
	place := find(t, l, "x, y")
	assert.Equal(t, rulebook.Distance, place.Compare)
	assert.InDelta(t, 0.2, place.Tolerance, 0.2)
	assert.InDelta(t, 400, place.MaxDelay.Milliseconds(), 60, "0.3 s, a quarter of it, and what steps of 50 ms make of it")
	assert.Zero(t, place.MaxAhead)
	yaw := find(t, l, "yaw")
	assert.Equal(t, rulebook.Angle, yaw.Compare)
	assert.InDelta(t, 360, yaw.Circle, 0)
	for label, compare := range map[string]rulebook.Compare{"fuel": rulebook.Distance, "cargo": rulebook.Exact, "lit": rulebook.Exact, "mood": rulebook.Exact} {
		r := find(t, l, label)
		assert.Equal(t, compare, r.Compare, label)
		assert.GreaterOrEqual(t, r.MaxDelay, 300*ms, label)
		assert.LessOrEqual(t, r.MaxDelay, 500*ms, label)
	}
	assert.Equal(t, rulebook.Owner, find(t, l, "captain").Role)
	assert.Contains(t, strings.Join(find(t, l, "name").Why, " "), "it never changed")
	assert.Equal(t, rulebook.Everyone, find(t, l, rulebook.Existence).SeenBy)
}

func TestPredictionIsLearnedFromTheOwnEntity(t *testing.T) {
	m := newMatch(t)
	at := func(s float64) string {
		return fmt.Sprintf(`"boat/fern":{"x":%.2f,"y":%.2f}`, 8*math.Sin(s), 8*math.Cos(s))
	}
	for i := range 600 {
		s := float64(i) / 20
		m.say(0, s, `"full":true,"state":{`+at(s)+`}`)
		m.say(1, s+0.001, `"full":true,"state":{`+at(s+0.15)+`}`)
		m.say(2, s+0.001, `"full":true,"state":{`+at(s-0.25)+`}`)
	}
	l := Learn([]*Match{m.Match})
	var own, others Rule
	for _, r := range l.Rules {
		switch {
		case r.Label() == "x, y" && r.Of == rulebook.Own:
			own = r
		case r.Label() == "x, y" && r.Of == rulebook.Others:
			others = r
		}
	}
	assert.InDelta(t, 190, own.MaxAhead.Milliseconds(), 60, "0.15 s, less what the tolerance explains, and a margin")
	assert.LessOrEqual(t, own.MaxDelay, 100*ms)
	assert.Zero(t, others.MaxAhead)
	assert.InDelta(t, 350, others.MaxDelay.Milliseconds(), 60)
}

func TestWhoSeesWhatIsLearned(t *testing.T) {
	m := newMatch(t)
	for i := range 1200 {
		s := float64(i) / 20
		far := 50 * math.Abs(math.Sin(s/4)) // how far the wreck is from fern
		world := fmt.Sprintf(`"boat/fern":{"x":0,"y":0.1},"boat/moss":{"x":200,"y":0},"wreck/a":{"x":%.2f,"y":0}`, far)
		m.say(0, s, `"full":true,"state":{`+world+`,"ledger/all":{"sum":1}}`)
		if s < 0.5 {
			continue
		}
		fern := `"boat/fern":{"x":0,"y":0.1},"boat/moss":{"x":200,"y":0}`
		if far < 20 {
			fern += fmt.Sprintf(`,"wreck/a":{"x":%.2f,"y":0}`, far)
		}
		m.say(1, s+0.001, `"full":true,"state":{`+fern+`}`)
		m.say(2, s+0.001, `"full":true,"state":{"boat/fern":{"x":0,"y":0.1},"boat/moss":{"x":200,"y":0}}`)
	}
	l := Learn([]*Match{m.Match})
	for _, r := range l.Rules {
		if r.Label() != rulebook.Existence {
			continue
		}
		switch r.Entities {
		case "wreck/*":
			assert.Equal(t, rulebook.InRange, r.SeenBy)
			assert.InDelta(t, 19, r.InterestRadius, 1.5)
			assert.InDelta(t, 22.5, r.LeaveRadius, 3)
			require.NoError(t, r.Validate())
		case "boat/*":
			assert.Equal(t, rulebook.Everyone, r.SeenBy)
		default:
			assert.Fail(t, "a rule about what nobody shows", r.Entities)
		}
	}
	assert.Contains(t, strings.Join(l.Unsure, "; "), "no client shows any ledger")
}

func TestEventsAreLearned(t *testing.T) {
	m := newMatch(t)
	m.plays(func(float64) string { return `"boat/fern":{"x":1,"y":1}` }, 0, 0)
	for i := range 20 {
		at := 2 + float64(i)
		m.say(0, at, fmt.Sprintf(`"event":"horn","id":"%d","by":"fern"`, i))
		m.say(0, at, fmt.Sprintf(`"event":"letter","id":"%d","to":"moss"`, i))
		m.say(0, at, fmt.Sprintf(`"event":"audit","id":"%d"`, i))
		for view := range 2 {
			m.say(view+1, at+0.2, fmt.Sprintf(`"event":"horn","id":"%d","by":"fern"`, i))
		}
		m.say(2, at+0.4, fmt.Sprintf(`"event":"letter","id":"%d","to":"moss"`, i))
	}
	for view := range 3 {
		m.say(view, 40, `"state":{"boat/fern":{"x":2}}`)
	}
	l := Learn([]*Match{m.Match})
	require.Len(t, l.Events, 3)
	audit, horn, letter := l.Events[0], l.Events[1], l.Events[2]
	assert.Equal(t, []rulebook.Audience{rulebook.Nobody, rulebook.Everyone, rulebook.OwnerOnly}, []rulebook.Audience{audit.SeenBy, horn.SeenBy, letter.SeenBy})
	assert.Equal(t, []time.Duration{250 * ms, 500 * ms}, []time.Duration{horn.MaxDelay, letter.MaxDelay})
	assert.False(t, horn.Ordered, "one a second, so nothing could have come before another")
	assert.Contains(t, strings.Join(horn.Why, "; "), "none was ever so late that the next would have come before it")
	assert.Contains(t, strings.Join(l.Asked, "; "), "event audit never comes to any client")
}

// That events come in order is learned where one that was late held up the next.
func TestAnOrderThatWasPutToTheTestIsLearned(t *testing.T) {
	for _, c := range []struct {
		name    string
		late    float64 // how long the first of two takes
		ordered bool
	}{{"the next waits", 0.7, true}, {"the next need not wait", 0.2, false}} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch(t)
			m.plays(func(float64) string { return `"boat/fern":{"x":1,"y":1}` }, 0, 0)
			for i := range 12 {
				at, late := 2+float64(i), 0.2
				if i%4 == 0 {
					late = c.late
				}
				m.say(0, at, fmt.Sprintf(`"event":"horn","id":"%d"`, 2*i))
				m.say(0, at+0.1, fmt.Sprintf(`"event":"horn","id":"%d"`, 2*i+1))
				for view := range 2 {
					m.say(view+1, at+late, fmt.Sprintf(`"event":"horn","id":"%d"`, 2*i))
					m.say(view+1, max(at+late, at+0.3), fmt.Sprintf(`"event":"horn","id":"%d"`, 2*i+1))
				}
			}
			for view := range 3 {
				m.say(view, 40, `"state":{"boat/fern":{"x":2}}`)
			}
			assert.Equal(t, c.ordered, Learn([]*Match{m.Match}).Events[0].Ordered)
		})
	}
}

func TestWhatHeldThroughoutIsLearned(t *testing.T) {
	m := newMatch(t)
	m.plays(func(at float64) string {
		return fmt.Sprintf(`"boat/fern":{"flag":"red","score":%d},"boat/moss":{"flag":"blue","score":%d},"bell/one":{"x":%.2f,"y":1}`, int(at), int(at/2), at)
	}, 0.1, 0.1)
	var laws, offered []string
	l := Learn([]*Match{m.Match})
	for _, law := range l.Laws {
		if law.Offered {
			offered = append(offered, fmt.Sprintf("%s of %s %g", law.Label(), law.Entities, law.Max))
		} else {
			laws = append(laws, law.Label()+" of "+law.Entities)
		}
		require.NoError(t, law.Validate())
	}
	assert.Equal(t, []string{"one of bell/*", "unique flag of boat/*", "rising score of boat/*"}, laws)
	assert.Equal(t, []string{"speed x, y of bell/* 1.6"}, offered, "it goes 1 a second, and rounded")
	assert.Len(t, l.Watched().Invariants, len(laws), "what is offered is not judged")
}

func TestHowFarApartPlayersBeginIsOffered(t *testing.T) {
	for _, c := range []struct {
		apart float64
		says  string
	}{{4, "never nearer than"}, {0, "SUSPICIOUS"}} {
		m := newMatch(t)
		m.plays(func(at float64) string {
			boats := `"boat/other":{"x":0,"y":0}`
			for i, from := range []float64{5, 10, 15} {
				if at >= from {
					boats += fmt.Sprintf(`,"boat/%s":{"x":%g,"y":%g}`, []string{"fern", "moss", "oak"}[i], c.apart*float64(i+1)+1.5*max(0, at-from), at-from)
				}
			}
			return boats
		}, 0.1, 0.1)
		text := ""
		for _, law := range Learn([]*Match{m.Match}).Laws {
			if law.Invariant == rulebook.Apart {
				text = law.Why[0]
				assert.True(t, law.Offered)
			}
		}
		if c.apart == 0 {
			assert.Contains(t, text, c.says)
		}
	}
}

func TestChainsThatCompleteAreOffered(t *testing.T) {
	m := newMatch(t)
	for i := range 8 {
		at := float64(i)*3 + 2
		id := fmt.Sprintf(`"id":"%d","by":"fern"`, i)
		m.say(1, at, `"checkpoint":"touch",`+id)
		m.say(0, at+0.1, `"checkpoint":"request",`+id)
		if i != 3 { // one of them is not heard of again
			m.say(1, at+0.4, `"event":"heard",`+id)
		}
		m.say(0, at+0.2, `"event":"grant",`+id)
	}
	m.say(0, 40, `"event":"bell"`)
	m.say(1, 40, `"event":"bell"`)
	chains := Learn([]*Match{m.Match}).Chains
	require.Len(t, chains, 1, "request begins in the middle of the other")
	require.NoError(t, chains[0].Validate())
	var steps []string
	for _, step := range chains[0].Steps {
		steps = append(steps, fmt.Sprintf("%s in %s within %v", step.What(), step.In, step.Within))
	}
	assert.Equal(t, []string{"mark touch in client within 0s", "mark request in server within 250ms", "event grant in server within 250ms"}, steps)
	assert.Equal(t, []string{"began 8 times and completed each time"}, chains[0].Why)
}

// One course that is wrong, and one view that is late, are no examples for the others.
func TestAMistakeIsNotLearnedAsNormal(t *testing.T) {
	m := newMatch(t)
	boats := func(at, shift float64) string {
		var list []string
		for i := range 8 {
			x := 10*math.Sin(at+float64(i)) + shift*float64(i/7)
			list = append(list, fmt.Sprintf(`"boat/%d":{"x":%.2f,"y":%.2f}`, i, x, 10*math.Cos(at/2+float64(i))))
		}
		return strings.Join(list, ",")
	}
	for i := range 600 {
		s := float64(i) / 20
		m.say(0, s, `"full":true,"state":{`+boats(s, 0)+`}`)
		m.say(1, s+0.001, `"full":true,"state":{`+boats(s-0.2, 6)+`}`) // its boat/7 is off by 6
		m.say(2, s+0.001, `"full":true,"state":{`+boats(s-0.2, 0)+`}`)
	}
	r := find(t, Learn([]*Match{m.Match}), "x, y")
	assert.Less(t, r.Tolerance, 1.5)
	assert.LessOrEqual(t, r.MaxDelay, 350*ms)
	assert.Contains(t, strings.Join(r.Why, " "), "SUSPICIOUS")
}

// What stands is to be shown where it stands: a view that never settles is told.
func TestWhatNeverSettlesIsSuspicious(t *testing.T) {
	for _, c := range []struct {
		sway float64
		want bool
	}{{0, false}, {0.3, true}} {
		m := newMatch(t)
		boats := func(at, sway float64) string {
			var list []string
			for i := range 6 {
				x := 2.013 * math.Min(math.Mod(math.Max(at, 0), 6), 2) // it goes for two seconds and stands for four
				list = append(list, fmt.Sprintf(`"boat/%d":{"x":%.3f,"y":%.3f}`, i, x+float64(i), sway))
			}
			return strings.Join(list, ",")
		}
		for i := range 600 {
			s := float64(i) / 20
			m.say(0, s, `"full":true,"state":{`+boats(s, 0)+`}`)
			m.say(1, s+0.001, `"full":true,"state":{`+boats(s-0.1, c.sway*float64(i%2*2-1))+`}`)
			m.say(2, s+0.001, `"full":true,"state":{`+boats(s-0.1, c.sway*float64(i%2*2-1))+`}`)
		}
		text := strings.Join(find(t, Learn([]*Match{m.Match}), "x, y").Why, " ")
		assert.Equal(t, c.want, strings.Contains(text, "never settle"), text)
	}
}

func TestEveryRuleThatIsLearnedIsValid(t *testing.T) {
	m := newMatch(t)
	m.plays(func(at float64) string {
		return fmt.Sprintf(`"boat/a":{"px":%.2f,"pz":%.2f,"rot":%.3f,"odd":null,"nan":"NaN"},"lonely":{"v":%.1f}`, at, 2*at, math.Mod(at, 6.28), at)
	}, 0.1)
	l := Learn([]*Match{m.Match})
	for _, r := range l.Rules {
		assert.NoError(t, r.Validate(), r.Label())
	}
	assert.Equal(t, "px, pz", find(t, l, "px, pz").Label())
	assert.InDelta(t, 2*math.Pi, find(t, l, "rot").Circle, 1e-9)
	assert.Empty(t, Learn([]*Match{NewMatch(trace.NewNames(), []string{"server"})}).Rules)
}

// What disagrees steadily is told with what explains it, and the rule is written as if the game were right.
func TestASteadyMistakeIsNotLearnedAsNormal(t *testing.T) {
	way := func(at float64) (x, y float64) { return 12*math.Sin(at/3) + 2*math.Sin(1.3*at), 9 * math.Cos(at/4) }
	for what, c := range map[string]struct {
		wrong func(x, y float64) (float64, float64)
		says  string
	}{
		"swapped":        {func(x, y float64) (float64, float64) { return y, x }, "swapped"},
		"mirrored":       {func(x, y float64) (float64, float64) { return x, -y }, "mirrored"},
		"off by 5":       {func(x, y float64) (float64, float64) { return x + 5, y }, "offset"},
		"twice as large": {func(x, y float64) (float64, float64) { return 2 * x, 2 * y }, "scaled"},
		"rounded":        {func(x, y float64) (float64, float64) { return math.Round(x/4) * 4, math.Round(y/4) * 4 }, "coarse"},
		"right":          {func(x, y float64) (float64, float64) { return x, y }, ""},
		"a little off":   {func(x, y float64) (float64, float64) { return math.Round(x*10) / 10, math.Round(y*10) / 10 }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			m := newMatch(t)
			for i := range 600 {
				at := float64(i) / 20
				x, y := way(at)
				m.say(0, at, fmt.Sprintf(`"full":true,"state":{"boat/a":{"x":%.3f,"y":%.3f}}`, x, y))
				if at > 0.5 {
					x, y = c.wrong(way(at - 0.15))
					for view := 1; view <= 2; view++ {
						m.say(view, at+0.001, fmt.Sprintf(`"full":true,"state":{"boat/a":{"x":%.3f,"y":%.3f}}`, x, y))
					}
				}
			}
			r := find(t, Learn([]*Match{m.Match}), "x, y")
			why := strings.Join(r.Why, "\n")
			if c.says == "" {
				assert.NotContains(t, why, "the game were right")
				return
			}
			assert.Contains(t, why, "SUSPICIOUS: "+c.says+", in 2 of the 2 courses")
			assert.Equal(t, rulebook.Everyone, r.SeenBy, "it is judged")
			assert.Less(t, r.Tolerance, 1.0)
		})
	}
}
