package suggest

import (
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/verdict/rulebook"
)

// match writes the traces of a match in which a kite flies in a circle, and a view shows it as
// shown says.
func match(t *testing.T, shown func(t float64) (x, y float64)) feed.Traces {
	t.Helper()
	folder := t.TempDir()
	var server, view strings.Builder
	fmt.Fprintln(&view, `{"t":0,"joined":"fern"}`)
	for i := range 400 {
		at := float64(i) * 0.05
		x, y := flies(at)
		fmt.Fprintf(&server, `{"t":%.3f,"full":true,"state":{"kite/a":{"x":%.3f,"y":%.3f}}}`+"\n", at, x, y)
		x, y = shown(at + 0.01)
		fmt.Fprintf(&view, `{"t":%.3f,"full":true,"state":{"kite/a":{"x":%.3f,"y":%.3f}}}`+"\n", at+0.01, x, y)
	}
	traces := feed.Traces{Align: feed.Shared, Rules: rulebook.Rules{Fields: []rulebook.Rule{{Entities: "kite/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.1,
		MaxDelay: 250 * time.Millisecond, MinDuration: 500 * time.Millisecond, SeenBy: rulebook.Everyone}}}}
	for name, text := range map[string]string{"server": server.String(), "fern": view.String()} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".jsonl"), []byte(text), 0o600))
	}
	for _, name := range []string{"server", "fern"} {
		traces.Sources = append(traces.Sources, feed.Source{View: name, Path: filepath.Join(folder, name+".jsonl")})
	}
	return traces
}

func flies(t float64) (x, y float64) {
	t = max(t, 0)
	return 10*math.Cos(t) + t/3, 10*math.Sin(t) + t/7
}

func late(by float64) func(float64) (float64, float64) {
	return func(t float64) (float64, float64) { return flies(t - by) }
}

func ask(t *testing.T, traces feed.Traces, others ...Other) *Advice {
	t.Helper()
	a, err := For(context.Background(), traces, others)
	require.NoError(t, err)
	return a
}

func TestWhatIsLateAsksForMoreDelay(t *testing.T) {
	a := ask(t, match(t, late(0.8)), Other{"late elsewhere", match(t, late(0.5))}, Other{"frozen", match(t, func(t float64) (float64, float64) { return flies(min(t, 5)) })})
	require.NotEmpty(t, a.Changes)
	c := a.Changes[0]
	assert.Equal(t, "kite/* x, y", c.Rule)
	assert.Equal(t, "max-delay", c.Knob)
	assert.Equal(t, "250ms", c.From)
	to, err := time.ParseDuration(c.To)
	require.NoError(t, err)
	assert.InDelta(t, 0.8, to.Seconds(), 0.06)
	assert.Len(t, c.Explains, c.Of)
	assert.Empty(t, a.Left)
	assert.True(t, a.InSync)
	require.Len(t, a.Hides, 1, "what is late elsewhere, and not what is frozen")
	assert.Equal(t, "late elsewhere", a.Hides[0].Run)
}

func TestWhatIsOffAsksForMoreTolerance(t *testing.T) {
	a := ask(t, match(t, func(t float64) (float64, float64) {
		x, y := flies(t - 0.1)
		return x + 0.3*math.Cos(t), y + 0.3*math.Sin(t) // outside of the circle, where no moment is nearer
	}))
	require.NotEmpty(t, a.Changes)
	assert.Equal(t, "tolerance", a.Changes[0].Knob)
	var to float64
	_, err := fmt.Sscan(a.Changes[0].To, &to)
	require.NoError(t, err)
	assert.InDelta(t, 0.3, to, 0.05)
	assert.True(t, a.InSync)
}

func TestNoKnobExplainsAMistake(t *testing.T) {
	a := ask(t, match(t, func(t float64) (float64, float64) {
		x, y := flies(t - 0.1)
		return -3*x + 100, y - 70
	}))
	assert.Equal(t, 1, a.Findings)
	assert.Equal(t, []string{"F1"}, a.Left)
	assert.False(t, a.InSync)
}

func TestOfAHealthyMatchThereIsNothingToChange(t *testing.T) {
	a := ask(t, match(t, late(0.1)))
	assert.Equal(t, 0, a.Findings)
	assert.Empty(t, a.Changes)
	assert.True(t, a.InSync)
}

// bells writes the traces of a match in which a bell rings every second, and a view hears it so much
// later.
func bells(t *testing.T, later time.Duration) feed.Traces {
	t.Helper()
	folder := t.TempDir()
	var server, view strings.Builder
	fmt.Fprintln(&view, `{"t":0,"joined":"fern"}`)
	for i := range 20 {
		at := float64(i) + 0.5
		fmt.Fprintf(&server, `{"t":%.3f,"event":"ring","id":"%d"}`+"\n", at, i)
		fmt.Fprintf(&view, `{"t":%.3f,"event":"ring","id":"%d"}`+"\n", at+later.Seconds(), i)
	}
	for name, text := range map[string]string{"server": server.String(), "fern": view.String()} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".jsonl"), []byte(text), 0o600))
	}
	traces := feed.Traces{Align: feed.Shared, Rules: rulebook.Rules{Events: []rulebook.EventRule{{Event: "ri*", MaxDelay: 200 * time.Millisecond, MinDuration: 100 * time.Millisecond}}}}
	for _, name := range []string{"server", "fern"} {
		traces.Sources = append(traces.Sources, feed.Source{View: name, Path: filepath.Join(folder, name+".jsonl")})
	}
	return traces
}

func TestWhatComesLateAsksForMoreDelayOfItsEvent(t *testing.T) {
	a := ask(t, bells(t, 700*time.Millisecond))
	require.NotEmpty(t, a.Changes)
	c := a.Changes[0]
	assert.Equal(t, "event ri*", c.Rule)
	assert.Equal(t, "max-delay", c.Knob)
	to, err := time.ParseDuration(c.To)
	require.NoError(t, err)
	assert.InDelta(t, 0.65, to.Seconds(), 0.15)
	assert.Len(t, c.Explains, c.Of)
	assert.True(t, a.InSync)

	healthy := ask(t, bells(t, 100*time.Millisecond))
	assert.Zero(t, healthy.Findings)
}

func TestWhatIsSuggestedIsRoundedUp(t *testing.T) {
	for v, want := range map[float64]string{0.30001: "0.301", 2: "2", 1234: "1240", 0.0012345: "0.00124", 99.95: "100"} {
		assert.Equal(t, want, upTo3(v), "%v", v)
	}
}
