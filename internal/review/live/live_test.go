package live_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/live"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

const ms = time.Millisecond

var rules = rulebook.Rules{Fields: []rulebook.Rule{{Entities: "dog/*", Fields: []string{"x"}, Compare: rulebook.Distance, Tolerance: 0.1, MaxDelay: 200 * ms, MinDuration: 300 * ms}}}

// writing is a trace that grows.
type writing struct {
	t *testing.T
	*os.File
}

func (w writing) say(format string, args ...any) {
	_, err := fmt.Fprintf(w, format, args...)
	require.NoError(w.t, err)
}

func TestAFindingIsToldWhileTracesAreWritten(t *testing.T) {
	dir := t.TempDir()
	create := func(name string) (writing, string) {
		path := filepath.Join(dir, name)
		f, err := os.Create(path)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return writing{t, f}, path
	}
	server, serverPath := create("server.jsonl")
	later := filepath.Join(dir, "fern.jsonl") // it is not there yet
	alerts := make(chan judge.Alert, 10)
	ctx, cancel := context.WithCancel(context.Background())
	finished := make(chan live.State)
	go func() {
		state, err := live.Run(ctx, live.Traces{Sources: []feed.Source{{View: "server", Path: serverPath}, {View: "fern", Path: later}}, Rules: rules, Alert: func(a judge.Alert) { alerts <- a }})
		assert.NoError(t, err)
		finished <- state
	}()
	server.say("{\"t\":0,\"state\":{\"dog/a\":{\"x\":0}}}\n")
	fern, _ := create("fern.jsonl")
	for i := 1; i < 120; i++ {
		at := float64(i) / 20
		server.say("{\"t\":%.3f,\"state\":{\"dog/a\":{\"x\":%.3f}}}\n", at, at)
		shown := at
		if i > 20 {
			shown = 1 // it stops
		}
		fern.say("log text\n{\"t\":%.3f,\"state\":", at) // a line may come in two pieces
		fern.say("{\"dog/a\":{\"x\":%.3f}}}\n", shown)
	}
	select {
	case a := <-alerts:
		assert.Equal(t, "fern", a.View)
		assert.Equal(t, "dog/a", a.Entity)
		assert.InDelta(t, 1.3, a.Began.Seconds(), 0.7, "or later, if its lines were late")
		assert.Less(t, a.At, 6*time.Second)
	case <-time.After(10 * time.Second):
		t.Fatal("nothing was told")
	}
	cancel()
	state := <-finished
	assert.Equal(t, 239, state.Lines)
	assert.Equal(t, 1, state.Findings)
}

// What is told live is what the verdict says in the end.
func TestWhatIsFollowedIsWhatIsJudged(t *testing.T) {
	for _, fault := range []string{"", "game: {faults: [narrow-numbers, kept-to-itself]}"} {
		p, err := plan.Parse("p.yaml", []byte("duration: 10s\nbots: [{name: fern, link: hill-farm}, {name: moss, link: village}]\n"+fault))
		require.NoError(t, err)
		folder := filepath.Join(t.TempDir(), "run")
		r, err := match.Run(context.Background(), p, match.Options{Folder: folder})
		require.NoError(t, err)
		run, err := run.Open(folder)
		require.NoError(t, err)
		traces := feed.Run(run, p)
		for i, s := range traces.Sources { // what is followed is plain
			traces.Sources[i].Path = unpacked(t, s.Path)
		}
		state, err := live.Run(context.Background(), live.Traces{Sources: traces.Sources, Packets: unpacked(t, traces.Packets), Rules: p.Rules, Ended: func() bool { return true }})
		require.NoError(t, err)
		assert.Equal(t, len(r.Verdict.Findings) > 0, state.Findings > 0)
		found := slices.DeleteFunc(slices.Clone(r.Verdict.Findings), func(f *judge.Finding) bool { return f.Kind == judge.Jerky }) // which is measured at the end
		assert.InDelta(t, len(found), state.Findings, 2, "the verdict puts some together")
	}
}

func unpacked(t *testing.T, path string) string {
	t.Helper()
	file, err := trace.Open(path)
	require.NoError(t, err)
	defer file.Close()
	out, err := os.Create(filepath.Join(t.TempDir(), "plain"))
	require.NoError(t, err)
	defer out.Close()
	_, err = io.Copy(out, file)
	require.NoError(t, err)
	return out.Name()
}

func TestMoreEntitiesThanAreAllowedEndIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "server.jsonl")
	require.NoError(t, os.WriteFile(path, []byte("{\"t\":0,\"state\":{\"dog/a\":{\"x\":0},\"dog/b\":{\"x\":0},\"dog/c\":{\"x\":0}}}\n"), 0o600))
	followed := func(most int) error {
		_, err := live.Run(t.Context(), live.Traces{Sources: []feed.Source{{View: "server", Path: path}}, Rules: rules, Entities: most, Ended: func() bool { return true }})
		return err
	}
	var tooMany *trace.TooManyError
	require.ErrorAs(t, followed(2), &tooMany)
	assert.Equal(t, 2, tooMany.Most)
	require.NoError(t, followed(3))
	require.NoError(t, followed(0))
}
