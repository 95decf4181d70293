package cluster_test

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/metrics"
)

// machines are network namespaces, each with addresses of its own: the first is connected with each of the others, and
// has an address that all reach.
type machines struct {
	t     *testing.T
	names []string
}

func newMachines(t *testing.T, n int) *machines {
	t.Helper()
	if testing.Short() {
		t.Skip("it plays by the clock")
	}
	for _, tool := range []string{"ip", "node"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip("there is no " + tool)
		}
	}
	m := &machines{t: t}
	for i := range n {
		name := fmt.Sprintf("zw-%d-%d", os.Getpid(), i)
		if err := exec.Command("ip", "netns", "add", name).Run(); err != nil {
			t.Skip("networks of one's own are not allowed here")
		}
		t.Cleanup(func() { exec.Command("ip", "netns", "del", name).Run() })
		m.names = append(m.names, name)
		m.in(i, "ip", "link", "set", "lo", "up")
	}
	m.in(0, "ip", "addr", "add", address+"/32", "dev", "lo")
	for i := 1; i < n; i++ {
		here, there := fmt.Sprintf("to%d", i), "eth0"
		out, err := exec.Command("ip", "link", "add", here, "netns", m.names[0], "type", "veth", "peer", "name", there, "netns", m.names[i]).CombinedOutput()
		if err != nil {
			t.Skipf("no wire can be laid here: %s", out)
		}
		m.in(0, "ip", "addr", "add", fmt.Sprintf("10.77.%d.1/24", i), "dev", here)
		m.in(0, "ip", "link", "set", here, "up")
		m.in(i, "ip", "addr", "add", fmt.Sprintf("10.77.%d.2/24", i), "dev", there)
		m.in(i, "ip", "link", "set", there, "up")
		m.in(i, "ip", "route", "add", address, "via", fmt.Sprintf("10.77.%d.1", i))
	}
	return m
}

const address = "10.77.0.1"

// in runs a command on a machine.
func (m *machines) in(i int, words ...string) string {
	m.t.Helper()
	out, err := m.command(i, words...).CombinedOutput()
	require.NoError(m.t, err, "%v: %s", words, out)
	return string(out)
}

func (m *machines) command(i int, words ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", m.names[i]}, words...)...)
}

// starts starts a command there, which is killed at the end.
func (m *machines) starts(i int, log string, words ...string) *exec.Cmd {
	m.t.Helper()
	c := m.command(i, words...)
	file, err := os.Create(log)
	require.NoError(m.t, err)
	defer file.Close()
	c.Stdout, c.Stderr, c.Dir = file, file, filepath.Dir(log)
	require.NoError(m.t, c.Start())
	m.t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	return c
}

// Three machines with a network between them, one of which has a clock that is off by minutes and goes too fast: a match with a
// client on each is judged rightly, and the clocks are found within their stated errors.
func TestClientsOnThreeMachines(t *testing.T) {
	m := newMachines(t, 3)
	folder := t.TempDir()
	program, skewed := filepath.Join(folder, "zwheel"), filepath.Join(folder, "skewed")
	for path, pkg := range map[string]string{program: "../../cmd/zwheel", skewed: "./testdata/skewed"} {
		out, err := exec.Command("go", "build", "-o", path, pkg).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	said := m.in(0, program, "hub", "init", "--folder", filepath.Join(folder, "hub"), "--host", address)
	trust := regexp.MustCompile(`--trust (U\w+)`).FindStringSubmatch(said)
	require.NotNil(t, trust, said)
	key := func(role string) string { return filepath.Join(folder, "hub", "keys", role+".key") }
	ca, url := filepath.Join(folder, "hub", "tls", "ca.pem"), "tls://"+address+":4222"
	m.starts(0, filepath.Join(folder, "hub.log"), program, "hub", "--folder", filepath.Join(folder, "hub"), "--listen", "0.0.0.0:4222")
	m.starts(1, filepath.Join(folder, "mill.log"), program, "worker", "--join", url, "--key", key("work"), "--ca", ca, "--trust", trust[1], "--as-root", "--name", "mill", "--players", "--folder", filepath.Join(folder, "mill"))
	m.starts(2, filepath.Join(folder, "weir.log"), skewed, url, key("work"), ca, trust[1], filepath.Join(folder, "weir"), "weir", "-217.345s", "80")
	examples, err := filepath.Abs("../../examples")
	require.NoError(t, err)
	text := func(faults string) string {
		return fmt.Sprintf(`title: three machines
clock: wall
duration: 8s
seed: 5
game: {name: millpond, faults: [%s]}
build:
  folder: %s/millpond
  files: ["*.mjs"]
  address: %s
  ports: {game: tcp}
  server: {run: "node server.mjs --host 0.0.0.0 --port {port} --seed {seed} --faults \"{faults}\"", ready: {log: listening on port, within: 30s}}
  client: {run: "node client.mjs --host {host} --port {port} --name {name} --faults \"{faults}\"", ready: {within: 30s}}
  heading: heading
  area: [40, 30]
bots:
  - {name: fern, link: village, steps: [{do: join}, {do: chase, kind: crumb}]}
  - {name: moss, link: hill-farm, on: mill, steps: [{do: join}, {do: chase, kind: crumb}]}
  - {name: oak, link: village, on: weir, steps: [{do: join, at: 3s}, {do: chase, kind: crumb}]}
watch:
  - {entities: duck/*, fields: [x, y], compare: distance, tolerance: 0.3, max-delay: 500ms}
  - {entities: duck/*, fields: score, max-delay: 600ms}
  - {entities: "*/*", fields: existence, max-delay: 600ms}
events: [{event: quack, max-delay: 500ms}]
`, faults, examples, address)
	}
	for _, c := range []struct {
		name, faults string
		code         int
	}{{"healthy", "", 0}, {"counted-twice", "counts-twice", 1}} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, c.name+".yaml"), []byte(text(c.faults)), 0o644))
		run := filepath.Join(folder, c.name)
		var out []byte
		code := -1
		for began := time.Now(); time.Since(began) < 30*time.Second; time.Sleep(time.Second) { // until the workers have joined
			os.RemoveAll(run)
			play := m.command(0, program, "run", filepath.Join(folder, c.name+".yaml"), "--on", url, "--key", key("ask"), "--ca", ca, "--out", run)
			out, _ = play.CombinedOutput()
			if code = play.ProcessState.ExitCode(); code == c.code || !strings.Contains(string(out), "is no worker that starts clients") {
				break
			}
		}
		for _, log := range []string{"hub", "mill", "weir"} {
			said, _ := os.ReadFile(filepath.Join(folder, log+".log"))
			out = fmt.Appendf(out, "\n%s: %s", log, said)
		}
		require.Equal(t, c.code, code, "%s", out)
		if code == 1 {
			assert.Contains(t, string(out), "doubled")
		}
		var timing metrics.Timing
		kept, err := os.ReadFile(filepath.Join(run, "timing.json"))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(kept, &timing))
		require.Len(t, timing.Machines, 2)
		for i, want := range []float64{0, 217.345} {
			clock := timing.Machines[i]
			off := time.Duration(clock.Offset).Seconds() - want
			gained := 0.0
			if i == 1 { // since the worker began, a minute at most
				gained = 80e-6 * 90
			}
			assert.LessOrEqual(t, math.Abs(off), clock.ErrorMs/1e3+gained, "%s: %+v", clock.Machine, clock)
			assert.Less(t, clock.ErrorMs, 50.0)
		}
		packets, err := os.ReadFile(filepath.Join(run, "packets.jsonl"))
		if err != nil {
			packets = []byte(m.in(0, "sh", "-c", "ls "+run))
		}
		assert.NotEmpty(t, packets)
	}
}
