package replay

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
)

// packets finds which suspects the finding hangs on, when all of them delivered make it
// go away.
//
// A match goes another way as soon as something else happens in it, so it is asked from
// the end: up to the first packet that is delivered after all, the match is the very
// one that was recorded.
func (c *inquiry) packets(ctx context.Context, w *Why) error {
	c.lab.tell("with %d packets that were lost, late or damaged delivered it is gone; looking for those that matter", len(c.suspects))
	// The latest one from which on all must be delivered for it to be gone.
	last, next := 0, len(c.suspects)
	for next-last > 1 {
		middle := (last + next) / 2
		there, err := c.shows(ctx, func(i int) bool { return i < middle })
		if err != nil {
			return err
		}
		if there {
			next = middle
		} else {
			last = middle
		}
	}
	gone := func(set []int) played.Variant { return c.world(func(i int) bool { return !slices.Contains(set, i) }) }
	set := []int{last}
	there, err := c.lab.shows(ctx, gone(set), c.target)
	if err != nil {
		return err
	}
	if there { // others after it would do its work
		rest := len(c.suspects) - last
		set, err = minimise(rest, func(sets [][]int) (int, error) {
			return c.lab.firstNot(ctx, len(sets), func(n int) played.Variant { return gone(shifted(sets[n], last)) }, c.target)
		})
		if err != nil {
			return err
		}
		set = shifted(set, last)
	}
	w.Gone = true
	if w.Packets, err = c.culprits(ctx, set); err != nil {
		return err
	}
	if w.Appears, err = c.appears(ctx, set); err != nil {
		return err
	}
	if err := c.alone(ctx, w, set); err != nil {
		return err
	}
	w.Proved = sentence(w)
	near := c.suspects[set[len(set)-1]]
	if near.Link == c.target.View && near.Direction == link.Down && c.target.Began-near.outcome.Sent < findingNear+time.Second {
		return nil
	}
	return c.control(ctx, w)
}

func shifted(set []int, by int) []int {
	moved := make([]int, len(set))
	for i, n := range set {
		moved[i] = n + by
	}
	return moved
}

// Beside shows what is left as it was beside the packets that matter.
const (
	besideNothing = "all others delivered"
	besideUp      = "all others to clients delivered"
)

// alone finds out in what company the packets make the finding: with all others
// delivered, with some of their neighbours lost too, or only in the match that the
// losses of what clients sent had made of it by then.
func (c *inquiry) alone(ctx context.Context, w *Why, set []int) error {
	in := func(i int) bool { return slices.Contains(set, i) }
	there, err := c.shows(ctx, in)
	if err != nil {
		return err
	}
	if there {
		w.There, w.Beside = true, besideNothing
		return c.single(ctx, w, set)
	}
	first := c.suspects[set[0]]
	var near []int // on the same way, shortly before
	for i, s := range c.suspects {
		if s.Way == first.Way && i < set[0] && first.outcome.Sent-s.outcome.Sent < findingNear {
			near = append(near, i)
		}
	}
	if len(near) > 0 {
		with := func(more []int) func(int) bool { return func(i int) bool { return in(i) || slices.Contains(more, i) } }
		if there, err = c.shows(ctx, with(near)); err != nil {
			return err
		}
		if there {
			more, err := minimise(len(near), func(sets [][]int) (int, error) {
				return c.lab.first(ctx, len(sets), func(n int) played.Variant { return c.world(with(chosen(near, sets[n]))) }, c.target)
			})
			if err != nil {
				return err
			}
			w.There, w.Beside = true, besideNothing
			all := append(chosen(near, more), set...)
			if w.Packets, err = c.culprits(ctx, all); err != nil {
				return err
			}
			// That it is gone was shown for fewer of them.
			still, err := c.shows(ctx, func(i int) bool { return !slices.Contains(all, i) })
			w.Gone = !still
			return err
		}
	}
	if there, err = c.shows(ctx, func(i int) bool { return in(i) || c.suspects[i].Direction == link.Up }); err != nil {
		return err
	}
	if there {
		w.There, w.Beside = true, besideUp
	} else if err := c.since(ctx, w, set, in); err != nil {
		return err
	}
	return c.counterpart(ctx, w, first)
}

func chosen(list, numbers []int) (some []int) {
	for _, n := range numbers {
		some = append(some, list[n])
	}
	return some
}

// since finds how far back all others can be delivered.
func (c *inquiry) since(ctx context.Context, w *Why, set []int, in func(int) bool) error {
	far, near := 0, set[0] // delivered from far on it is gone; from near on it is there
	for near-far > 1 {
		middle := (far + near) / 2
		there, err := c.shows(ctx, func(i int) bool { return in(i) || i < middle })
		if err != nil {
			return err
		}
		if there {
			near = middle
		} else {
			far = middle
		}
	}
	there, err := c.shows(ctx, func(i int) bool { return in(i) || i < near })
	if there {
		w.There, w.Beside = true, fmt.Sprintf("all others from %.3f s on delivered", c.suspects[near].outcome.Sent.Seconds())
	}
	return err
}

// single finds out which of several packets does it alone.
func (c *inquiry) single(ctx context.Context, w *Why, set []int) error {
	if len(set) == 1 {
		return nil
	}
	few, err := minimise(len(set), func(sets [][]int) (int, error) {
		return c.lab.first(ctx, len(sets), func(n int) played.Variant {
			some := chosen(set, sets[n])
			return c.world(func(i int) bool { return slices.Contains(some, i) })
		}, c.target)
	})
	if err != nil || len(few) == len(set) {
		return err
	}
	names, err := c.culprits(ctx, chosen(set, few))
	for _, n := range names {
		w.Enough = append(w.Enough, n.String())
	}
	return err
}

// counterpart looks in the match in which every packet is delivered for a single one
// whose loss makes such a finding: what the packet carried may be carried by another
// there.
func (c *inquiry) counterpart(ctx context.Context, w *Why, like suspect) error {
	healthy := c.world(func(int) bool { return false })
	var sent []link.Outcome
	if _, err := c.lab.play(ctx, healthy, match.Options{Silent: true, Packet: func(p match.Packet) {
		if p.Link == like.Link && p.Direction == like.Direction && (p.Sent-like.outcome.Sent).Abs() < counterpartNear {
			sent = append(sent, p.Outcome)
		}
	}}); err != nil {
		return err
	}
	target := c.target
	target.Entity = "" // another may be what it happens to
	losing := func(numbers []int) played.Variant {
		v := healthy
		v.Plan = ownLinks(healthy.Plan)
		course := courseOf(v.Plan, like.Way)
		lost := map[uint64]bool{}
		for _, n := range numbers {
			lost[sent[n].Number] = true
		}
		course.Given = slices.DeleteFunc(slices.Clone(course.Given), func(g link.Given) bool { return lost[g.Number] })
		for number := range lost {
			course.Given = append(course.Given, link.Given{Number: number, Dropped: link.Lost})
		}
		slices.SortFunc(course.Given, func(a, b link.Given) int { return cmp.Compare(a.Number, b.Number) })
		return v
	}
	all := make([]int, len(sent))
	for i := range all {
		all[i] = i
	}
	if len(all) == 0 {
		return nil
	}
	there, err := c.lab.shows(ctx, losing(all), target)
	if err != nil || !there {
		return err
	}
	set, err := minimise(len(all), func(sets [][]int) (int, error) {
		return c.lab.first(ctx, len(sets), func(n int) played.Variant { return losing(sets[n]) }, target)
	})
	if err != nil {
		return err
	}
	var culprits []Culprit
	for _, n := range set {
		culprits = append(culprits, c.culprit(like.Way, sent[n]))
		culprits[len(culprits)-1].Outcome = link.Lost.String()
	}
	if err := c.describe(ctx, culprits, losing(set)); err != nil {
		return err
	}
	for _, culprit := range culprits {
		w.Counterpart = append(w.Counterpart, culprit.String())
	}
	return nil
}

// culprits tells what is known of suspects.
func (c *inquiry) culprits(ctx context.Context, set []int) ([]Culprit, error) {
	var list []Culprit
	for _, i := range set {
		list = append(list, c.culprit(c.suspects[i].Way, c.suspects[i].outcome))
	}
	carried(list, c.Cargo)
	return list, c.describe(ctx, list, c.world(func(int) bool { return true }))
}

func (c *inquiry) culprit(way Way, f link.Outcome) Culprit {
	return Culprit{Packet: f.Number, Link: way.Link, Direction: way.Direction.String(), Sent: f.Sent.Seconds(), Bytes: f.Size, Outcome: outcomeText(f, c.usual[way])}
}

// outcomeText says what became of a packet.
func outcomeText(f link.Outcome, usual time.Duration) string {
	ms := func(d time.Duration) string { return fmt.Sprintf("%.0f ms", d.Seconds()*1e3) }
	switch {
	case f.Copies == 0:
		return f.Dropped.String()
	case f.Flipped > 0:
		return "damaged"
	case f.Copies > 1:
		return "arrived twice"
	case f.Resent > 0:
		return "held up for " + ms(f.Delay())
	}
	return fmt.Sprintf("arrived after %s instead of %s", ms(f.Delay()), ms(usual))
}
