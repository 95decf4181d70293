package stage

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/plan"
)

// BenchmarkMatch plays a match of 8 bots on a bad link for 60 s. sim_s/s is how
// many simulated seconds pass in one second of one core.
func BenchmarkMatch(b *testing.B) {
	p, err := plan.Parse("bench.yaml", []byte("length: 60s\nbots: [{name: dog, count: 8, link: hill-farm}]\n"))
	require.NoError(b, err)
	for _, c := range []struct {
		name    string
		options Options
		record  bool
	}{
		{"played", Options{Silent: true}, false},
		{"judged", Options{}, false},
		{"judged-recorded", Options{}, true},
	} {
		b.Run(c.name, func(b *testing.B) {
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
			b.ReportMetric(p.Length.Seconds()*float64(b.N)/b.Elapsed().Seconds(), "sim_s/s")
			b.ReportMetric(float64(comparisons)/float64(b.N), "comparisons")
		})
	}
}
