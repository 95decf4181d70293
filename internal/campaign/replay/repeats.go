package replay

import (
	"context"
	"fmt"
	"math"

	"zitherwheel/internal/campaign/played"

	"golang.org/x/sync/errgroup"
)

// Repeats is in how many matches of one and the same plan a finding showed. On the wall
// clock no match goes quite as another, so that it does not show in one says little, and
// how little follows from how often the recorded match shows it again.
//
// A variant has the finding if one of its matches shows it. It has not if as many in a row do
// not that, at the rate of the recorded match, the chance of that is at most ErrorRate. This is
// a sequential test in which a single success decides (Wald, Sequential Analysis, 1947, for a rate
// against none). A rate is taken to be (shown + 1/2) / (of + 1), the mean of Jeffreys' prior and what was
// seen.
type Repeats struct {
	Shown int `json:"shown"`
	Of    int `json:"of"`
}

// ErrorRate is the chance of taking a variant for one without the finding that has it.
const ErrorRate = 0.05

const (
	usualEach   = 12 // matches of a variant at most
	repeatsSeen = 3  // so often it must have shown again for its rate to be known well enough
)

func (r Repeats) rate() float64 { return (float64(r.Shown) + 0.5) / (float64(r.Of) + 1) }

// Misses is after how many matches that do not show it a variant counts as one without it.
func (r Repeats) Misses() int {
	return max(1, int(math.Ceil(math.Log(ErrorRate)/math.Log(1-r.rate()))))
}

func (r Repeats) String() string { return fmt.Sprintf("%d of %d", r.Shown, r.Of) }

// UnsureError is the error of a variant of which it cannot be told whether it has the finding.
type UnsureError struct {
	Repeats Repeats // of the recorded match
	Played  int     // matches of the variant, none of which showed it
}

func (e *UnsureError) Error() string {
	return fmt.Sprintf("it cannot be told with %d matches of each variant: the recorded match shows the finding in only %s repeats, so that it is gone takes %d without it", e.Played, e.Repeats, e.Repeats.Misses())
}

func (l *Lab) each() int {
	if l.Each == 0 {
		return usualEach
	}
	return l.Each
}

// repeat plays the recorded match until the finding has shown repeatsSeen times, or as often as a
// variant may be played, to know how often it shows.
func (l *Lab) repeat(ctx context.Context, v played.Variant, target Target) (Repeats, error) {
	var r Repeats
	for r.Of < l.each() && r.Shown < repeatsSeen {
		shown, err := l.several(ctx, r.Of, min(l.atOnce(true), l.each()-r.Of), v, target)
		if err != nil {
			return r, err
		}
		for _, s := range shown {
			if r.Of++; s {
				r.Shown++
			}
		}
	}
	l.repeats = r
	return r, nil
}

// showsOnWall plays a variant until it shows the finding, or until it has missed it often enough.
func (l *Lab) showsOnWall(ctx context.Context, v played.Variant, target Target) (bool, error) {
	needed := l.repeats.Misses()
	for tried := 0; tried < needed; {
		if tried >= l.each() {
			return false, &UnsureError{l.repeats, tried}
		}
		n := min(l.atOnce(true), needed-tried, l.each()-tried)
		shown, err := l.several(ctx, tried, n, v, target)
		if err != nil {
			return false, err
		}
		for _, s := range shown {
			if s {
				return true, nil
			}
		}
		tried += n
	}
	return false, nil
}

// several plays a variant several times at once, after so many times before, and says which of these matches show the finding.
func (l *Lab) several(ctx context.Context, before, n int, v played.Variant, target Target) ([]bool, error) {
	shown := make([]bool, n)
	var group errgroup.Group
	for i := range n {
		group.Go(func() error {
			list, err := l.try(ctx, v, before+i)
			shown[i] = err == nil && target.among(list)
			return err
		})
	}
	return shown, group.Wait()
}
