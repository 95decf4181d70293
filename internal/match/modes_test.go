package match

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// playText plays a plan without recording it.
func playText(t *testing.T, text string) *Result {
	p, err := plan.Parse("plan.yaml", []byte(text))
	require.NoError(t, err)
	r, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	return r
}

func kinds(v *judge.Verdict) (list []judge.Kind) {
	for _, f := range v.Findings {
		list = append(list, f.Kind)
	}
	return list
}

// A healthy match is in sync in every mode that the game has.
func TestHealthyMatchesInEveryMode(t *testing.T) {
	for name, text := range map[string]string{
		"a host among the players":       "game: {host: fern}\nbots: [{name: fern, link: far-shore}, {name: moss, link: hill-farm}, {name: oak, link: hill-farm}]\n",
		"a small reach":                  "game: {interest-radius: 25}\nbots: [{name: fern, link: hill-farm}, {name: moss, link: hill-farm}, {name: oak, link: village}]\n",
		"few places":                     "game: {max-players: 2}\nbots: [{name: fern, link: village}, {name: moss, link: village}, {name: oak, link: village, steps: [{do: join, at: 5s}, {do: roam}]}]\n",
		"snapshots once a second":        "game: {rates: {send: 1}}\nbots: [{name: fern, link: village}, {name: moss, link: same-room}]\n",
		"frames of every rate":           "bots: [{name: fern, fps: 30, link: hill-farm}, {name: moss, fps: 240, link: hill-farm}, {name: oak, fps: 97, link: hill-farm}]\n",
		"a fast server":                  "game: {rates: {tick: 120, send: 60}}\nbots: [{name: fern, link: hill-farm}, {name: moss, link: hill-farm}]\n",
		"cheats that the server refuses": "bots:\n  - {name: fern, link: village, steps: [{do: join}, {do: roam, for: 3s}, {do: cheat, sets: [place, stamina], to: [30, 30]}, {do: cheat, sets: speed, for: 3s}, {do: roam}]}\n  - {name: moss, link: village}\n",
		"the worst of links":             "bots: [{name: fern, link: lost-valley}, {name: moss, link: lost-valley}]\n",
		"packets twice and out of order": "links: {mud: {latency: 60ms, jitter: 50ms, reorder: true, duplicate: 20%}}\nbots: [{name: fern, link: mud}, {name: moss, link: mud}]\n",
		"a bot as the reference":         "reference: fern\nbots: [{name: fern, link: same-room}, {name: moss, link: village}, {name: oak, link: village}]\n",
		"no reference at all":            "reference: none\nbots: [{name: fern, link: same-room}, {name: moss, link: village}, {name: oak, link: village}]\n",
		"a crowd":                        "game: {population: 60}\nbots: [{name: dog, count: 14, link: village}]\n",
	} {
		t.Run(name, func(t *testing.T) {
			r := playText(t, "duration: 15s\n"+text)
			assert.Equal(t, judge.InSync, r.Verdict.Outcome, "%v", kinds(r.Verdict))
			assert.Zero(t, r.Malformed)
			assert.Empty(t, r.NeverIn)
			assert.Greater(t, r.Verdict.Comparisons, 5000)
		})
	}
}

func TestTheHostHearsAtOnce(t *testing.T) {
	r := playText(t, "duration: 15s\ngame: {host: fern}\nbots: [{name: fern, link: far-shore}, {name: moss, link: far-shore}]\n")
	host, guest := r.Measures.Views[0], r.Measures.Views[1]
	assert.Zero(t, host.Down.Lost)
	assert.Greater(t, guest.Down.Lost, 0)
	assert.Less(t, host.Age.Median+150, guest.Age.Median)
}

func TestARefusedBotIsNotOneThatNeverGotIn(t *testing.T) {
	r := playText(t, "duration: 10s\ngame: {max-players: 1}\nbots: [{name: fern}, {name: moss, steps: [{do: join, at: 3s}, {do: roam}]}]\n")
	assert.Equal(t, []string{"moss"}, r.Refused)
	assert.Empty(t, r.NeverIn)
}

func TestALimitThatIsBrokenIsAFinding(t *testing.T) {
	r := playText(t, "duration: 12s\nlimits: {age-p95-ms: 50, down-bytes-per-second: 100000}\nbots: [{name: fern, link: hill-farm}, {name: moss, link: same-room}]\n")
	assert.Equal(t, judge.OutOfSync, r.Verdict.Outcome)
	for _, f := range r.Verdict.Findings {
		assert.Equal(t, judge.OverLimit, f.Kind)
		assert.Equal(t, "age-p95-ms", f.Subject.Name)
	}
	assert.Equal(t, "F1", r.Verdict.Incidents[0].Head)
}

func TestEventsAndMeasuresAreTold(t *testing.T) {
	r := playText(t, "duration: 20s\nbots: [{name: fern, link: hill-farm}, {name: moss, link: hill-farm}]\n")
	byName := map[string]*judge.EventReport{}
	for _, e := range r.Verdict.Events {
		byName[e.Event] = e
	}
	bark := byName["bark"]
	require.NotNil(t, bark)
	assert.Greater(t, bark.Sent, 2)
	for _, cell := range bark.Views {
		assert.Equal(t, cell.Expected, cell.Seen)
		assert.Zero(t, cell.Lost+cell.Late+cell.Repeated+cell.Misordered+cell.Misplaced)
	}
	v := r.Measures.Views[0]
	assert.InDelta(t, 200, v.Age.Median, 60, "latency, playback and half an interval")
	assert.Less(t, v.ClockError.P95, 40.0)
	assert.Greater(t, v.Down.BytesPerSecond, 1000.0)
	assert.Greater(t, r.Measures.Server.Sent["snapshots"].BytesPerSecond, v.Sent["inputs"].BytesPerSecond)
}

// A witness is no part of the match: what is recorded is the same without it.
func TestAWitnessChangesNothing(t *testing.T) {
	p := trialPlan(t, 3, "lost-goodbye", "far-shore")
	alone, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	w := hillfold.NewWitness(hillfold.LostGoodbye)
	watched, err := Run(context.Background(), p, Options{Look: w.Look})
	require.NoError(t, err)
	assert.Equal(t, string(alone.Findings), string(watched.Findings))
	assert.Equal(t, alone.Measures, watched.Measures)
	assert.Equal(t, len(alone.Verdict.Findings) > 0, w.Showed())
}

func TestTheSeedDecides(t *testing.T) {
	a := playText(t, "duration: 5s\nseed: 1\nbots: [{name: fern}, {name: moss}]\n")
	b := playText(t, "duration: 5s\nseed: 1\nbots: [{name: fern}, {name: moss}]\n")
	c := playText(t, "duration: 5s\nseed: 2\nbots: [{name: fern}, {name: moss}]\n")
	assert.Equal(t, a.Measures, b.Measures)
	assert.NotEqual(t, a.Verdict.Comparisons, c.Verdict.Comparisons)
	assert.Equal(t, 5*time.Second, a.Played)
}
