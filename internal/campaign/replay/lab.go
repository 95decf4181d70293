package replay

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
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
}

// Replays is how many matches have been played so far.
func (l *Lab) Replays() int { return int(l.replays.Load()) }

func (l *Lab) tell(format string, args ...any) {
	if l.Tell != nil {
		l.Tell(fmt.Sprintf(format, args...))
	}
}

// Target is the finding that is looked for. What is left empty may be anything.
type Target struct {
	Signature    string
	View, Entity string
	Began        time.Duration
	Near         time.Duration // how far from Began it may begin; 0 means anywhere
}

// In is the finding in a verdict, or nil.
func (t Target) In(v *judge.Verdict) *judge.Finding {
	if v == nil {
		return nil
	}
	for i, shown := range played.ShownIn(v) {
		if t.is(shown) {
			return v.Findings[i]
		}
	}
	return nil
}

// among reports whether the finding is one of those that showed.
func (t Target) among(list []played.Shown) bool { return slices.ContainsFunc(list, t.is) }

func (t Target) is(f played.Shown) bool {
	return f.Signature == t.Signature && (t.View == "" || f.View == t.View) && (t.Entity == "" || f.Entity == t.Entity) &&
		(t.Near <= 0 || f.Began >= t.Began-t.Near && f.Began <= t.Began+t.Near)
}

// atOnce is how many variants are played at once.
func (l *Lab) atOnce(wall bool) int {
	if l.Crew != nil {
		return l.Crew.AtOnce(wall)
	}
	return campaign.AtOnce(l.Workers, wall)
}

// try plays a variant once, for what shows in it; it is the nth time.
func (l *Lab) try(ctx context.Context, v played.Variant, nth int) ([]played.Shown, error) {
	if l.Crew != nil {
		l.replays.Add(1)
		return l.Crew.Try(ctx, v, nth)
	}
	r, err := l.play(ctx, v, match.Options{})
	if err != nil {
		return nil, err
	}
	return played.Told(r.Verdict)
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
	l.replays.Add(1)
	options.Script, options.Until = v.Script, v.Until
	if v.Plan.ByPrograms() {
		options.Guard, options.Zwheel = l.Wall.Guard, l.Wall.Zwheel
	}
	r, err := match.Run(ctx, v.Plan, options)
	if err == nil {
		err = ctx.Err()
	}
	return r, err
}

// shows plays a variant as often as it takes to know whether it shows the finding. A
// match that could not be played does not.
func (l *Lab) shows(ctx context.Context, v played.Variant, target Target) (bool, error) {
	if v.Plan.Clock == plan.Wall {
		return l.showsOnWall(ctx, v, target)
	}
	shown, err := l.try(ctx, v, 0)
	return err == nil && target.among(shown), err
}

// first is the first of n variants that shows the finding, or -1. Several are played
// at once.
func (l *Lab) first(ctx context.Context, n int, variant func(int) played.Variant, target Target) (int, error) {
	return l.firstThat(ctx, true, n, variant, target)
}

// firstNot is the first of n variants that does not show it, or -1.
func (l *Lab) firstNot(ctx context.Context, n int, variant func(int) played.Variant, target Target) (int, error) {
	return l.firstThat(ctx, false, n, variant, target)
}

func (l *Lab) firstThat(ctx context.Context, shows bool, n int, variant func(int) played.Variant, target Target) (int, error) {
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
		shown, err := l.shows(ctx, v, target)
		var unsure *UnsureError
		if shows && errors.As(err, &unsure) { // it has not shown it, and another may
			err = nil
		}
		lock.Lock()
		defer lock.Unlock()
		if shown == shows && err == nil && (best < 0 || i < best) {
			best = i
		}
		return err
	})
	return best, err
}
