package replay

import (
	"context"
	"slices"
	"time"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/rulebook"
)

// bots leaves only the bots that matter.
func (s *shrinker) bots(ctx context.Context) error {
	all := s.now
	if len(all.plan.Bots) == 1 {
		return nil
	}
	_, err := minimise(len(all.plan.Bots), func(sets [][]int) (int, error) {
		sketches := make([]sketch, len(sets))
		for i, set := range sets {
			k, p := all, *all.plan
			p.Bots = nil
			for _, n := range set {
				p.Bots = append(p.Bots, all.plan.Bots[n])
			}
			p.Reference, p.Game.Host = all.plan.Reference, all.plan.Game.Host
			k.plan = &p
			sketches[i] = k
		}
		return s.first(ctx, possible(sketches)...)
	})
	return err
}

// possible replaces what would be no plan by one that shows nothing: without the bot
// that hosts the match, or that others are held against.
func possible(sketches []sketch) []sketch {
	for i, k := range sketches {
		has := func(name string) bool {
			return slices.ContainsFunc(k.plan.Bots, func(b plan.Bot) bool { return b.Name == name })
		}
		host, reference := k.plan.Game.Host, k.plan.Reference
		if host != "" && !has(host) || reference != "" && reference != rulebook.Server && reference != rulebook.NoReference && !has(reference) {
			p := *k.plan
			p.Bots, p.Game.Host, p.Reference = p.Bots[:1], "", ""
			sketches[i].plan, sketches[i].until = &p, time.Millisecond
		}
	}
	return sketches
}
