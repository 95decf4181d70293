package replay_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/demo/programs"
	"zitherwheel/internal/match"
)

// TestMain lets this program be the demo game's server and clients.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "hillfold" {
		c := programs.Command()
		c.SetArgs(os.Args[2:])
		if c.Execute() != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// On the wall clock the n-th packet of each direction has the outcome of the n-th that was
// recorded, whatever the processes do in the meantime.
func TestAMatchOnTheWallClockIsGivenItsOutcomesAgain(t *testing.T) {
	if testing.Short() {
		t.Skip("with the race detector all is too slow to be right in time")
	}
	r := replay.Record(t, `
duration: 4s
clock: wall
links: {moor: {latency: 30ms, jitter: 10ms, loss: 20%}}
bots: [{name: fern, link: moor}, {name: moss, link: moor, steps: [{do: join}, {do: hold, inputs: [forward], at: 1s}, {do: press, input: bark, at: 2s}]}]
`)
	assert.NotEmpty(t, r.Script["moss"], "what bots did is recorded")
	lab := &replay.Lab{}
	followed, result, err := r.Again(context.Background(), lab, filepath.Join(t.TempDir(), "again"), match.Options{})
	require.NoError(t, err)
	require.NotNil(t, result.Verdict, result.Ending.Why)
	require.Len(t, followed.Ways, 4)
	for _, w := range followed.Ways {
		assert.Greater(t, w.Recorded, 20, "%s %s", w.Link, w.Direction)
		assert.Equal(t, min(w.Recorded, w.Played), w.LikeOutcomes, "%s %s: all that have a number that was recorded fare as recorded", w.Link, w.Direction)
	}
	again, err := os.ReadFile(filepath.Join(followed.Replay, "about.json"))
	require.NoError(t, err)
	assert.Contains(t, string(again), `"complete"`)
	assert.Equal(t, 1, lab.Replays())
}

// A variant on the wall clock is played several times, and counts as showing a finding if
// enough of them do.
func TestOnTheWallClockItTakesSeveral(t *testing.T) {
	if testing.Short() {
		t.Skip("with the race detector all is too slow to be right in time")
	}
	r := replay.Record(t, `
duration: 3s
clock: wall
game: {faults: [narrow-numbers]}
bots: [{name: fern}, {name: moss}]
`)
	f := replay.Head(t, r)
	lab := &replay.Lab{Runs: 2, Needed: 2}
	there, err := replay.Shows(lab, context.Background(), r.Same(), replay.Target{Signature: f.Signature})
	require.NoError(t, err)
	assert.True(t, there, "x is wrong west of the middle, always")
	assert.Equal(t, 2, lab.Replays())
	there, err = replay.Shows(lab, context.Background(), r.Same(), replay.Target{Signature: "ghost: dog (other player's view)"})
	require.NoError(t, err)
	assert.False(t, there)
}
