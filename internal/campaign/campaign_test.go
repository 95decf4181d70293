package campaign

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEachItemIsTakenOnceAndNoMoreThanFitAtOnce(t *testing.T) {
	var sum, now, top atomic.Int64
	items := []int64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}
	err := Each(context.Background(), 3, slices.Values(items), func(n int64) error {
		for at := now.Add(1); ; {
			if seen := top.Load(); at <= seen || top.CompareAndSwap(seen, at) {
				break
			}
		}
		sum.Add(n)
		now.Add(-1)
		return nil
	})
	assert.NoError(t, err)
	assert.EqualValues(t, 55, sum.Load())
	assert.LessOrEqual(t, top.Load(), int64(3))
}

func TestAfterAFailureNoMoreAreTaken(t *testing.T) {
	broken := errors.New("broken")
	taken := 0
	err := Each(context.Background(), 1, func(yield func(int) bool) {
		for taken = 0; taken < 100 && yield(taken); taken++ {
		}
	}, func(n int) error {
		if n == 3 {
			return broken
		}
		return nil
	})
	assert.ErrorIs(t, err, broken)
	assert.Less(t, taken, 7)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.NoError(t, Each(ctx, 2, slices.Values([]int{1, 2}), func(int) error { t.Error("taken"); return nil }))
}

func TestMoreAreTakenWhenThereIsMoreRoom(t *testing.T) {
	var room, now, top atomic.Int64
	room.Store(1)
	err := EachWithin(context.Background(), func() int { return int(room.Load()) }, Numbers(60), func(n int) error {
		if n == 20 {
			room.Store(4)
		}
		for at := now.Add(1); ; {
			if seen := top.Load(); at <= seen || top.CompareAndSwap(seen, at) {
				break
			}
		}
		for range 100 {
			runtime.Gosched()
		}
		if n < 20 {
			assert.EqualValues(t, 1, now.Load())
		}
		now.Add(-1)
		return nil
	})
	assert.NoError(t, err)
	assert.LessOrEqual(t, top.Load(), int64(4))
}

func TestHowManyAtOnce(t *testing.T) {
	assert.Equal(t, 5, AtOnce(5, true))
	assert.Equal(t, 2, AtOnce(0, true))
	assert.Positive(t, AtOnce(0, false))
}
