package replay

import (
	"cmp"
	"context"
	"fmt"
	"math/bits"
	"slices"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/judge"
)

// packets finds which suspects the finding hangs on, when all of them delivered make it
// go away.
func (c *inquiry) packets(ctx context.Context, w *Why, f *judge.Finding) error {
	w.SoFar = fmt.Sprintf("with %d packets that were lost, late or damaged delivered it is gone", len(c.suspects))
	c.lab.tell("%s; looking for those that matter: at least %s", w.SoFar, c.lab.left(bits.Len(uint(len(c.suspects)))+2))
	set, err := c.fewest(ctx, f)
	if err != nil {
		return err
	}
	w.Gone = true
	w.SoFar = fmt.Sprintf("with %s delivered it is gone", and(c.names(set)))
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

// fewest is a minimal set of suspects: delivering all of them removes the finding, delivering fewer does not.
//
// It tries the packets that the finding's evidence names first. If those are not enough it searches from the end: a
// match goes another way as soon as anything in it differs, but up to the first packet that is delivered after all it
// is the match that was recorded.
func (c *inquiry) fewest(ctx context.Context, f *judge.Finding) ([]int, error) {
	gone := func(set []int) played.Variant { return c.world(func(i int) bool { return !slices.Contains(set, i) }) }
	least := func(set []int) ([]int, error) {
		few, err := minimise(len(set), func(sets [][]int) (int, error) {
			return c.lab.firstGone(ctx, len(sets), func(n int) played.Variant { return gone(chosen(set, sets[n])) }, c.target)
		})
		return chosen(set, few), err
	}
	if named := c.named(f); len(named) > 0 && len(named) < len(c.suspects) {
		if enough, err := c.lab.gone(ctx, gone(named), c.target); err != nil || enough {
			if err != nil {
				return nil, err
			}
			return least(named)
		}
	}
	// The latest one from which on all must be delivered for it to be gone.
	last, next := 0, len(c.suspects)
	for next-last > 1 {
		middle := (last + next) / 2
		healed, err := c.gone(ctx, func(i int) bool { return i < middle })
		if err != nil {
			return nil, err
		}
		if healed {
			last = middle
		} else {
			next = middle
		}
	}
	if enough, err := c.lab.gone(ctx, gone([]int{last}), c.target); err != nil || enough {
		return []int{last}, err
	}
	var rest []int // others after it would do its work
	for i := last; i < len(c.suspects); i++ {
		rest = append(rest, i)
	}
	return least(rest)
}

func (c *inquiry) names(set []int) (list []string) {
	for _, i := range set {
		list = append(list, c.culprit(c.suspects[i].Way, c.suspects[i].outcome).String())
	}
	return list
}

// named are the suspects that the evidence of a finding names.
func (c *inquiry) named(f *judge.Finding) (list []int) {
	for i, s := range c.suspects {
		if slices.ContainsFunc(f.Evidence.Packets, func(p judge.PacketRow) bool {
			return cmp.Or(p.Link, f.View) == s.Link && p.Direction == s.Direction.String() && p.Number == s.outcome.Number
		}) {
			list = append(list, i)
		}
	}
	return list
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
			w.Gone, err = c.gone(ctx, func(i int) bool { return !slices.Contains(all, i) })
			return err
		}
	}
	up := func(i int) bool { return c.suspects[i].Direction == link.Up }
	if there, err = c.shows(ctx, func(i int) bool { return in(i) || up(i) }); err != nil {
		return err
	}
	if there {
		w.There, w.Beside, c.company = true, besideUp, up
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
		c.company = func(i int) bool { return i < near }
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
