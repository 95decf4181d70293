package replay

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// control asks whether such a finding needs such a packet at all, when the packet that
// was found came long before it, or went elsewhere: whatever happens in a match changes
// all that comes after it, so the packet may have done no more than that. Other matches
// are played, with other seeds, in which every packet is delivered.
func (c *inquiry) control(ctx context.Context, w *Why) error {
	if c.Plan.Clock == plan.Wall {
		w.Unproved = append(w.Unproved, "whether it takes such a packet at all: it came long before, or went to somebody else, and may only have let the match go this way")
		return nil
	}
	c.lab.tell("it came long before, or went elsewhere; looking for the finding in matches in which every packet is delivered")
	var lock sync.Mutex
	shown, told := map[uint64]*judge.Finding{}, 0
	err := campaign.Each(ctx, campaign.AtOnce(c.lab.Workers, false), campaign.Numbers(controls), func(n int) error {
		v := c.steady(1)
		p := *v.Plan
		p.Seed = c.Plan.Seed + uint64(n)
		r, err := c.lab.play(ctx, played.Variant{Plan: &p}, match.Options{})
		if err != nil {
			return err
		}
		of := Target{Signature: c.target.Signature}
		said, _ := of.told(played.TriedOf(r.Verdict))
		lock.Lock()
		defer lock.Unlock()
		if said.Answer != Inconclusive {
			told++
		}
		if f := of.In(r.Verdict); f != nil && said.Answer == There {
			shown[p.Seed] = f
		}
		return nil
	})
	if err != nil {
		return err
	}
	if told == 0 {
		w.Unproved = append(w.Unproved, "whether it takes such a packet at all: no match with another seed could be told")
		return nil
	}
	if len(shown) == 0 {
		w.Unproved = append(w.Unproved, fmt.Sprintf("how it comes from there to the finding; none of %d matches with other seeds in which every packet was delivered showed such a one, so it seems to take a packet", told))
		return nil
	}
	w.Without, w.WithoutOf = len(shown), told
	if len(shown)*seldomWithout < told {
		w.Proved += fmt.Sprintf(" It can come without a lost packet too: of %d matches with other seeds in which every packet was delivered %d %s such a finding.", told, len(shown), map[bool]string{true: "shows", false: "show"}[len(shown) == 1])
		return nil
	}
	w.Proved += fmt.Sprintf(" But it takes no such packet: of %d matches with other seeds in which every packet was delivered %d show such a finding. That packet only let this match go that way.", told, len(shown))
	seed := slices.Min(slices.Collect(maps.Keys(shown)))
	return c.otherMatch(ctx, w, seed, shown[seed])
}

// otherMatch looks for what such a finding hangs on in another match that shows one.
func (c *inquiry) otherMatch(ctx context.Context, w *Why, seed uint64, f *judge.Finding) error {
	other := &inquiry{Recording: &Recording{Run: c.Run, Script: map[string][]bot.Moment{}, Outcomes: c.Outcomes}, lab: c.lab, usual: c.usual,
		target: targetOf(f)}
	p := *c.Plan
	p.Seed = seed
	other.Plan = &p
	if _, err := c.lab.play(ctx, played.Variant{Plan: c.steadyOf(&p, 1)}, match.Options{Silent: true, Acted: func(name string, m bot.Moment) {
		other.Script[name] = append(other.Script[name], m)
	}}); err != nil {
		return err
	}
	w.Needs = append(w.Needs, Need{fmt.Sprintf("the match of seed %d, every packet after the usual time", seed), true, There})
	if there, err := c.lab.shows(ctx, other.steady(1), other.target); err != nil || !there {
		w.Unproved = append(w.Unproved, fmt.Sprintf("what it takes in the match of seed %d: played again by what its bots did, it goes another way", seed))
		return err
	}
	network, needs, err := other.otherwise(ctx, w)
	w.Proved = strings.TrimSpace(fmt.Sprintf("%s In the one of seed %d, %s. %s", w.Proved, seed, network, needs))
	return err
}

const (
	controls      = 24
	seldomWithout = 4 // in fewer than one of so many, such a finding comes without a packet only now and then
)
