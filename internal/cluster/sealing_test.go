package cluster_test

import (
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/cluster/hub"
	"zitherwheel/internal/plan"
)

// What was played is packed when nobody asks for it any more; a campaign that is resumed has all of it, and it may
// be packed again with what was added.
func TestResultsThatArePackedAreAsGoodAsNew(t *testing.T) {
	h := newHouse(t)
	var plays atomic.Int64
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) { plays.Add(1); return inSync(p) }))
	js, kept := h.results()
	p := parse(t, short)
	for round, n := range []int{100, 150, 150, 200} {
		c := h.crew(cluster.Asked{Campaign: "packed", Resume: round > 0})
		other := h.crew(cluster.Asked{Campaign: fmt.Sprintf("beside-%d", round)})
		require.NoError(t, cluster.Seal(h.ctx, js, 0))
		list := all(t, c, p, n)
		for i, m := range list {
			assert.EqualValues(t, i, m.Seed)
			assert.InDelta(t, float64(i)/7, m.Measures["age"], 0)
		}
		all(t, other, p, 3)
		assert.EqualValues(t, n+3*(round+1), plays.Load(), "nothing is played again")
		require.NoError(t, cluster.Seal(h.ctx, js, 0))
		assert.NotZero(t, kept(), "nothing is packed while somebody asks")
		c.Close(h.ctx, true)
		assert.Equal(t, map[string]int{"w1": n}, c.Summary().By)
		require.NoError(t, cluster.Seal(h.ctx, js, time.Hour))
		assert.NotZero(t, kept(), "nor so soon")
		require.NoError(t, cluster.Seal(h.ctx, js, 0))
		assert.EqualValues(t, 3, kept(), "what is left is of the campaign that goes on")
		other.Close(h.ctx, true)
		require.NoError(t, cluster.Seal(h.ctx, js, 0))
		assert.Zero(t, kept())
	}
}

func TestAHubPacksWhatNobodyAsksForByItself(t *testing.T) {
	h := newHouse(t, func(o *hub.Options) { o.Quiet = time.Second; o.Tell = func(text string) { t.Error(text) } })
	h.worker("w1", fake(inSync))
	c := h.crew(cluster.Asked{Campaign: "first"})
	all(t, c, parse(t, short), 20)
	c.Close(h.ctx, true)
	_, kept := h.results()
	require.Eventually(t, func() bool { return kept() == 0 }, time.Minute, 100*time.Millisecond)
}

// results are how many are kept as they came.
func (h *house) results() (js jetstream.JetStream, kept func() uint64) {
	h.t.Helper()
	conn, err := nats.Connect(h.url)
	require.NoError(h.t, err)
	h.t.Cleanup(conn.Close)
	js, err = jetstream.New(conn)
	require.NoError(h.t, err)
	return js, func() uint64 {
		s, err := js.Stream(h.ctx, "ZWHEEL_RESULTS")
		if !assert.NoError(h.t, err) {
			return 0
		}
		return s.CachedInfo().State.Msgs
	}
}
