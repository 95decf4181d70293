package replay

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/plan"
	"zitherwheel/stage"
)

// However the matches come about, no more of them are played at once than was asked for.
func TestNoMoreMatchesAtOnceThanAsked(t *testing.T) {
	p, err := plan.Parse("plan.yaml", []byte("length: 500ms\nbots: [{name: fern}]\n"))
	require.NoError(t, err)
	for _, workers := range []int{1, 2} {
		l := &Lab{Workers: workers}
		var now, most atomic.Int64
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				first := sync.OnceFunc(func() {
					if n := now.Add(1); n > most.Load() {
						most.Store(n)
					}
				})
				_, err := l.play(context.Background(), Variant{Plan: p}, stage.Options{Packet: func(stage.Packet) { first() }})
				now.Add(-1)
				assert.NoError(t, err)
			})
		}
		all.Wait()
		assert.LessOrEqual(t, most.Load(), int64(workers))
		assert.Equal(t, 8, l.Replays())
	}
}
