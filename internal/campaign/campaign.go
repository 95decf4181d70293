// Package campaign plays many matches, several at once. What they are played for is said by
// the packages below it: hunt, replay, sweep, compare and selftest; stats is what counts tell.
package campaign

import (
	"context"
	"iter"
	"runtime"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"zitherwheel/internal/review/feed"
)

// AtOnce is how many matches are played at once: as many as asked for, or else one a core,
// and on the wall clock two, which must not disturb each other.
func AtOnce(asked int, wall bool) int {
	switch {
	case asked > 0:
		return asked
	case wall:
		return 2
	}
	return runtime.GOMAXPROCS(0)
}

// Each calls do with each of the items, up to atOnce at a time. An item is taken when there is
// room for it, so items may depend on what came of those before. After a failure, or when ctx
// is done, no more are taken; what is under way ends. It returns the first failure.
func Each[T any](ctx context.Context, atOnce int, items iter.Seq[T], do func(T) error) error {
	return EachWithin(ctx, func() int { return atOnce }, items, do)
}

// EachWithin does so with as many at a time as there is room for just then.
func EachWithin[T any](ctx context.Context, room func() int, items iter.Seq[T], do func(T) error) error {
	if room() > 1 {
		defer feed.Occupy()() // several matches use all processors: none is judged beside
	}
	next, stop := iter.Pull(items)
	defer stop()
	var group errgroup.Group
	var failed atomic.Bool
	ended := make(chan struct{}, 1)
	for running := new(atomic.Int64); ; {
		for running.Load() >= int64(room()) {
			select {
			case <-ended:
			case <-time.After(lookForRoom):
			}
		}
		if failed.Load() || ctx.Err() != nil {
			break
		}
		item, more := next()
		if !more {
			break
		}
		running.Add(1)
		group.Go(func() error {
			err := do(item)
			if err != nil {
				failed.Store(true)
			}
			running.Add(-1)
			select {
			case ended <- struct{}{}:
			default:
			}
			return err
		})
	}
	return group.Wait()
}

// lookForRoom is how often it is looked whether there is more room, when nothing ends.
const lookForRoom = 250 * time.Millisecond

// Numbers are 0 to n-1, as items of [Each].
func Numbers(n int) iter.Seq[int] {
	return func(yield func(int) bool) {
		for i := 0; i < n && yield(i); i++ {
		}
	}
}
