package view

import (
	"context"
	"math"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

func read(t *testing.T, text string) *Review {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	r, err := Read(context.Background(), folder)
	require.NoError(t, err)
	return r
}

func TestAReviewHasWhatHappened(t *testing.T) {
	r := read(t, `
duration: 20s
seed: 31
game: {faults: [kept-to-itself]}
links: {moor: {latency: 40ms, outages: [{at: 8s, for: 2s}, {at: 18s, for: 2s}]}}
bots: [{name: fern, link: moor}, {name: moss, steps: [{do: join, at: 3s}, {do: roam}, {do: leave, at: 12s}, {do: rejoin, at: 15s}, {do: roam}]}]
`)
	assert.InDelta(t, 20, r.Length.Seconds(), 0.2)
	require.Len(t, r.Lanes, 3)
	fern, moss := r.Lanes[1], r.Lanes[2]
	require.Len(t, moss.In, 2, "it came twice")
	assert.InDelta(t, 3, moss.In[0].From.Seconds(), 0.3)
	assert.InDelta(t, 12, moss.In[0].Until.Seconds(), 0.1)
	require.NotEmpty(t, fern.Outages)
	assert.InDelta(t, 8, fern.Outages[0].From.Seconds(), 0.2)
	assert.InDelta(t, 18, fern.Outages[len(fern.Outages)-1].From.Seconds(), 0.2, "also one that lasts to the end")
	assert.NotEmpty(t, fern.Apart)
	assert.Len(t, fern.Corrections, r.Measures.Views[0].Corrections.Count)
	assert.InDelta(t, 20, float64(len(fern.Down)), 1)

	require.NotEmpty(t, r.Curves)
	c := r.Curves[0]
	assert.Equal(t, r.Verdict.Incidents[0].Head, c.Finding.ID, "heads come first")
	require.Len(t, c.Fields, 1)
	assert.Equal(t, "stamina", c.Fields[0].Name)
	assert.Positive(t, c.Within)
	assert.NotEmpty(t, c.Packets)
	least := math.Inf(1)
	for i, at := range c.Fields[0].View.T {
		assert.GreaterOrEqual(t, at, c.From)
		assert.LessOrEqual(t, at, c.Until)
		least = min(least, c.Fields[0].View.V[i])
	}
	assert.Less(t, least, 90.0)
	assert.Equal(t, 100.0, c.Fields[0].Reference.V[len(c.Fields[0].Reference.V)-1], "the server has none of it")

	require.NotNil(t, r.World)
	assert.Contains(t, r.World.Entities, "dog/fern")
	assert.NotContains(t, r.World.Entities, "round/first", "it is nowhere")
}

func TestAGhostIsThereOnOneSideOnly(t *testing.T) {
	r := read(t, `
duration: 14s
game: {faults: [lost-goodbye]}
links: {cut: {outages: [{at: 5s, for: 600ms}]}}
bots: [{name: fern, link: cut}, {name: moss, steps: [{do: join}, {do: leave, at: 5200ms}]}]
`)
	require.NotEmpty(t, r.Curves)
	c := r.Curves[0]
	assert.Equal(t, "dog/moss", c.Finding.Entity)
	last := func(s Series) string { return s.Texts[len(s.Texts)-1] }
	assert.Equal(t, "present", last(c.Fields[0].View))
	assert.Equal(t, "absent", last(c.Fields[0].Reference))
	assert.Contains(t, c.Lines[0].Text, "left: moss")
}

func TestWhatIsNoRunIsSaid(t *testing.T) {
	_, err := Read(context.Background(), t.TempDir())
	assert.ErrorContains(t, err, "this is not a run folder")
}

// However an entity goes, what is kept of its way is never farther off than is said.
func TestThinningKeepsTheWay(t *testing.T) {
	rules := rulebook.Rules{Fields: []rulebook.Rule{{Entities: "*/*", Fields: []string{"x", "y", "z"}, Compare: rulebook.Distance}}}
	rapid.Check(t, func(t *rapid.T) {
		names := trace.NewNames()
		w := newWays(names, []string{"server"}, rules)
		e, x, z := names.Entity("dog/fern"), names.Field("x"), names.Field("z")
		var way []Point
		at := Point{}
		for range rapid.IntRange(1, 300).Draw(t, "steps") {
			at.T += time.Duration(rapid.IntRange(1, 100).Draw(t, "dt")) * time.Millisecond
			if rapid.IntRange(0, 3).Draw(t, "turns") == 0 {
				at.X += rapid.Float64Range(-1, 1).Draw(t, "dx")
				at.Y += rapid.Float64Range(-1, 1).Draw(t, "dy")
			}
			way = append(way, at)
			w.take(0, &trace.Record{T: at.T, State: []trace.Change{{Entity: e, Field: x, Value: trace.Number(at.X)}, {Entity: e, Field: z, Value: trace.Number(at.Y)}}})
		}
		world := w.world()
		require.Len(t, world.Tracks, 1)
		kept := world.Tracks[0].Points
		require.LessOrEqual(t, len(kept), len(way))
		i := 0
		for _, p := range way {
			for i+1 < len(kept) && kept[i+1].T <= p.T {
				i++
			}
			off := math.Hypot(kept[i].X-p.X, kept[i].Y-p.Y)
			if i+1 < len(kept) {
				require.True(t, onLine(kept[i], kept[i+1], []Point{p}, thinnedAtFirst+1e-9))
				continue
			}
			require.LessOrEqual(t, off, 1e-9)
		}
	})
}

func TestAWorldThatIsTooLargeIsThinnedMore(t *testing.T) {
	track := Track{}
	for i := range 10_000 {
		track.Points = append(track.Points, Point{T: time.Duration(i) * time.Millisecond, X: math.Sin(float64(i) / 50), Y: math.Cos(float64(i) / 50)})
	}
	first, last := track.Points[0], track.Points[9999]
	track.thin(0.05)
	assert.Less(t, len(track.Points), 1000)
	assert.Equal(t, first, track.Points[0])
	assert.Equal(t, last, track.Points[len(track.Points)-1])
}
