package judge

import (
	"cmp"
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

const ms = time.Millisecond

// rules compares what the tests talk about: positions within half a metre,
// headings, flags and existence, 300 ms late at most, settling for 500 ms.
var rules = []rulebook.Rule{
	{Entities: "dog/*", Of: rulebook.Own, Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.5, MaxDelay: 300 * ms, MaxAhead: 200 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.5, MaxDelay: 300 * ms, MinDuration: 500 * ms, Quantum: 0.01},
	{Entities: "*/*", Fields: []string{"heading"}, Compare: rulebook.Angle, Circle: 360, Tolerance: 5, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"stamina"}, Compare: rulebook.Distance, Tolerance: 2, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"open"}, MaxDelay: 300 * ms, MinDuration: 500 * ms},
	{Entities: "*/*", Fields: []string{"secret"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms, SeenBy: rulebook.OwnerOnly},
	{Entities: "*/*", Fields: []string{"mark"}, Compare: rulebook.Exact, MaxDelay: 300 * ms, MinDuration: 500 * ms, SeenBy: rulebook.AllButOwner},
	{Entities: "*/*", Fields: []string{"tuft"}, Compare: rulebook.Exact, SeenBy: rulebook.Nobody},
	{Entities: "*/*", Fields: []string{rulebook.Existence}, MaxDelay: 300 * ms, MinDuration: 500 * ms},
}

// line is a trace line of a view, or the outcome of a packet.
type line struct {
	view   int
	record trace.Record
	down   *link.Outcome
	up     bool // the packet goes the other way
}

// match collects lines and judges them in time order.
type match struct {
	names    *trace.Names
	lines    []line
	rules    []rulebook.Rule
	more     rulebook.Rules // beside those of fields
	views    []string
	outcomes bool
	ticks    bool
}

func newMatch() *match {
	return &match{names: trace.NewNames(), rules: rules, views: []string{"server", "fern", "moss"}}
}

// say adds a trace line of a view at t, with the rest of its JSON.
func (m *match) say(view int, t float64, rest string) {
	r, l := trace.NewReader(strings.NewReader(fmt.Sprintf(`{"t":%f,%s}`, t, rest)), m.names), line{view: view}
	if err := r.Next(&l.record); err != nil {
		panic(fmt.Sprint(rest, err, r.Flaws()))
	}
	m.lines = append(m.lines, l)
}

// every says the same at a fixed rate, with %v for the time in seconds.
func (m *match) every(view int, from, to, step float64, of func(t float64) string) {
	for t := from; t < to; t += step {
		m.say(view, t, of(t))
	}
}

func (m *match) judge() *Verdict {
	slices.SortStableFunc(m.lines, func(a, b line) int { return int(a.at() - b.at()) })
	all := m.more
	all.Fields = m.rules
	j := New(Config{Names: m.names, Rules: all, Views: m.views, Outcomes: m.outcomes, Ticks: m.ticks})
	for i := range m.lines {
		if l := &m.lines[i]; l.down != nil {
			d := link.Down
			if l.up {
				d = link.Up
			}
			j.Packet(l.view, link.Packet{Direction: d, Outcome: *l.down})
		} else {
			j.Record(l.view, &l.record)
		}
	}
	return j.Finish()
}

func (l line) at() time.Duration {
	if l.down != nil {
		return l.down.Sent
	}
	return l.record.T
}

// told is the findings in short.
func told(v *Verdict) []string {
	list := []string{}
	for _, f := range v.Findings {
		end := "healed"
		if f.Open {
			end = "open"
		}
		list = append(list, fmt.Sprintf("%s %s %s %s %.2f-%.2f %s", f.View, f.Kind, f.Entity, f.Subject,
			time.Duration(f.BeganAt).Seconds(), time.Duration(f.EndedAt).Seconds(), end))
	}
	return list
}

func position(entity string, x, y float64) string {
	return fmt.Sprintf(`"state":{"%s":{"x":%.3f,"y":%.3f}}`, entity, x, y)
}

func TestWhatTheJudgeFinds(t *testing.T) {
	// In each match the server lets dog/a walk east at 2 m/s and a gate stand.
	walk := func(m *match, until float64) {
		m.every(0, 0, until, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
	}
	for _, c := range []struct {
		name string
		play func(m *match)
		want []string
	}{
		{"a view that is late by less than lag is in sync", func(m *match) {
			walk(m, 6)
			m.every(1, 0.5, 6, 0.05, func(t float64) string { return position("dog/a", 2*(t-0.25), 0) })
		}, []string{}},
		{"one that is later is not", func(m *match) {
			walk(m, 6)
			m.every(1, 1, 6, 0.05, func(t float64) string { return position("dog/a", 2*(t-0.7), 0) })
		}, []string{"fern late dog/a x, y 1.00-6.00 open"}},
		{"a view that falls silent is caught at the moment its last value leaves the window", func(m *match) {
			walk(m, 6)
			m.every(1, 0.5, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.say(2, 1, position("dog/b", 1, 1)) // somebody else goes on
		}, []string{"moss missing dog/a existence 1.00-6.00 open", "moss ghost dog/b existence 1.00-6.00 open", "fern frozen dog/a x, y 2.50-6.00 open"}},
		{"a hitch shorter than settle is none", func(m *match) {
			walk(m, 6)
			m.every(1, 0.5, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.every(1, 2.9, 6, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
		}, []string{}},
		{"a hitch that is longer is one that healed", func(m *match) {
			walk(m, 6)
			m.every(1, 0.5, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.every(1, 3.2, 6, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
		}, []string{"fern frozen dog/a x, y 2.50-3.20 healed"}},
		{"stretches closer than settle are one episode", func(m *match) {
			walk(m, 8)
			m.every(1, 0.5, 7.9, 0.05, func(t float64) string {
				off := 0.0
				if t > 2 && t < 5 && math.Mod(t, 0.6) < 0.3 {
					off = 3
				}
				return position("dog/a", 2*t, off)
			})
		}, []string{"fern offset dog/a x, y 2.00-5.05 healed"}},
		{"a ghost", func(m *match) {
			walk(m, 2)
			m.say(0, 2, `"despawned":["dog/a"]`)
			m.say(0, 5, `"checkpoint":"end"`)
			m.every(1, 0.5, 2.2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
		}, []string{"fern ghost dog/a existence 2.30-5.00 open"}},
		{"a full snapshot without an entity says that it is gone", func(m *match) {
			walk(m, 2)
			m.say(0, 2, `"full":true,"state":{}`)
			m.say(0, 5, `"checkpoint":"end"`)
			m.every(1, 0.5, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.say(1, 3.5, `"full":true,"state":{}`)
		}, []string{"fern ghost dog/a existence 2.30-3.50 healed"}},
		{"a missing entity", func(m *match) {
			walk(m, 3)
			m.say(0, 1, `"state":{"gate/n":{"open":true}}`)
			m.every(1, 0.5, 3, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.say(1, 2.5, `"state":{"gate/n":{"open":true}}`)
		}, []string{"fern missing gate/n existence 1.30-2.50 healed"}},
		{"a flag that never arrives", func(m *match) {
			m.say(0, 0, `"state":{"gate/n":{"open":false}}`)
			m.say(0, 2, `"state":{"gate/n":{"open":true}}`)
			m.say(0, 6, `"checkpoint":"end"`)
			m.say(1, 0.1, `"state":{"gate/n":{"open":false}}`)
		}, []string{"fern frozen gate/n open 2.30-6.00 open"}},
		{"a flag that nobody set", func(m *match) {
			m.say(0, 0, `"state":{"gate/n":{"open":false}}`)
			m.say(0, 6, `"checkpoint":"end"`)
			m.say(1, 0.1, `"state":{"gate/n":{"open":false}}`)
			m.say(1, 2, `"state":{"gate/n":{"open":true}}`)
			m.say(1, 4, `"state":{"gate/n":{"open":false}}`)
		}, []string{"fern never-sent gate/n open 2.00-4.00 healed"}},
		{"a number that the view lowers by itself", func(m *match) {
			m.every(0, 0, 6, 0.1, func(t float64) string { return `"state":{"dog/a":{"stamina":100}}` })
			m.every(1, 0.1, 6, 0.1, func(t float64) string {
				return fmt.Sprintf(`"state":{"dog/a":{"stamina":%.3f}}`, 100-10*max(0, t-2))
			})
		}, []string{"fern never-sent dog/a stamina 2.30-6.00 open"}},
		{"a number that wraps west of the origin", func(m *match) {
			m.every(0, 0, 6, 0.05, func(t float64) string { return position("sheep/a", 3-2*t, 1) })
			m.every(1, 0.1, 6, 0.05, func(t float64) string {
				x := 3 - 2*(t-0.1)
				if x < 0 {
					x += 655.36
				}
				return position("sheep/a", x, 1)
			})
		}, []string{"fern overflow sheep/a x, y 1.60-6.00 open"}},
		{"a heading across north is compared on the circle", func(m *match) {
			m.every(0, 0, 4, 0.05, func(t float64) string {
				return fmt.Sprintf(`"state":{"dog/a":{"heading":%.3f}}`, math.Mod(340+10*t, 360))
			})
			m.every(1, 0.3, 4, 0.05, func(t float64) string {
				return fmt.Sprintf(`"state":{"dog/a":{"heading":%.3f}}`, math.Mod(340+10*(t-0.2), 360)-360)
			})
		}, []string{}},
		{"a value that is not a number agrees with none, but with another", func(m *match) {
			m.every(0, 0, 4, 0.05, func(t float64) string { return `"state":{"dog/a":{"x":1,"y":1},"dog/b":{"x":NaN,"y":1}}` })
			m.every(1, 0.1, 4, 0.05, func(t float64) string { return `"state":{"dog/a":{"x":NaN,"y":1},"dog/b":{"x":NaN,"y":1}}` })
		}, []string{"fern differs dog/a x, y 0.10-4.00 open"}},
		{"the owner alone sees its secret, the others the mark", func(m *match) {
			m.say(0, 0, `"state":{"dog/fern":{"secret":1,"mark":1}}`)
			m.say(1, 0.1, `"joined":"fern","entity":"dog/fern"`)
			m.say(2, 0.1, `"joined":"moss","entity":"dog/moss"`)
			for view := 1; view <= 2; view++ {
				m.say(view, 0.2, `"state":{"dog/fern":{"secret":2,"mark":2}}`)
			}
			m.say(0, 3, `"checkpoint":"end"`)
		}, []string{"fern left-behind dog/fern secret 0.20-3.00 open", "moss left-behind dog/fern mark 0.20-3.00 open"}},
		{"cosmetics are never judged", func(m *match) {
			m.say(0, 0, `"state":{"dog/a":{"tuft":1}}`)
			m.say(1, 0.1, `"state":{"dog/a":{"tuft":7}}`)
			m.say(0, 3, `"checkpoint":"end"`)
		}, []string{}},
		{"a prediction may be ahead by the lead, for the own entity only", func(m *match) {
			m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
			m.every(0, 0, 6, 0.05, func(t float64) string {
				return fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":0},"dog/b":{"x":%.3f,"y":0}}`, 10*t, 10*t)
			})
			m.every(1, 0.4, 6, 0.05, func(t float64) string {
				return fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":0},"dog/b":{"x":%.3f,"y":0}}`, 10*(t+0.15), 10*(t+0.15))
			})
		}, []string{"fern clock dog/b x, y 0.40-6.00 open"}},
		{"nothing is expected of a view that has left", func(m *match) {
			walk(m, 6)
			m.say(1, 0.5, `"joined":"fern","entity":"dog/fern"`)
			m.every(1, 0.55, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
			m.say(1, 2, `"left":"fern"`)
		}, []string{}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			c.play(m)
			got := told(m.judge())
			// A view that never speaks is not in the match; fern's own dog is not the subject.
			got = slices.DeleteFunc(got, func(s string) bool {
				return strings.Contains(s, "dog/fern existence") && !strings.Contains(c.name, "left")
			})
			assert.Equal(t, c.want, got)
		})
	}
}

func TestThingsAreExpectedFromNear(t *testing.T) {
	m := newMatch()
	m.rules = []rulebook.Rule{
		{Entities: "sheep/*", Fields: []string{rulebook.Existence}, MaxDelay: 300 * ms, MinDuration: 500 * ms, Grace: time.Second,
			SeenBy: rulebook.InRange, InterestRadius: 20, LeaveRadius: 25, Place: []string{"x", "y"}},
	}
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	// The sheep comes within 20 m at 4 s, is there in full at 5 s, and leaves 25 m at 15.5 s.
	m.every(0, 0, 20, 0.1, func(t float64) string {
		return fmt.Sprintf(`"state":{"dog/fern":{"x":0,"y":0},"sheep/a":{"x":%.3f,"y":0}}`, 40-5*t)
	})
	v := m.judge()
	require.Equal(t, 1, len(v.Findings), told(v))
	assert.Equal(t, Missing, v.Findings[0].Kind)
	assert.InDelta(t, 5.1, time.Duration(v.Findings[0].BeganAt).Seconds(), 0.3, "a second of grace after it came near")
	assert.InDelta(t, 12.1, time.Duration(v.Findings[0].EndedAt).Seconds(), 0.3, "no longer demanded beyond the radius")
}

// down tells the judge of a packet from the server to view 1.
func (m *match) packet(number uint64, sent, arrives float64) {
	f := link.Outcome{Number: number, Sent: time.Duration(math.Round(sent*1e6)) * time.Microsecond, Size: 200}
	if arrives > 0 {
		f.Copies, f.Arrives[0] = 1, time.Duration(math.Round(arrives*1e6))*time.Microsecond
	} else {
		f.Dropped = link.Lost
	}
	m.lines = append(m.lines, line{view: 1, down: &f})
}

// upPacket tells the judge of a packet from view 1 to the server.
func (m *match) upPacket(number uint64, sent, arrives float64) {
	m.packet(number, sent, arrives)
	m.lines[len(m.lines)-1].up = true
}

func TestAnOutageExcusesUntilSomethingNewerArrives(t *testing.T) {
	play := func(told float64) *match {
		m := newMatch()
		m.outcomes = true
		m.every(0, 0, 8, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) })
		// Packets take 100 ms; none arrives of those sent from 2 s to 4 s.
		for i := range 160 {
			sent, arrives := float64(i)*0.05, float64(i)*0.05+0.1
			if sent >= 2 && sent < 4 {
				arrives = 0
			}
			m.packet(uint64(i+1), sent, arrives)
		}
		m.every(1, 0.3, 2.05, 0.05, func(t float64) string { return position("dog/a", 2*(t-0.1), 0) })
		m.every(1, told, 8, 0.05, func(t float64) string { return position("dog/a", 2*(t-0.1), 0) })
		return m
	}
	v := play(4.15).judge()
	assert.Empty(t, v.Findings, "a client that heard nothing is late, not out of sync")

	v = play(5.5).judge()
	require.Len(t, v.Findings, 1, "it had heard, and stayed where it was")
	f := v.Findings[0]
	assert.Equal(t, Frozen, f.Kind)
	assert.Equal(t, Seconds(4400*ms), f.BeganAt, "the excuse ends lag after the next packet arrives")
	assert.Equal(t, 40, f.Evidence.Lost)
	assert.Equal(t, "lost", f.Evidence.Packets[0].Outcome)
	assert.Equal(t, uint64(41), f.Evidence.Packets[0].Number)

	without := play(5.5)
	without.outcomes = false
	without.lines = slices.DeleteFunc(without.lines, func(l line) bool { return l.down != nil })
	f = without.judge().Findings[0]
	assert.InDelta(t, 2.5, time.Duration(f.BeganAt).Seconds(), 0.1, "without records of packets, lag stands alone")
}

func TestALostOneOffIsCaughtAlthoughItsPacketIsLost(t *testing.T) {
	m := newMatch()
	m.outcomes = true
	m.every(0, 0, 2, 0.05, func(t float64) string { return position("dog/a", 2*t, 0) + `,"checkpoint":"x"` })
	m.say(0, 2, `"despawned":["dog/a"]`)
	m.say(0, 6, `"checkpoint":"end"`)
	m.every(1, 0.3, 2.1, 0.05, func(t float64) string { return position("dog/a", 2*(t-0.1), 0) })
	for i := range 120 {
		sent, arrives := float64(i)*0.05, float64(i)*0.05+0.1
		if i == 40 { // the one sent at 2 s
			arrives = 0
		}
		m.packet(uint64(i+1), sent, arrives)
	}
	v := m.judge()
	require.Equal(t, []string{"fern ghost dog/a existence 2.45-6.00 open"}, told(v))
	e := v.Findings[0].Evidence
	require.Len(t, e.Packets, 1)
	assert.Equal(t, PacketRow{Direction: "down", Number: 41, Sent: Seconds(2 * time.Second), Size: 200, Outcome: "lost"}, e.Packets[0])
}

func TestFindingsWithOneCauseAreOneIncident(t *testing.T) {
	m := newMatch()
	m.every(0, 0, 6, 0.05, func(t float64) string {
		return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":0,"heading":%.3f},"gate/n":{"open":%v}}`, 2*t, 30*t, t > 4)
	})
	for view := 1; view <= 2; view++ {
		m.every(view, 0.1, 2, 0.05, func(t float64) string {
			return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":0,"heading":%.3f},"gate/n":{"open":false}}`, 2*t, 30*t)
		})
	}
	v := m.judge()
	require.Len(t, v.Findings, 6, told(v))
	require.Len(t, v.Incidents, 2)
	assert.Equal(t, []string{"fern", "moss"}, v.Incidents[0].Views)
	assert.Equal(t, []string{"dog/a"}, v.Incidents[0].Entities)
	assert.Equal(t, []string{"gate/n"}, v.Incidents[1].Entities)
	assert.Equal(t, "frozen: dog heading (other player's view)", v.Findings[0].Signature)
}

func TestNothingComparedIsNotInSync(t *testing.T) {
	m := newMatch()
	m.say(0, 0, `"state":{"dog/a":{"colour":"red"}}`)
	m.say(1, 1, `"checkpoint":"hello"`)
	assert.Equal(t, NothingCompared, m.judge().Outcome)
}

// What comes at one instant may come in any order: live and recorded matches
// are judged alike.
func TestTheOrderWithinAnInstantDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newMatch()
		m.outcomes = true
		m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
		for i := range 60 {
			at := float64(i) * 0.05
			jump := float64(rapid.IntRange(0, 1).Draw(t, "jump"))
			m.say(0, at, fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":0},"dog/b":{"x":%.3f,"y":0}}`, at, at+jump))
			m.say(1, at, fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":0},"dog/b":{"x":%.3f,"y":0}}`, at, at))
			m.say(2, at, fmt.Sprintf(`"state":{"dog/b":{"x":%.3f,"y":0}}`, at-1))
			m.packet(uint64(i+1), at, at+0.05*float64(rapid.IntRange(0, 3).Draw(t, "delay")))
		}
		first, err := json.Marshal(m.judge())
		require.NoError(t, err)
		// The other way round within every instant; each view keeps its own order.
		slices.SortStableFunc(m.lines, func(a, b line) int {
			packetLast := map[bool]int{true: 1}
			return cmp.Or(cmp.Compare(a.at(), b.at()), packetLast[a.down == nil]-packetLast[b.down == nil], b.view-a.view)
		})
		second, err := json.Marshal(m.judge())
		require.NoError(t, err)
		require.JSONEq(t, string(first), string(second))
	})
}

// wander is a server's path with everything in it: numbers, an angle, a flag
// and pauses, at 20 records a second.
type wander struct{ x, y, heading []float64 }

func anyWander(t *rapid.T, records int) wander {
	var w wander
	x, y, heading, speed := 0.0, 0.0, 0.0, 0.0
	for i := range records {
		if i%10 == 0 {
			heading = rapid.Float64Range(0, 360).Draw(t, "heading")
			speed = float64(rapid.IntRange(0, 8).Draw(t, "speed"))
		}
		sin, cos := math.Sincos(heading * math.Pi / 180)
		x, y = x+cos*speed*0.05, y+sin*speed*0.05
		w.x, w.y, w.heading = append(w.x, x), append(w.y, y), append(w.heading, heading)
	}
	return w
}

// at is the path at t seconds, with numbers between the records.
func (w wander) at(t float64) (x, y float64) {
	i := min(max(int(t/0.05), 0), len(w.x)-1)
	n := min(i+1, len(w.x)-1)
	share := max(0, t/0.05-float64(i))
	return w.x[i] + (w.x[n]-w.x[i])*share, w.y[i] + (w.y[n]-w.y[i])*share
}

func (w wander) play(m *match) {
	for i := range w.x {
		m.say(0, float64(i)*0.05, fmt.Sprintf(`"state":{"dog/a":{"x":%.6f,"y":%.6f,"open":%v}}`, w.x[i], w.y[i], w.x[i] > 0))
	}
}

func TestAViewDelayedByLessThanLagIsNeverFlagged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m, w := newMatch(), anyWander(t, 120)
		w.play(m)
		delay := rapid.Float64Range(0, 0.29).Draw(t, "delay")
		for at := 0.5; at < 5.9; {
			x, y := w.at(at - delay)
			flag := w.x[min(int((at-delay)/0.05+1e-9), len(w.x)-1)] > 0
			m.say(1, at, fmt.Sprintf(`"state":{"dog/a":{"x":%.6f,"y":%.6f,"open":%v}}`, x, y, flag))
			// It speaks when it likes, but no value it holds grows older than lag.
			at += rapid.Float64Range(0.001, max(0.002, 0.29-delay)).Draw(t, "pause")
		}
		v := m.judge()
		require.Empty(t, told(v))
		require.Greater(t, v.Comparisons, 10)
	})
}

func TestAViewFrozenForLongerThanLagAndSettleIsAlwaysFlagged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newMatch()
		speed := rapid.Float64Range(1.5, 8).Draw(t, "speed") // half a metre is left behind quickly
		stop := rapid.Float64Range(1, 3).Draw(t, "stop")
		silent := rapid.Bool().Draw(t, "silent")
		m.every(0, 0, 6, 0.05, func(t float64) string { return position("dog/a", speed*t, 0) })
		m.every(1, 0.5, stop, 0.05, func(t float64) string { return position("dog/a", speed*t, 0) })
		last := position("dog/a", speed*(stop-0.05), 0)
		for at := stop; !silent && at < 6; at += 0.05 {
			m.say(1, at, last)
		}
		v := m.judge()
		require.Len(t, v.Findings, 1)
		require.Equal(t, Frozen, v.Findings[0].Kind)
		require.True(t, v.Findings[0].Open)
		// It began when the last fitting value of the server left the window.
		require.InDelta(t, stop-0.05+0.3+0.5/speed, time.Duration(v.Findings[0].BeganAt).Seconds(), 0.06)
	})
}

func TestMemoryDoesNotGrowWithTheMatch(t *testing.T) {
	m := newMatch()
	j := New(Config{Names: m.names, Rules: rulebook.Rules{Fields: m.rules}, Views: m.views})
	entity, x := m.names.Entity("dog/a"), m.names.Field("x")
	for i := range 200_000 {
		r := trace.Record{T: time.Duration(i) * 50 * ms, State: []trace.Change{{Entity: entity, Field: x, Value: trace.Number(float64(i % 1000))}}}
		j.Record(0, &r)
		j.Record(1, &r)
	}
	for _, p := range j.entityOf(entity).paths {
		assert.Less(t, len(p.corners), 300)
	}
	assert.Less(t, len(j.waiting.waiting), 3000)
	assert.Empty(t, j.Finish().Findings)
}

func TestSecondsInJSON(t *testing.T) {
	for value, text := range map[Seconds]string{0: "0", Seconds(1500 * ms): "1.5", Seconds(-time.Microsecond): "-0.000001", Seconds(20 * time.Second): "20"} {
		got, err := json.Marshal(value)
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
		var back Seconds
		require.NoError(t, json.Unmarshal(got, &back))
		assert.Equal(t, value, back)
	}
}

// A view that shows entities and never tells a field of them that a rule is for: that is said.
func TestAFieldThatAViewNeverTellsIsWarnedOf(t *testing.T) {
	m := newMatch()
	m.every(0, 0, 6, 0.05, func(s float64) string {
		return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":0,"stamina":50}}`, s)
	})
	m.every(1, 1, 6, 0.05, func(s float64) string { return position("dog/a", s-0.1, 0) })
	m.every(2, 1, 6, 0.05, func(s float64) string {
		return fmt.Sprintf(`"state":{"dog/a":{"x":%.3f,"y":0,"stamina":50}}`, s-0.1)
	})
	v := m.judge()
	assert.Equal(t, InSync, v.Outcome)
	var told []string
	for _, w := range v.Warnings {
		if w.View != "" {
			told = append(told, w.Text)
		}
	}
	assert.Equal(t, []string{"fern never tells stamina of any */* that it shows, so the watch rule for it was asked of nothing there"}, told)
}
