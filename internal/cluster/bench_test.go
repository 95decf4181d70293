package cluster_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/cluster/hub"
	"zitherwheel/internal/plan"
)

// BenchmarkHub is what a hub bears: made-up workers that play nothing, so that all the time is that of messages. Hub,
// workers and asker share this machine's cores. It says messages and bytes that are kept of a match, too.
func BenchmarkHub(b *testing.B) {
	for _, n := range []int{1, 4, 50, 200} {
		b.Run(fmt.Sprintf("workers=%d", n), func(b *testing.B) {
			h, err := hub.Start(context.Background(), hub.Options{Listen: "127.0.0.1:0", Folder: b.TempDir()})
			require.NoError(b, err)
			defer h.Stop()
			ctx, end := context.WithCancel(context.Background())
			ended := make(chan struct{}, n)
			for i := range n {
				l, err := cluster.Dial(ctx, cluster.Address{URL: h.URL()}, "work")
				require.NoError(b, err)
				defer l.Close()
				w := &cluster.Worker{Name: fmt.Sprintf("w%d", i), Folder: b.TempDir(), Slots: 1, Crew: fake(inSync), Longest: 1 << 40}
				go func() { w.Run(ctx, l); ended <- struct{}{} }()
			}
			defer func() {
				end()
				for range n {
					<-ended
				}
			}()
			l, err := cluster.Dial(ctx, cluster.Address{URL: h.URL()}, "ask")
			require.NoError(b, err)
			defer l.Close()
			c, err := l.Crew(ctx, cluster.Asked{Campaign: "bench", What: "hunt", Plan: "one"})
			require.NoError(b, err)
			p, err := plan.Parse("plan.yaml", []byte(short))
			require.NoError(b, err)
			play := func(from, n int) {
				err := campaign.EachWithin(ctx, func() int { return c.AtOnce(false) }, campaign.Numbers(n), func(i int) error {
					one := *p
					one.Seed = uint64(from + i)
					_, err := c.Play(ctx, &one)
					return err
				})
				require.NoError(b, err)
			}
			play(0, 200) // until it knows its workers, and how long a match takes
			before := h.Standing()
			b.ResetTimer()
			play(1000, b.N)
			b.StopTimer()
			after := h.Standing()
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "matches/s")
			b.ReportMetric(float64(after.Messages-before.Messages)/float64(b.N), "kept/match")
			b.ReportMetric(float64(after.Bytes-before.Bytes)/float64(b.N), "bytes/match")
			c.Close(ctx, true)
		})
	}
}
