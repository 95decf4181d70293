package replay

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/judge"
)

// On the wall clock no match is the one that was recorded, not even up to some packet. So here the
// question is not at which packet matches part, but how often the finding shows: first in repeats
// of the recording, then with packets delivered, those first that the finding's evidence names,
// and more and more beside them. What a variant says holds with ErrorRate.

const (
	wallWindow  = 3 * time.Second // how long before a finding packets are looked at first
	wallMatches = 240             // after so many matches no smaller set is looked for
)

// onWall is run for the wall clock.
func (c *inquiry) onWall(ctx context.Context, w *Why, f *judge.Finding) error {
	err := c.askOnWall(ctx, w, f)
	var unsure *UnsureError
	if errors.As(err, &unsure) {
		w.Packets, w.Gone, w.There = []Culprit{}, false, false
		w.Proved = fmt.Sprintf("Nothing is proved: %s. Allow more with --each.", unsure)
		return nil
	}
	return err
}

func (c *inquiry) askOnWall(ctx context.Context, w *Why, f *judge.Finding) error {
	same := c.same()
	c.lab.tell("playing the recorded match again, to see how often it shows the finding")
	repeats, err := c.lab.repeat(ctx, same, c.target)
	if err != nil {
		return err
	}
	w.Repeats, w.Misses = &repeats, repeats.Misses()
	if repeats.Shown == 0 {
		return fmt.Errorf("%w: %s repeats show it", ErrNotThere, repeats)
	}
	c.lab.tell("%s repeats show it, so a variant is without it after %d matches that do not", repeats, repeats.Misses())
	if some, err := c.takesPackets(ctx, w); err != nil {
		return err
	} else if some {
		return c.packetsOnWall(ctx, w, f)
	}
	network := "No packet matters: none was lost, late or damaged."
	if len(c.suspects) > 0 {
		network = "No packet matters: with every packet delivered the finding is still there."
	}
	needs, err := c.people(ctx, w, same, c.try(ctx, w))
	if err != nil {
		return err
	}
	delay, err := c.delayOnWall(ctx, w)
	w.Proved = strings.TrimSpace(fmt.Sprintf("%s %s %s", network, delay, needs))
	return err
}

// same is the recorded match up to when the finding must have shown.
func (c *inquiry) same() played.Variant {
	v := c.Recording.Same()
	if until := c.target.Began + findingNear + 2*aftermath; until < c.Plan.Duration {
		c.until, v.Until = until, until
	}
	return v
}

// try is a trial that is told among what was tried.
func (c *inquiry) try(ctx context.Context, w *Why) trial {
	return func(what string, v played.Variant) (Answer, error) {
		answer, err := c.lab.ask(ctx, v, c.target)
		if err == nil {
			w.Needs = append(w.Needs, Need{what, answer == There, answer})
		}
		return answer, err
	}
}

// delayOnWall finds out whether it takes delay, unless the links have none.
func (c *inquiry) delayOnWall(ctx context.Context, w *Why) (string, error) {
	perfect := true
	for _, way := range ways(c.Plan) {
		perfect = perfect && c.usual[way] < 2*time.Millisecond
	}
	if perfect {
		return "The links have no delay either, so the network plays no part in it.", nil
	}
	try := c.try(ctx, w)
	perfectly, err := try("perfect links", c.steady(0))
	switch {
	case err != nil:
		return "", err
	case perfectly == Inconclusive:
		return "Whether it takes delay is not known, because the matches on perfect links are inconclusive.", nil
	case perfectly != Gone:
		return "It is there on perfect links too, so the network plays no part in it.", nil
	}
	steadily, err := try("every packet after the usual time of its link", c.steady(1))
	if err != nil || steadily != Gone {
		return "But it takes delay: on perfect links it is gone.", err
	}
	return "But it hangs on how uneven the delay is: with every packet taking the usual time it is gone.", nil
}

// packetsOnWall finds which packets it takes, when all of them delivered make it go away.
func (c *inquiry) packetsOnWall(ctx context.Context, w *Why, f *judge.Finding) error {
	c.lab.tell("with %d packets that were lost, late or damaged delivered it is gone; looking for those that matter", len(c.suspects))
	gone := func(set []int) played.Variant { return c.world(func(i int) bool { return !slices.Contains(set, i) }) }
	set, err := c.wider(ctx, f, gone)
	if err != nil {
		return err
	}
	enough := false
	set2, err := minimise(len(set), func(sets [][]int) (int, error) {
		if c.lab.Replays() > wallMatches {
			enough = true
			return -1, nil
		}
		return c.lab.firstGone(ctx, len(sets), func(n int) played.Variant { return gone(chosen(set, sets[n])) }, c.target)
	})
	if err != nil {
		return err
	}
	set = chosen(set, set2)
	if enough {
		w.Unproved = append(w.Unproved, fmt.Sprintf("whether it takes all of these %d packets: %d matches were played by then", len(set), wallMatches))
	}
	if w.Packets, err = c.culprits(ctx, set); err != nil {
		return err
	}
	// Many variants were tried, and one of them may have missed it by chance.
	again, err := c.lab.gone(ctx, gone(set), c.target)
	if err != nil {
		return err
	}
	if !again {
		w.Proved = fmt.Sprintf("It takes packets: with all %d delivered that were lost, late or damaged it is gone. Which of them was not found: with those that seemed to be enough it was not gone once more.", len(c.suspects))
		w.Packets = []Culprit{}
		return nil
	}
	w.Gone = true
	if w.There, err = c.shows(ctx, func(i int) bool { return slices.Contains(set, i) }); err != nil {
		return err
	}
	w.Beside = besideNothing
	w.Proved = sentence(w)
	return nil
}

// wider is the first of sets of suspects, each wider than the one before, without which the finding
// is gone: those that its evidence names; those on the way to its view just before; those on its
// view's link; all.
func (c *inquiry) wider(ctx context.Context, f *judge.Finding, gone func([]int) played.Variant) (set []int, err error) {
	evidence := c.named(f)
	named := func(i int) bool { return slices.Contains(evidence, i) }
	before := func(i int) bool {
		s := c.suspects[i]
		return s.Link == f.View && s.outcome.Sent > c.target.Began-wallWindow && s.outcome.Sent <= c.target.Began+lateBy
	}
	was := 0
	for _, of := range []func(i int) bool{
		named,
		func(i int) bool { return before(i) && c.suspects[i].Direction == link.Down },
		before,
		func(i int) bool { return c.suspects[i].Link == f.View },
	} {
		set = set[:0]
		for i := range c.suspects {
			if of(i) {
				set = append(set, i)
			}
		}
		if len(set) <= was || len(set) == len(c.suspects) {
			continue // nothing more than before, or all of them, of which that is known
		}
		was = len(set)
		enough, err := c.lab.gone(ctx, gone(set), c.target)
		if err != nil {
			return nil, err
		}
		if enough {
			return set, nil
		}
	}
	set = nil
	for i := range c.suspects {
		set = append(set, i)
	}
	return set, nil
}
