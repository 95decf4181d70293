package cluster_test

import (
	"context"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
)

// A worker on Windows plays the same matches, to the last digit. ZWHEEL_WINDOWS is the program for it, which wine runs.
func TestAWorkerOnWindowsPlaysTheSame(t *testing.T) {
	program := os.Getenv("ZWHEEL_WINDOWS")
	if program == "" {
		t.Skip("there is no program for Windows, or nothing to run it")
	}
	h := newHouse(t)
	worker := exec.Command("wine", program, "worker", "--join", h.url, "--name", "win", "--slots", "2", "--folder", t.TempDir())
	worker.Stdout, worker.Stderr = os.Stdout, os.Stderr
	require.NoError(t, worker.Start())
	t.Cleanup(func() { worker.Process.Kill(); worker.Wait() })
	p := parse(t, `title: windows
duration: 14s
game: {faults: [once-unreliable]}
links: {moor: {latency: 40ms, loss: 10%}}
bots: [{name: fern, link: moor}, {name: moss}, {name: oak}]
`)
	c := h.crew(cluster.Asked{Campaign: "windows"})
	defer c.Close(h.ctx, true)
	found := 0
	for i, there := range all(t, c, p, 20) {
		one := *p
		one.Seed = uint64(i)
		here, err := played.Here{}.Play(context.Background(), &one)
		require.NoError(t, err)
		assert.Equal(t, here, there)
		found += len(here.Found)
	}
	assert.NotZero(t, found)
	assert.Equal(t, map[string]int{"win": 20}, c.Summary().By)
}
