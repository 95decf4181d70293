package replay

import (
	"context"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
)

// However the matches come about, one at a time means that none begins before the one
// before has ended: their packets do not mix.
func TestNoMoreMatchesAtOnceThanAsked(t *testing.T) {
	p, err := plan.Parse("plan.yaml", []byte("duration: 500ms\nbots: [{name: fern}]\n"))
	require.NoError(t, err)
	l := &Lab{Workers: 1}
	var lock sync.Mutex
	var order []int // of matches, as their packets came
	var all sync.WaitGroup
	for number := range 8 {
		all.Go(func() {
			_, err := l.play(context.Background(), played.Variant{Plan: p}, match.Options{Packet: func(match.Packet) {
				lock.Lock()
				defer lock.Unlock()
				if len(order) == 0 || order[len(order)-1] != number {
					order = append(order, number)
				}
			}})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.Len(t, order, 8, "%v", order)
	slices.Sort(order)
	assert.Equal(t, []int{0, 1, 2, 3, 4, 5, 6, 7}, order)
	assert.Equal(t, 8, l.Replays())
}
