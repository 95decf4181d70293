package judge

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// everything is rules of every sort, for what comes.
var everything = rulebook.Rules{
	Fields: append([]rulebook.Rule{
		{Entities: "near/*", Fields: []string{rulebook.Existence}, MaxDelay: 100 * ms, MinDuration: 100 * ms, SeenBy: rulebook.InRange, InterestRadius: 5, LeaveRadius: 6, Place: []string{"x", "y"}},
	}, kindRules...),
	Events: []rulebook.EventRule{{Event: "bark", Ordered: true, MaxDelay: 100 * ms, MinDuration: 100 * ms, MaxAhead: 50 * ms}, {Event: "*", SeenBy: rulebook.AllButOwner, MaxDelay: 100 * ms, MinDuration: 100 * ms}},
	Invariants: []rulebook.InvariantRule{
		{Invariant: rulebook.One, Entities: "bell/*", MinDuration: 100 * ms}, {Invariant: rulebook.Unique, Entities: "dog/*", Fields: []string{"player"}, MinDuration: 100 * ms},
		{Invariant: rulebook.Apart, Entities: "dog/*", Fields: []string{"x", "y"}, Min: 1}, {Invariant: rulebook.Speed, Entities: "*/*", Fields: []string{"x", "y"}, Max: 10},
		{Invariant: rulebook.Range, Entities: "*/*", Fields: []string{"stamina"}, Max: 100}, {Invariant: rulebook.Rising, Entities: "*/*", Fields: []string{"score"}}, {Invariant: rulebook.Falling, Entities: "*/*", Fields: []string{"angle"}},
	},
	Sequences: []rulebook.Sequence{{Name: "s", By: "by", Unless: "no", Steps: []rulebook.SequenceStep{{Checkpoint: "a", In: "client"}, {Checkpoint: "b", In: "server", Within: 100 * ms}, {Event: "bark", In: "all", Within: 100 * ms}}}},
}

// anyRecord is a record of anything.
func anyRecord(t *rapid.T, names *trace.Names) (r trace.Record) {
	entities := []string{"dog/fern", "dog/moss", "bell/b", "gate/n", "near/a", "mill/m", "odd"}
	players := []string{"", "fern", "moss", "ash"}
	pick := func(label string, from []string) string { return rapid.SampledFrom(from).Draw(t, label) }
	for range rapid.IntRange(0, 3).Draw(t, "changes") {
		v := rapid.OneOf(rapid.Map(rapid.Float64Range(-300, 300), trace.Number), rapid.Map(rapid.Bool(), trace.Bool),
			rapid.Map(rapid.SampledFrom(players), names.Text), rapid.Just(trace.Value{}), rapid.Just(trace.Number(math.NaN())), rapid.Just(trace.Number(math.Inf(1))), rapid.Just(trace.Number(-1e308)), rapid.Just(trace.Number(1e308))).Draw(t, "value")
		field := pick("field", []string{"x", "y", "heading", "stamina", "open", "score", "gait", "wearer", "angle", "winner", "player", "lit"})
		r.State = append(r.State, trace.Change{Entity: names.Entity(pick("entity", entities)), Field: names.Field(field), Value: v})
	}
	switch rapid.IntRange(0, 9).Draw(t, "sort") {
	case 0:
		r.Full = true
	case 1:
		r.Despawned = []trace.Entity{names.Entity(pick("gone", entities))}
	case 2:
		r.Event, r.ID, r.By, r.To = pick("event", []string{"bark", "pen"}), pick("id", []string{"", "1", "2", "3"}), pick("by", players), pick("to", players)
	case 3:
		r.Checkpoint, r.By = pick("mark", []string{"a", "b", "no"}), pick("by", players)
	case 4:
		r.Joined, r.Entity = pick("joined", players), pick("own", entities)
	case 5:
		r.Left = pick("left", players)
	case 6:
		r.Refused = pick("refused", players)
	case 7:
		r.Tick, r.HasTick = rapid.Int64Range(0, 50).Draw(t, "tick"), true
	}
	return r
}

// Whatever comes, the judge takes it, and the same again gives the same verdict.
func TestTheJudgeTakesWhateverComes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := trace.NewNames()
		type entry struct {
			view    int
			r       trace.Record
			outcome *link.Outcome
		}
		var entries []entry
		now := time.Duration(rapid.Int64Range(-1e9, 1e9).Draw(t, "start"))
		for range rapid.IntRange(1, 60).Draw(t, "records") {
			now += time.Duration(rapid.OneOf(rapid.Int64Range(0, 3e8), rapid.Just(int64(0)), rapid.Just(int64(1e15))).Draw(t, "pause"))
			if rapid.IntRange(0, 4).Draw(t, "what") == 0 {
				f := link.Outcome{Sent: now, Size: 50, Copies: rapid.IntRange(0, 1).Draw(t, "copies"), Dropped: link.Lost}
				f.Arrives[0] = now + time.Duration(rapid.Int64Range(0, 5e8).Draw(t, "delay"))
				entries = append(entries, entry{rapid.IntRange(1, 2).Draw(t, "view"), trace.Record{T: now}, &f})
				continue
			}
			r := anyRecord(t, names)
			r.T = now
			entries = append(entries, entry{rapid.IntRange(0, 2).Draw(t, "view"), r, nil})
		}
		ticks, outcomes := rapid.Bool().Draw(t, "ticks"), rapid.Bool().Draw(t, "outcomes")
		var verdicts [2]string
		for i := range verdicts {
			j := New(Config{Names: names, Rules: everything, Views: []string{"server", "fern", "moss"}, Outcomes: outcomes, Ticks: ticks})
			for k := range entries {
				if e := &entries[k]; e.outcome != nil {
					j.Packet(e.view, link.Packet{Direction: link.Down, Outcome: *e.outcome})
				} else {
					j.Record(e.view, &e.r)
				}
			}
			v := j.Finish()
			for _, f := range v.Findings {
				require.NotEmpty(t, f.Kind)
				require.NotEmpty(t, f.Signature)
				require.LessOrEqual(t, f.BeganAt, f.EndedAt, "%+v", f)
			}
			text, err := json.Marshal(v)
			require.NoError(t, err)
			verdicts[i] = string(text)
		}
		require.Equal(t, verdicts[0], verdicts[1])
	})
}

// The signature of a finding does not depend on names, ids or times.
func TestASignatureOutlivesNamesAndTimes(t *testing.T) {
	play := func(dog, view string, shift float64, number int) string {
		m := newMatch()
		m.views = []string{"server", view}
		m.more.Events = []rulebook.EventRule{{Event: "*", MaxDelay: 100 * ms, MinDuration: 100 * ms}}
		m.say(1, shift, fmt.Sprintf(`"joined":"%s","entity":"dog/%s"`, view, view))
		m.every(0, shift, shift+6, 0.05, func(t float64) string { return position("dog/"+dog, 2*t, 0) })
		m.every(1, shift, shift+2, 0.05, func(t float64) string { return position("dog/"+dog, 2*t, 0) })
		m.say(0, shift+3, fmt.Sprintf(`"event":"bark","id":"%d","entity":"dog/%s"`, number, dog))
		var signatures []string
		for _, f := range m.judge().Findings {
			signatures = append(signatures, f.Signature)
		}
		slices.Sort(signatures)
		return strings.Join(signatures, "\n")
	}
	first := play("ash", "fern", 0, 7)
	assert.Equal(t, "event-lost: dog event bark (other player's view)\nfrozen: dog x, y (other player's view)", first)
	assert.Equal(t, first, play("bramble", "thistle", 100.37, 912))
}

// A healthy client on any link is never flagged: it shows what the newest packet
// that had arrived said, and hears every event in the end.
func TestAHealthyClientOnAnyLinkIsNeverFlagged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m, w := newMatch(), anyWander(t, 160)
		m.outcomes, m.views = true, []string{"server", "fern"}
		m.more.Events = []rulebook.EventRule{{Event: "*", Ordered: true, MaxDelay: 300 * ms, MinDuration: 500 * ms}}
		w.play(m)
		delay := rapid.Float64Range(0.02, 0.4).Draw(t, "delay")
		type heard struct{ at, sent float64 }
		var arrivals []heard
		losing := false
		for i := range w.x {
			sent := float64(i) * 0.05
			if losing {
				losing = rapid.IntRange(0, 5).Draw(t, "still") > 0
			} else {
				losing = rapid.IntRange(0, 9).Draw(t, "lost") == 0
			}
			if losing {
				m.packet(uint64(i+1), sent, 0)
				continue
			}
			at := sent + delay + rapid.Float64Range(0, 0.045).Draw(t, "jitter")
			m.packet(uint64(i+1), sent, at)
			arrivals = append(arrivals, heard{at, sent})
		}
		// Events of each second ride on every packet from then on.
		next := 0
		for second := 1; second < 7; second++ {
			m.say(0, float64(second), fmt.Sprintf(`"event":"bark","id":"%d"`, second))
		}
		for _, a := range arrivals {
			for ; next+1 < 7 && float64(next+1) <= a.sent; next++ {
				m.say(1, a.at, fmt.Sprintf(`"event":"bark","id":"%d"`, next+1))
			}
			i := int(a.sent/0.05 + 1e-9)
			m.say(1, a.at+0.001, fmt.Sprintf(`"state":{"dog/a":{"x":%.6f,"y":%.6f,"open":%v}}`, w.x[i], w.y[i], w.x[i] > 0))
		}
		v := m.judge()
		require.Empty(t, told(v))
		for _, e := range v.Events {
			require.Zero(t, e.Views[0].Lost+e.Views[0].Late+e.Views[0].Repeated+e.Views[0].Misordered)
		}
	})
}

// The same client is flagged when it stays where it is for long enough although
// it hears the rest.
func TestAClientThatHearsAndStaysIsFlaggedOnAnyLink(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newMatch()
		m.outcomes, m.views = true, []string{"server", "fern"}
		speed := rapid.Float64Range(2, 8).Draw(t, "speed")
		delay := rapid.Float64Range(0.02, 0.5).Draw(t, "delay")
		stop := rapid.Float64Range(1, 2.5).Draw(t, "stop")
		for i := range 160 {
			sent := float64(i) * 0.05
			m.say(0, sent, position("dog/a", speed*sent, 0))
			if rapid.IntRange(0, 9).Draw(t, "lost") == 0 {
				m.packet(uint64(i+1), sent, 0)
				continue
			}
			m.packet(uint64(i+1), sent, sent+delay)
			if sent < stop {
				m.say(1, sent+delay, position("dog/a", speed*sent, 0))
			}
		}
		v := m.judge()
		require.Len(t, v.Findings, 1)
		require.Equal(t, Frozen, v.Findings[0].Kind)
		require.True(t, v.Findings[0].Open)
		began := time.Duration(v.Findings[0].BeganAt).Seconds()
		require.Greater(t, began, stop+0.2)
		require.Less(t, began, stop+delay+1.6)
	})
}

func TestValuesThatAreNamedByTheirStep(t *testing.T) {
	for _, c := range []struct{ q, want float64 }{{0.0098, 0.01}, {0.0039, 0.00390625}, {1.02, 1}, {0.52, 0.5}, {0.021, 0.02}, {0, 0}} {
		assert.InDelta(t, c.want, usualStep(c.q), 1e-9, "%v", c.q)
	}
	assert.Equal(t, "655.36, which is 2^16 steps of 0.01,", wrapText(655.36, 0.01))
	assert.Equal(t, "-200", wrapText(-200, 0))
}

func TestHistogramsOfAges(t *testing.T) {
	var h histogram
	assert.Nil(t, h.spread())
	for i := range 100 {
		h.add(time.Duration(i) * ms)
	}
	h.add(time.Hour)
	h.add(-time.Second)
	s := h.spread()
	assert.Equal(t, 102, s.Count)
	assert.Equal(t, 49.0, s.Median)
	assert.Equal(t, 95.0, s.P95)
	assert.Equal(t, 3000.0, s.Max)
}

// What is nearest on a path is found to the microsecond.
func TestTheNearestMoment(t *testing.T) {
	p := path{compare: rulebook.Distance}
	for i := range 20 {
		at := time.Duration(i) * 100 * ms
		p.add(at, at, point{float64(i), 0})
	}
	moment, d := p.nearest(point{7.25, 3}, 0, 1900*ms)
	assert.Equal(t, 725*ms, moment)
	assert.InDelta(t, 3, d, 1e-9)
	moment, _ = p.nearest(point{7.25, 3}, 0, 500*ms)
	assert.Equal(t, 500*ms, moment, "not beyond the end")
	p.forget(1800 * ms)
	assert.Len(t, p.corners, 20, "few corners are not worth the moving")
}
