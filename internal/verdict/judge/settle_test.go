package judge

import (
	"encoding/json"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// That most values are explained at the age of the last one, and the latest moment that explains
// them looked for only when something follows from it, changes no verdict.
func TestLookingOnceSaysWhatLookingEachTimeSays(t *testing.T) {
	findings := 0
	rapid.Check(t, func(t *rapid.T) {
		unit := rapid.Float64Range(0, 1)
		rule := rulebook.Rule{Entities: "dog/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.3, MaxDelay: 300 * ms, MinDuration: 200 * ms, Grace: 100 * ms}
		if rapid.Bool().Draw(t, "ahead") {
			rule.MaxAhead = 150 * ms
		}
		turns := rulebook.Rule{Entities: "dog/*", Fields: []string{"heading"}, Compare: rulebook.Angle, Circle: 360, Tolerance: 4, MaxDelay: 300 * ms, MinDuration: 200 * ms, Grace: 100 * ms}
		outcomes := rapid.Bool().Draw(t, "outcomes")
		names := trace.NewNames()
		dog, x, y, heading := names.Entity("dog/a"), names.Field("x"), names.Field("y"), names.Field("heading")
		speed, turn := 1+8*unit.Draw(t, "speed"), 0.3+2*unit.Draw(t, "turn")
		where := func(at float64) (float64, float64, float64) { // with rests
			at -= 0.4 * math.Floor(at/3)
			return speed * math.Sin(at*turn), speed * math.Cos(at*turn*0.7), math.Mod(at*40, 360)
		}
		state := func(at float64) []trace.Change {
			a, b, c := where(at)
			return []trace.Change{{Entity: dog, Field: x, Value: trace.Number(a)}, {Entity: dog, Field: y, Value: trace.Number(b)}, {Entity: dog, Field: heading, Value: trace.Number(c)}}
		}
		type told struct {
			view   int
			record trace.Record
			packet *link.Packet
		}
		var lines []told
		lag, jitter := 0.05+0.4*unit.Draw(t, "lag"), 0.2*unit.Draw(t, "jitter")
		frozen := rapid.SampledFrom([]float64{99, 3, 5}).Draw(t, "frozen")
		tells, shows := 0.03+0.2*unit.Draw(t, "tells"), 0.016+0.08*unit.Draw(t, "shows")
		nextServer, nextView, n := 0.0, 0.3, uint64(0)
		for at := 0.0; at < 8; at += 0.01 {
			when := time.Duration(at * 1e9)
			if at >= nextServer {
				nextServer = at + tells
				lines = append(lines, told{0, trace.Record{T: when, State: state(at)}, nil})
				if outcomes {
					n++
					p := link.Packet{Direction: link.Down, Outcome: link.Outcome{Number: n, Sent: when, Size: 80, Copies: 1}}
					p.Arrives[0] = when + time.Duration((lag/2+jitter*unit.Draw(t, "delay"))*1e9)
					if unit.Draw(t, "lost") < 0.1 {
						p.Copies, p.Dropped = 0, link.Lost
					}
					lines = append(lines, told{1, trace.Record{T: when}, &p})
				}
			}
			if at >= nextView {
				nextView = at + shows
				behind := at - lag - jitter*unit.Draw(t, "late")
				if at > frozen && at < frozen+1.5 {
					behind = frozen
				}
				lines = append(lines, told{1, trace.Record{T: when, State: state(behind)}, nil})
			}
		}
		var verdicts [2]string
		for i := range verdicts {
			j := New(Config{Names: names, Rules: rulebook.Rules{Fields: []rulebook.Rule{rule, turns}}, Views: []string{"server", "fern"}, Outcomes: outcomes})
			j.thorough = i == 1
			for k := range lines {
				if l := &lines[k]; l.packet != nil {
					j.Packet(l.view, *l.packet)
				} else {
					j.Record(l.view, &l.record)
				}
			}
			v := j.Finish()
			findings += len(v.Findings)
			text, err := json.Marshal(v)
			require.NoError(t, err)
			verdicts[i] = string(text)
		}
		assert.Equal(t, verdicts[1], verdicts[0])
	})
	assert.Positive(t, findings, "some were out of sync")
}
