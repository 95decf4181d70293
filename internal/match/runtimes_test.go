//go:build linux && amd64

package match

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
)

// runtimes are how the small game in testdata/tallow is made and run in several languages.
var runtimes = []struct {
	name, network string
	needs         string   // a program that must be here
	make          []string // how it is compiled, or nothing
	run           string
}{
	{"C", "udp", "gcc", []string{"gcc", "-O1", "-o", "c", "tallow.c", "-lpthread"}, "./c"},
	{"C++, like an engine", "udp", "g++", []string{"g++", "-O1", "-std=c++17", "-o", "engine", "tallow.cpp", "-lpthread"}, "./engine"},
	{"Go", "tcp", "go", []string{"go", "build", "-o", "go-game", "tallow.go"}, "./go-game"},
	{"Java", "udp", "javac", []string{"javac", "Tallow.java"}, "java -cp . Tallow"},
	{"Python", "tcp", "python3", nil, "python3 tallow.py"},
	{"Ruby", "udp", "ruby", nil, "ruby tallow.rb"},
	{"Perl", "udp", "perl", nil, "perl tallow.pl"},
	{"C#", "tcp", "mcs", []string{"mcs", "-nowarn:219", "-out:tallow.exe", "tallow.cs"}, "mono tallow.exe"},
	{"JavaScript", "udp", "node", nil, "node tallow.mjs"},
}

// Whatever it is written in, threads wake and wait in the same order; docs/make-virtual-table tries it beside
// programs that use all processors.
func TestAMatchIsTheSameInEveryRuntime(t *testing.T) {
	if testing.Short() {
		t.Skip("starts many programs, and has no goroutine of its own")
	}
	if virtual := Machine(context.Background())[0]; !virtual.Has {
		t.Skip(virtual.What)
	}
	folder := t.TempDir()
	require.NoError(t, os.CopyFS(folder, os.DirFS("testdata/tallow")))
	for _, r := range runtimes {
		t.Run(r.name, func(t *testing.T) {
			if _, err := exec.LookPath(r.needs); err != nil {
				t.Skip(err)
			}
			if r.make != nil {
				c := exec.Command(r.make[0], r.make[1:]...)
				c.Dir = folder
				out, err := c.CombinedOutput()
				require.NoError(t, err, "%s", out)
			}
			p, err := plan.Parse(filepath.Join(folder, "plan.yaml"), fmt.Appendf(nil, `
seed: 5
duration: 5s
game: {name: tallow}
build:
  ports: {game: %s}
  server: {run: "%[2]s server {port}", trace: none, ready: {log: lit, within: 30s}}
  client: {run: "%[2]s client {host} {port} {name}", trace: none, drive: none, ready: {log: by the candle, within: 30s}}
links: {draught: {latency: 40ms, jitter: 10ms, loss: 3%%}}
bots: [{name: fern, link: draught}, {name: moss, link: draught, steps: [{do: join, at: 1s}, {do: leave, at: 4s}]}]
`, r.network, r.run))
			require.NoError(t, err)
			p.Build.Folder = folder
			var first string
			for i := range 2 {
				r := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "run")})
				require.Equal(t, ending.Complete, r.Ending.How, "%+v", r.Ending)
				s := r.Measures.Timing.Supervised
				assert.Zero(t, s.Charged)
				assert.Zero(t, s.Wrong)
				assert.NotZero(t, r.Measures.Views[0].Down.Packets, "it hears of the candles")
				if i == 0 {
					first = s.Internal
				}
				assert.Equal(t, first, s.Internal, "play %d; read of the machine: %v", i, s.Reads)
			}
		})
	}
}
