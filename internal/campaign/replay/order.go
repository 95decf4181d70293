package replay

import (
	"context"
	"fmt"
	"math/bits"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/metrics"
)

// Order is the choice in the order of threads that a finding hangs on.
type Order struct {
	Draw int    `json:"draw"` // its number, from 1
	Of   int    `json:"of"`   // so many that were drawn in the recording
	What string `json:"what"` // who went before whom, and when
}

// order finds the choice of the order of threads that a finding hangs on, where that order was drawn: with it as
// drawn, and the usual order from then on, the finding is there; with the usual order from it on, it is gone. It
// reports whether there is one.
func (c *inquiry) order(ctx context.Context, w *Why) (bool, error) {
	if !c.Plan.ByPrograms() || c.Plan.Clock == plan.Wall || c.Plan.Build.Interleave != plan.DrawnOrder {
		return false, nil
	}
	var timing metrics.Timing
	if !c.Run.Timing(&timing) || timing.Supervised == nil || timing.Supervised.Draws == 0 {
		return false, nil
	}
	c.lab.tell("playing it with the usual order of threads")
	usualFrom := func(draw int) played.Variant {
		v := c.Same()
		v.Until, v.UsualFrom = c.until, draw
		return v
	}
	if gone, err := c.lab.gone(ctx, usualFrom(1), c.target); err != nil || !gone {
		return false, err
	}
	without, with := 0, timing.Supervised.Draws // so many as drawn
	left := c.lab.left(bits.Len(uint(with)) + 2)
	c.lab.tell("with the usual order it is gone; looking for the choice that matters, of %d: %s", with, left)
	for with-without > 1 {
		middle := (without + with) / 2
		there, err := c.lab.shows(ctx, usualFrom(middle+1), c.target)
		if err != nil {
			return false, err
		}
		if there {
			with = middle
		} else {
			without = middle
		}
	}
	r, err := c.lab.play(ctx, usualFrom(with+1), match.Options{})
	if err != nil {
		return false, err
	}
	if c.target.In(r.Verdict) == nil || r.Measures.Timing == nil || r.Measures.Timing.Supervised == nil {
		return false, nil
	}
	w.Order = &Order{Draw: with, Of: timing.Supervised.Draws, What: r.Measures.Timing.Supervised.LastDraw}
	gone, err := c.lab.gone(ctx, usualFrom(with), c.target)
	if err != nil {
		return false, err
	}
	w.Proved = fmt.Sprintf("It takes an order of threads. With the usual one it is gone. It hangs on choice %d of %d: %s. "+
		"With that as it was drawn, and the usual order from then on, the finding is there", with, w.Order.Of, w.Order.What)
	if gone {
		w.Proved += "; with the usual order from there on it is gone."
	} else {
		w.Proved += "."
		w.Unproved = append(w.Unproved, "whether it is gone with that one choice otherwise")
	}
	return true, nil
}
