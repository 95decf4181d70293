package replay

import (
	"context"
	"fmt"
	"math"
	"slices"

	"golang.org/x/sync/errgroup"

	"zitherwheel/internal/campaign/played"
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
	Played  int     // conclusive matches of the variant, none of which showed it
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
// variant may be played, to know how often it shows. Inconclusive matches do not count.
func (l *Lab) repeat(ctx context.Context, v played.Variant, target Target) (Repeats, error) {
	var r Repeats
	for tried := 0; tried < l.each() && r.Shown < repeatsSeen; {
		n := min(l.atOnce(true), l.each()-tried)
		answers, err := l.several(ctx, tried, n, v, target)
		if err != nil {
			return r, err
		}
		tried += n
		for _, a := range answers {
			switch a {
			case Inconclusive:
				continue
			case There:
				r.Shown++
			}
			r.Of++
		}
	}
	l.repeats = r
	return r, nil
}

// askOnWall plays a variant until it shows the finding, or until it has missed it often enough.
func (l *Lab) askOnWall(ctx context.Context, v played.Variant, target Target) (Answer, error) {
	needed := l.repeats.Misses()
	for tried, missed := 0, 0; ; {
		if tried >= l.each() {
			return Inconclusive, &UnsureError{l.repeats, missed}
		}
		n := min(l.atOnce(true), needed-missed, l.each()-tried)
		answers, err := l.several(ctx, tried, n, v, target)
		if err != nil {
			return Inconclusive, err
		}
		tried += n
		for _, wrong := range []Answer{There, Otherwise} {
			if slices.Contains(answers, wrong) {
				return wrong, nil
			}
		}
		for _, a := range answers {
			if a == Gone {
				missed++
			}
		}
		if missed >= needed {
			return Gone, nil
		}
	}
}

// several plays a variant several times at once, after so many times before, and says what these matches say of the
// finding.
func (l *Lab) several(ctx context.Context, before, n int, v played.Variant, target Target) ([]Answer, error) {
	list := make([]Answer, n)
	var group errgroup.Group
	for i := range n {
		group.Go(func() error {
			told, err := l.try(ctx, v, before+i, target)
			list[i] = told.Answer
			return err
		})
	}
	return list, group.Wait()
}
