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

// On the wall clock each packet has the outcome of the one that was recorded that it is most like,
// whatever the processes do in the meantime.
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
		assert.Greater(t, 2*w.Like, min(w.Recorded, w.Played), "%s %s: most are like one that was recorded, also where the machine is busy", w.Link, w.Direction)
		assert.Equal(t, w.Like, w.LikeOutcomes, "%s %s: these fare as recorded", w.Link, w.Direction)
	}
	again, err := os.ReadFile(filepath.Join(followed.Replay, "about.json"))
	require.NoError(t, err)
	assert.Contains(t, string(again), `"complete"`)
	assert.Equal(t, 1, lab.Replays())
}

// alwaysWrong is a match in which x is wrong west of the middle, on perfect links.
const alwaysWrong = `
duration: 3s
clock: wall
game: {faults: [narrow-numbers]}
bots: [{name: fern}, {name: moss}]
`

// A variant on the wall clock has a finding if one of its matches shows it, and has it not after so
// many without it that it would have shown.
func TestOnTheWallClockItTakesSeveral(t *testing.T) {
	if testing.Short() {
		t.Skip("with the race detector all is too slow to be right in time")
	}
	r := replay.Record(t, alwaysWrong)
	f := replay.Head(t, r)
	lab := &replay.Lab{}
	repeats, err := replay.Repeat(lab, context.Background(), r.Same(), replay.Target{Signature: f.Signature})
	require.NoError(t, err)
	assert.Equal(t, replay.Repeats{Shown: 4, Of: 4}, repeats, "x is wrong west of the middle, always; two at a time until three have shown it")
	there, err := replay.Shows(lab, context.Background(), r.Same(), replay.Target{Signature: f.Signature})
	require.NoError(t, err)
	assert.True(t, there)
	assert.Equal(t, 6, lab.Replays())
	there, err = replay.Shows(lab, context.Background(), r.Same(), replay.Target{Signature: "ghost: dog (other player's view)"})
	require.NoError(t, err)
	assert.False(t, there)
}

func TestHowManyMatchesWithoutAFindingSayThatItIsGone(t *testing.T) {
	for _, c := range []struct {
		repeats replay.Repeats
		misses  int
	}{
		{replay.Repeats{Shown: 3, Of: 3}, 2},
		{replay.Repeats{Shown: 3, Of: 5}, 4},
		{replay.Repeats{Shown: 3, Of: 10}, 8},
		{replay.Repeats{Shown: 1, Of: 12}, 25},
	} {
		assert.Equal(t, c.misses, c.repeats.Misses(), "%s", c.repeats)
	}
	err := &replay.UnsureError{Repeats: replay.Repeats{Shown: 1, Of: 12}, Played: 12}
	assert.EqualError(t, err, "it cannot be told with 12 matches of each variant: the recorded match shows the finding in only 1 of 12 repeats, so that it is gone takes 25 without it")
}

// On links that lose nothing and take no time the network is never blamed.
func TestOnPerfectLinksTheNetworkIsNotBlamed(t *testing.T) {
	if testing.Short() {
		t.Skip("with the race detector all is too slow to be right in time")
	}
	r := replay.Record(t, alwaysWrong)
	w, err := r.Why(context.Background(), &replay.Lab{}, replay.Head(t, r))
	require.NoError(t, err)
	assert.Empty(t, w.Packets)
	assert.Contains(t, w.Proved, "so the network plays no part in it.")
	require.NotNil(t, w.Repeats)
	assert.Equal(t, w.Repeats.Shown, w.Repeats.Of, "it is wrong always")
	assert.Equal(t, 2, w.Misses)
}
