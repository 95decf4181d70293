package match

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

const watched = `
duration: 10s
seed: 4
game: {faults: [once-unreliable]}
links: {moor: {latency: 40ms, jitter: 10ms, loss: 10%}}
bots: [{name: fern, link: moor}, {name: moss, link: moor, steps: [{do: join, at: 1s}, {do: roam}]}]
`

func parsed(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	return p
}

// What bots did, done again by a script, is the same match, without a bot drawing anything.
func TestAMatchWithItsScriptIsTheSame(t *testing.T) {
	p := parsed(t, watched)
	script := map[string][]bot.Moment{}
	first, err := Run(context.Background(), p, Options{Acted: func(name string, m bot.Moment) { script[name] = append(script[name], m) }})
	require.NoError(t, err)
	require.Len(t, script, 2)
	assert.True(t, script["fern"][0].Join)
	assert.GreaterOrEqual(t, script["moss"][0].At, time.Second)
	for i := range p.Bots {
		p.Bots[i].Steps = []bot.Step{{Do: bot.Join, At: time.Hour}} // nobody asks
	}
	second, err := Run(context.Background(), p, Options{Script: script})
	require.NoError(t, err)
	assert.Equal(t, string(first.Findings), string(second.Findings))
	script["moss"] = nil // a script in which nothing is done
	third, err := Run(context.Background(), p, Options{Script: script})
	require.NoError(t, err)
	assert.Equal(t, []Absent{{Name: "moss"}}, third.NeverIn)
}

func TestAMatchIsCutOff(t *testing.T) {
	p := parsed(t, watched)
	folder := t.TempDir() + "/run"
	r, err := Run(context.Background(), p, Options{Until: 4 * time.Second, Folder: folder})
	require.NoError(t, err)
	assert.Equal(t, 4*time.Second, r.Played)
	assert.Equal(t, ending.Stopped, r.Ending.How)
	whole, err := Run(context.Background(), p, Options{Until: time.Hour})
	require.NoError(t, err)
	assert.Equal(t, 10*time.Second, whole.Played)
	assert.Equal(t, ending.Complete, whole.Ending.How)
	var early []string
	for _, f := range whole.Verdict.Findings {
		if time.Duration(f.BeganAt) < 2*time.Second {
			early = append(early, f.Signature)
		}
	}
	for _, f := range r.Verdict.Findings {
		if time.Duration(f.BeganAt) < 2*time.Second {
			require.NotEmpty(t, early)
			assert.Equal(t, early[0], f.Signature, "what was found until then is found")
			early = early[1:]
		}
	}
	assert.Empty(t, early)
}

// Every packet is told of with its outcome, as the run folder has it, and with what it
// carries.
func TestPacketsAreToldOf(t *testing.T) {
	p := parsed(t, watched)
	number := map[string]uint64{}
	lost := 0
	r, err := Run(context.Background(), p, Options{Packet: func(packet Packet) {
		way := fmt.Sprint(packet.Link, packet.Direction)
		number[way]++
		assert.Equal(t, number[way], packet.Number)
		if packet.Copies == 0 {
			lost++
			assert.NotEmpty(t, packet.Describe())
		}
	}})
	require.NoError(t, err)
	require.Len(t, number, 4)
	told := 0
	for _, v := range r.Measures.Views {
		told += v.Up.Lost + v.Down.Lost
		assert.Equal(t, number[v.Name+"up"], uint64(v.Up.Packets))
		assert.InDelta(t, 40, v.Down.Delay, 5, "ms, on average")
	}
	assert.Equal(t, told, lost)
}

// A packet that is given its outcome in a plan has it in a match, and the match is the same
// up to then.
func TestAGivenOutcomeInAMatch(t *testing.T) {
	p := parsed(t, `
duration: 8s
game: {faults: [once-unreliable]}
bots: [{name: fern, link: odd}, {name: moss, steps: [{do: join}, {do: press, input: bark, at: 3s}]}]
links: {odd: {down: {}}}
`)
	clean, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	assert.Equal(t, judge.InSync, clean.Verdict.Outcome)
	barked := uint64(0)
	_, err = Run(context.Background(), p, Options{Silent: true, Packet: func(packet Packet) {
		if packet.Link == "fern" && packet.Direction == link.Down && barked == 0 && packet.Sent > 3*time.Second && len(packet.Describe()) > 0 && packet.Describe()[:9] == "said once" {
			barked = packet.Number
		}
	}})
	require.NoError(t, err)
	require.NotZero(t, barked)
	p.Links[0].Down.Given = []link.Given{{Number: barked, Dropped: link.Lost}}
	r, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	require.Len(t, r.Verdict.Findings, 1)
	assert.Equal(t, judge.EventLost, r.Verdict.Findings[0].Kind)
	assert.Equal(t, "fern", r.Verdict.Findings[0].View)
	p.Links[0].Down.Given[0].Number++
	r, err = Run(context.Background(), p, Options{})
	require.NoError(t, err)
	assert.Equal(t, judge.InSync, r.Verdict.Outcome, "the next one does not matter")
}
