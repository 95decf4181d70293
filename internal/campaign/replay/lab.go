package replay

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
)

// Lab plays variants of a match and looks for a finding in each.
//
// On the virtual clock a variant is played once: it would be the same again. On the
// wall clock it is played until it shows the finding, or until so many matches did not
// that it would have shown by then: see Repeats.
type Lab struct {
	Wall    match.Options // what a match on the wall clock needs
	Workers int           // matches at once; 0 means one a core, or on the wall clock two
	Each    int           // on the wall clock: matches of one variant at most; 0 means 12
	Tell    func(string)  // hears what is tried; may be nil
	Crew    played.Crew   // plays variants elsewhere; nil is this process. What takes more than what shows is played here

	repeats Repeats // of the recorded match, on the wall clock
	replays atomic.Int64
	once    sync.Once
	slots   chan struct{} // holds one for each match that is played, if Workers bounds them

	lock         sync.Mutex
	began        time.Time // when the first was played
	inconclusive int       // inconclusive matches
	why          string    // why the first of them was
}

// Replays is how many matches have been played so far.
func (l *Lab) Replays() int { return int(l.replays.Load()) }

// left estimates how long that many more matches will take, from those played so far.
func (l *Lab) left(matches int) string {
	l.lock.Lock()
	defer l.lock.Unlock()
	n := l.Replays()
	if n == 0 {
		return fmt.Sprintf("%d matches", matches)
	}
	each := time.Since(l.began) / time.Duration(n)
	return fmt.Sprintf("%d matches, about %s", matches, max(time.Second, time.Duration(matches)*each).Round(time.Second))
}

// playing notes that a match is played.
func (l *Lab) playing() {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.replays.Add(1) == 1 {
		l.began = time.Now()
	}
}

func (l *Lab) tell(format string, args ...any) {
	if l.Tell != nil {
		l.Tell(fmt.Sprintf(format, args...))
	}
}

// atOnce is how many variants are played at once.
func (l *Lab) atOnce(wall bool) int {
	if l.Crew != nil {
		return l.Crew.AtOnce(wall)
	}
	return campaign.AtOnce(l.Workers, wall)
}

// try plays a variant once, for what it says of a finding; it is the nth time.
func (l *Lab) try(ctx context.Context, v played.Variant, nth int, target Target) (Told, error) {
	var tried played.Tried
	if l.Crew != nil {
		l.playing()
		var err error
		if tried, err = l.Crew.Try(ctx, v, nth); err != nil {
			return Told{Answer: Inconclusive}, err
		}
	} else {
		r, err := l.play(ctx, v, match.Options{})
		if err != nil {
			return Told{Answer: Inconclusive}, err
		}
		tried = played.TriedOf(r.Verdict)
	}
	told, why := target.told(tried)
	if told.Answer == Inconclusive {
		l.lock.Lock()
		defer l.lock.Unlock()
		if l.inconclusive++; l.why == "" {
			l.why = why
		}
	}
	return told, nil
}

// play plays a variant once.
func (l *Lab) play(ctx context.Context, v played.Variant, options match.Options) (*match.Result, error) {
	l.once.Do(func() {
		if l.Workers > 0 {
			l.slots = make(chan struct{}, l.Workers)
		}
	})
	if l.slots != nil {
		l.slots <- struct{}{}
		defer func() { <-l.slots }()
	}
	l.playing()
	options.Script, options.Until, options.UsualFrom = v.Script, v.Until, v.UsualFrom
	if v.Plan.ByPrograms() {
		options.Guard, options.Zwheel = l.Wall.Guard, l.Wall.Zwheel
	}
	r, err := match.Run(ctx, v.Plan, options)
	if err == nil {
		err = ctx.Err()
	}
	return r, err
}

// ask plays a variant as often as it takes to know what it says of a finding.
func (l *Lab) ask(ctx context.Context, v played.Variant, target Target) (Answer, error) {
	if v.Plan.Clock == plan.Wall {
		return l.askOnWall(ctx, v, target)
	}
	told, err := l.try(ctx, v, 0, target)
	return told.Answer, err
}

// shows reports whether a variant shows the finding. An inconclusive one does not.
func (l *Lab) shows(ctx context.Context, v played.Variant, target Target) (bool, error) {
	answer, err := l.ask(ctx, v, target)
	return answer == There, err
}

// gone reports whether the finding is gone in a variant. In an inconclusive one it is not.
func (l *Lab) gone(ctx context.Context, v played.Variant, target Target) (bool, error) {
	answer, err := l.ask(ctx, v, target)
	return answer == Gone, err
}

// Inconclusive is the number of inconclusive matches, and why the first of them was.
func (l *Lab) Inconclusive() (n int, why string) {
	l.lock.Lock()
	defer l.lock.Unlock()
	return l.inconclusive, l.why
}

// first is the first of n variants that shows the finding, or -1. Several are played
// at once.
func (l *Lab) first(ctx context.Context, n int, variant func(int) played.Variant, target Target) (int, error) {
	return l.firstThat(ctx, There, n, variant, target)
}

// firstGone is the first of n variants in which it is gone, or -1.
func (l *Lab) firstGone(ctx context.Context, n int, variant func(int) played.Variant, target Target) (int, error) {
	return l.firstThat(ctx, Gone, n, variant, target)
}

func (l *Lab) firstThat(ctx context.Context, says Answer, n int, variant func(int) played.Variant, target Target) (int, error) {
	if n == 0 {
		return -1, nil
	}
	var lock sync.Mutex
	best := -1
	numbers := func(yield func(int) bool) {
		for i := range n {
			lock.Lock()
			found := best >= 0
			lock.Unlock()
			if found || !yield(i) {
				return
			}
		}
	}
	wall := variant(0).Plan.Clock == plan.Wall
	err := campaign.Each(context.WithoutCancel(ctx), min(n, l.atOnce(wall)), numbers, func(i int) error {
		lock.Lock()
		v := variant(i)
		lock.Unlock()
		answer, err := l.ask(ctx, v, target)
		var unsure *UnsureError
		if says == There && errors.As(err, &unsure) { // it has not shown it, and another may
			err = nil
		}
		lock.Lock()
		defer lock.Unlock()
		if answer == says && err == nil && (best < 0 || i < best) {
			best = i
		}
		return err
	})
	return best, err
}
