package cluster_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever is killed, and when: nothing is lost, nothing counts twice, and the result is to the byte that of one machine.
func TestWhoeverIsKilledEachMatchCountsOnce(t *testing.T) {
	if testing.Short() {
		t.Skip("it plays hundreds of matches in processes that are killed")
	}
	const matches, seed = 500, 7
	folder := t.TempDir()
	program := filepath.Join(folder, "zwheel")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/zwheel").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "plan.yaml"), []byte(`title: short
duration: 12s
game: {faults: [lost-goodbye]}
links: {bad: {latency: 60ms, jitter: 20ms, loss: 8%}}
bots:
  - {name: fern, link: bad}
  - {name: moss, link: bad, steps: [{do: join}, {do: roam}, {do: leave, at: 6s}]}
  - {name: oak, link: bad}
`), 0o644))
	url := "nats://127.0.0.1:" + freePort(t)
	start := func(args ...string) *exec.Cmd {
		c := exec.Command(program, args...)
		c.Dir = folder
		log, err := os.OpenFile(filepath.Join(folder, args[0]+".log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		c.Stdout, c.Stderr = log, log
		require.NoError(t, c.Start())
		log.Close()
		return c
	}
	kill := func(c *exec.Cmd) { c.Process.Kill(); c.Wait() }
	hub := func() *exec.Cmd { return start("hub", "--listen", strings.TrimPrefix(url, "nats://")) }
	made := 0
	worker := func() *exec.Cmd {
		made++
		return start("worker", "--join", url, "--name", fmt.Sprintf("w%d", made), "--slots", "1", "--as-root", "--folder", fmt.Sprintf("worker-%d", made))
	}
	asker := func(resume ...string) *exec.Cmd {
		return start(append([]string{"hunt", "plan.yaml", "--times", fmt.Sprint(matches), "--on", url, "--campaign", "night", "--out", "away"}, resume...)...)
	}
	draw := rand.New(rand.NewPCG(seed, seed))
	h := hub()
	workers := []*exec.Cmd{worker(), worker()}
	time.Sleep(time.Second)
	a := asker()
	ended := make(chan *os.ProcessState)
	watch := func(c *exec.Cmd) { go func() { c.Wait(); ended <- c.ProcessState }() }
	watch(a)
	killed := map[string]int{}
	for began, done := time.Now(), false; !done; {
		require.Less(t, time.Since(began), 5*time.Minute, "it does not end")
		select {
		case state := <-ended:
			switch code := state.ExitCode(); {
			case code == 0 || code == 1:
				done = true
			default: // killed, or it came to a hub that was not there
				a = asker("--resume")
				watch(a)
			}
			continue
		case <-time.After(time.Duration(500+draw.IntN(2000)) * time.Millisecond):
		}
		switch what := draw.IntN(100); {
		case what < 40:
			i := draw.IntN(len(workers))
			kill(workers[i])
			workers[i] = worker()
			killed["worker"]++
		case what < 48:
			kill(h)
			time.Sleep(time.Duration(draw.IntN(700)) * time.Millisecond)
			h = hub()
			killed["hub"]++
		case what < 60:
			a.Process.Kill()
			killed["asker"]++
		}
	}
	for _, c := range append(workers, h) {
		kill(c)
	}
	t.Logf("killed: %v", killed)
	here := exec.Command(program, "hunt", "plan.yaml", "--times", fmt.Sprint(matches), "--out", "here")
	here.Dir = folder
	here.Run() // it exits with 1
	away, err := os.ReadFile(filepath.Join(folder, "away", "hunt.json"))
	require.NoError(t, err)
	want, err := os.ReadFile(filepath.Join(folder, "here", "hunt.json"))
	require.NoError(t, err)
	assert.Equal(t, strings.ReplaceAll(string(want), `"here/`, `"away/`), string(away))
	var r struct{ Matches int }
	require.NoError(t, json.Unmarshal(away, &r))
	assert.Equal(t, matches, r.Matches)
	log, err := os.ReadFile(filepath.Join(folder, "hunt.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), "ALARM")
}

func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}
