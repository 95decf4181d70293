package judge

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/verdict/rulebook"
)

// account is what a side said of a value over time, each from its time on.
type account []struct{ t, v float64 }

// at is the value that was said last by t.
func (w account) at(t float64) (v float64, ok bool) {
	for _, s := range w {
		if s.t <= t+1e-9 {
			v, ok = s.v, true
		}
	}
	return v, ok
}

// between is the value on the straight line between what was said around t.
func (w account) between(t float64) float64 {
	for i := range w {
		if i+1 < len(w) && w[i+1].t > t {
			a, b := w[i], w[i+1]
			return a.v + (b.v-a.v)*max(0, t-a.t)/(b.t-a.t)
		}
	}
	return w[len(w)-1].v
}

// near reports whether the reference had something within the tolerance around t, or on
// its straight way between two things it said.
func (w account) near(v, t, tolerance float64, line bool) bool {
	before, _ := w.at(t - 0.06)
	low, high := before, before
	for d := -0.06; d <= 0.06; d += 0.01 {
		at, _ := w.at(t + d)
		if line {
			at = w.between(t + d)
			low, high = min(low, at), max(high, at)
		}
		if math.Abs(at-v) <= tolerance+1e-6 {
			return true
		}
	}
	return line && v >= low-tolerance && v <= high+tolerance
}

var (
	keptAt   = regexp.MustCompile(`^the view kept the value that the reference had at ([\d.]+) s$`)
	hadAt    = regexp.MustCompile(`^the view shows the value that the reference had at ([\d.]+) s, before the view joined$`)
	showsHas = regexp.MustCompile(`^the view shows (\S+) where the reference has (\S+)$`)
	changing = regexp.MustCompile(`^the view changing to (\S+) at ([\d.]+) s$`)
	coming   = regexp.MustCompile(`^the reference coming to (\S+) by ([\d.]+) s, as the view shows$`)
	passing  = regexp.MustCompile(`^the reference passing (\S+) by ([\d.]+) s, as the view shows$`)
)

// Every sentence of a finding is true of the traces that it was made from.
func TestEverySentenceIsTrue(t *testing.T) {
	kinds := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		exact := rapid.Bool().Draw(t, "exact")
		rule := rulebook.Rule{Entities: "mill/*", Fields: []string{"level"}, MaxDelay: 200 * ms, MinDuration: 300 * ms}
		tolerance := 0.0
		if !exact {
			tolerance = 0.5
			rule.Compare, rule.Tolerance = rulebook.Distance, tolerance
		}
		m := newMatch()
		m.rules, m.views = []rulebook.Rule{rule}, []string{"server", "fern"}
		// The reference's value takes steps, and the view follows with some fault.
		joined := rapid.Float64Range(0, 3).Draw(t, "joined")
		began := joined + rapid.Float64Range(0, 3).Draw(t, "began")
		lasts := rapid.Float64Range(0.5, 4).Draw(t, "lasts")
		sort := rapid.SampledFrom([]string{"frozen", "shifted", "wrong", "stale at join"}).Draw(t, "fault")
		wrong := float64(rapid.IntRange(1, 90).Draw(t, "wrong"))
		var server, view account
		value, next := float64(rapid.IntRange(0, 90).Draw(t, "value")), 0.0
		m.say(0, 0, fmt.Sprintf(`"state":{"mill/a":{"level":%g}}`, value))
		server = append(server, struct{ t, v float64 }{0, value})
		m.say(1, joined, `"joined":"fern","entity":"dog/fern"`)
		shown := math.NaN()
		for i := range 240 {
			at := float64(i) / 20
			if at >= next {
				next = at + rapid.Float64Range(0.4, 2.5).Draw(t, "stays")
				value = float64(rapid.IntRange(0, 90).Draw(t, "value"))
			}
			m.say(0, at, fmt.Sprintf(`"state":{"mill/a":{"level":%g}}`, value))
			server = append(server, struct{ t, v float64 }{at, value})
			if at+0.01 < joined {
				continue
			}
			should := value
			if bad := at >= began && at < began+lasts; bad {
				switch sort {
				case "frozen":
					should = shown
				case "shifted":
					should = value + wrong
				case "wrong":
					should = wrong
				}
			}
			if old, ok := server.at(joined - 1); sort == "stale at join" && at < joined+lasts && ok {
				should = old
			}
			if math.IsNaN(should) {
				should = value
			}
			if should != shown {
				shown = should
				m.say(1, at+0.01, fmt.Sprintf(`"state":{"mill/a":{"level":%g}}`, shown))
				view = append(view, struct{ t, v float64 }{at + 0.01, shown})
			}
		}
		number := func(text string) float64 {
			v, err := strconv.ParseFloat(text, 64)
			require.NoError(t, err)
			return v
		}
		for _, f := range m.judge().Findings {
			kinds[string(f.Kind)]++
			from, to := secondsOf(f.BeganAt), secondsOf(f.EndedAt)
			during, ok := view.at(from)
			require.True(t, ok)
			if got := keptAt.FindStringSubmatch(f.Why); got != nil {
				require.GreaterOrEqual(t, number(got[1]), joined-1e-3, "it was in by then: %s", f.Why)
				require.True(t, server.near(during, number(got[1]), tolerance, !exact), "%s: the view had %v", f.Why, during)
			}
			if got := hadAt.FindStringSubmatch(f.Why); got != nil {
				require.Less(t, number(got[1]), joined)
				require.True(t, server.near(during, number(got[1]), tolerance, !exact), "%s: the view had %v", f.Why, during)
			}
			if got := showsHas.FindStringSubmatch(f.Why); got != nil {
				require.NotEqual(t, got[1], got[2])
				found := false
				for at := from - 0.05; at <= to+0.05; at += 0.01 {
					v, _ := view.at(at)
					found = found || v == number(got[1]) && server.near(number(got[2]), at, tolerance, !exact)
				}
				require.True(t, found, "%s, from %v to %v", f.Why, from, to)
			}
			require.NotContains(t, f.Why, "apart by up to 1 ", "what is equal or not has no distance")
			if got := changing.FindStringSubmatch(f.Ended); got != nil {
				now, _ := view.at(number(got[2]))
				require.InDelta(t, number(got[1]), now, 1e-3, f.Ended)
				before, had := view.at(number(got[2]) - 0.005)
				require.True(t, !had || before != now, "it changed then: %s", f.Ended)
			} else if got := coming.FindStringSubmatch(f.Ended); got != nil {
				now, _ := view.at(to)
				require.InDelta(t, number(got[1]), now, 1e-3, f.Ended)
				require.GreaterOrEqual(t, number(got[2]), to-1e-3)
				require.True(t, server.near(now, number(got[2]), tolerance, !exact), "%s: the reference was at %v there: %+v", f.Ended, server.between(number(got[2])), f)
			} else if got := passing.FindStringSubmatch(f.Ended); got != nil {
				now, _ := view.at(to)
				require.InDelta(t, number(got[1]), now, 1e-3, f.Ended)
				a, _ := server.at(number(got[2]) - 0.06)
				b, _ := server.at(number(got[2]) + 0.06)
				require.True(t, (a < now) != (b < now), "%s: from %v to %v", f.Ended, a, b)
			} else if !f.Open {
				require.False(t, strings.Contains(f.Ended, "chang") || strings.Contains(f.Ended, "com"), f.Ended)
			}
			if f.Gap != nil {
				widest := 0.0
				for at := from - 0.001; at <= to+0.001; at += 0.0005 {
					v, _ := view.at(at)
					said, _ := server.at(at) // what comes next is not known yet
					widest = max(widest, math.Abs(v-server.between(at)), math.Abs(v-said))
				}
				require.LessOrEqual(t, *f.Gap, widest+0.001, "apart by up to %v: %+v", *f.Gap, f)
			}
			for _, row := range f.Evidence.Values {
				at := secondsOf(row.At)
				v, _ := view.at(at)
				before, _ := view.at(at - 0.005)
				shows := number(row.View)
				require.True(t, shows == v || shows == before, "row at %v shows %v, the view had %v", at, shows, v)
				require.True(t, server.near(number(row.Reference), at, 1e-3, !exact), "row at %v: the reference had %v and no %s: %+v", at, server.between(at), row.Reference, f)
			}
		}
	})
	require.NotEmpty(t, kinds)
	if !testing.Short() { // in a few checks it may come to none of these
		require.Positive(t, kinds["frozen"]+kinds["offset"], "%v", kinds)
	}
}

func secondsOf(s Seconds) float64 { return float64(s) / 1e9 }
