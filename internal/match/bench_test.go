package match

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
)

// BenchmarkMatch plays a match of 8 bots on a bad link for 60 s. sim_s/s is how
// many simulated seconds pass in one second. Where processors are idle it is judged and recorded beside being
// played; in-one is without that, as in a hunt, where each processor plays a match.
func BenchmarkMatch(b *testing.B) {
	p, err := plan.Parse("bench.yaml", []byte("duration: 60s\nbots: [{name: dog, count: 8, link: hill-farm}]\n"))
	require.NoError(b, err)
	for _, c := range []struct {
		name    string
		options Options
		record  bool
		inOne   bool
	}{
		{"played", Options{Silent: true}, false, false},
		{"judged", Options{}, false, false},
		{"judged-recorded", Options{}, true, false},
		{"judged-in-one", Options{}, false, true},
		{"judged-recorded-in-one", Options{}, true, true},
	} {
		b.Run(c.name, func(b *testing.B) {
			if c.inOne {
				defer feed.Occupy()()
			}
			dir, comparisons := b.TempDir(), 0
			for i := 0; b.Loop(); i++ {
				options := c.options
				if c.record {
					options.Folder = filepath.Join(dir, fmt.Sprint(i))
				}
				r, err := Run(context.Background(), p, options)
				require.NoError(b, err)
				if r.Verdict != nil {
					comparisons += r.Verdict.Comparisons
				}
			}
			b.ReportMetric(p.Duration.Seconds()*float64(b.N)/b.Elapsed().Seconds(), "sim_s/s")
			b.ReportMetric(float64(comparisons)/float64(b.N), "comparisons")
		})
	}
}

// BenchmarkBots shows how the cost of a judged match grows with the bots. Everybody sees
// everything, so there are bots times things to be told, shown and judged: ns/sight is
// the cost of one bot seeing one thing for a second, and is not to grow.
func BenchmarkBots(b *testing.B) {
	for _, bots := range []int{2, 8, 32, 128} {
		b.Run(fmt.Sprint(bots), func(b *testing.B) {
			const seconds = 10
			p, err := plan.Parse("bench.yaml", fmt.Appendf(nil, "duration: %ds\nbots: [{name: dog, count: %d, link: village}]\n", seconds, bots))
			require.NoError(b, err)
			for b.Loop() {
				_, err := Run(context.Background(), p, Options{})
				require.NoError(b, err)
			}
			things := bots + p.Game.Population
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/seconds/float64(bots*things), "ns/sight")
		})
	}
}

// BenchmarkSupervised plays Millpond, a build in JavaScript, on the virtual clock. times_real is how
// much faster than real time that is.
func BenchmarkSupervised(b *testing.B) {
	if _, err := exec.LookPath("node"); err != nil {
		b.Skip("there is no node here")
	}
	if virtual := Machine(context.Background())[0]; !virtual.Has {
		b.Skip(virtual.What)
	}
	for _, clients := range []int{1, 3, 8} {
		b.Run(fmt.Sprint(clients), func(b *testing.B) {
			p, err := plan.Load("../../examples/millpond/millpond.yaml")
			require.NoError(b, err)
			p.Clock = plan.Virtual
			p.Bots = p.Bots[:1]
			for i := 1; i < clients; i++ {
				another := p.Bots[0]
				another.Name = fmt.Sprint("duck-", i)
				p.Bots = append(p.Bots, another)
			}
			for b.Loop() {
				_, err := Run(context.Background(), p, Options{})
				require.NoError(b, err)
			}
			b.ReportMetric(p.Duration.Seconds()*float64(b.N)/b.Elapsed().Seconds(), "times_real")
		})
	}
}
