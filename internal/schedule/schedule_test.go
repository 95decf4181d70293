package schedule

import (
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/random"
)

// Pushes and pops in any sequence give what a sorted list gives.
func TestAQueueGivesBackEverythingInOrder(t *testing.T) {
	type item struct {
		at    time.Duration
		order uint64
	}
	rapid.Check(t, func(t *rapid.T) {
		var q Queue[item]
		var want []item
		pop := func() {
			at, got := q.Pop()
			require.Equal(t, want[0], got)
			require.Equal(t, want[0].at, at)
			want = want[1:]
		}
		for n := range rapid.IntRange(0, 300).Draw(t, "steps") {
			if len(want) > 0 && rapid.IntRange(0, 2).Draw(t, "what") == 0 {
				pop()
				continue
			}
			e := item{time.Duration(rapid.IntRange(0, 20).Draw(t, "at")), uint64(rapid.IntRange(0, 5).Draw(t, "order"))<<32 | uint64(n)}
			q.Push(e.at, e.order, e)
			want = append(want, e)
			sort.Slice(want, func(i, j int) bool {
				return want[i].at < want[j].at || want[i].at == want[j].at && want[i].order < want[j].order
			})
		}
		for len(want) > 0 {
			require.Equal(t, want[0].at, q.Next())
			assert.True(t, q.Due(want[0].at))
			assert.False(t, q.Due(want[0].at-1))
			pop()
		}
		assert.Zero(t, q.Len())
		assert.False(t, q.Due(1<<62))
	})
}

func BenchmarkQueue(b *testing.B) {
	var q Queue[[5]uint64]
	random := random.Stream(1, "queue")
	for i := range uint64(1000) {
		q.Push(time.Duration(random.IntN(1e6)), i, [5]uint64{})
	}
	for b.Loop() {
		at, e := q.Pop()
		q.Push(at+time.Duration(random.IntN(1e6)), 0, e)
	}
}
