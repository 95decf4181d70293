package replay

import (
	"context"
	"maps"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// simple tries whether it takes no more than a few bots that run after the kind of thing
// that went wrong, roam, or stand still, for a short time: that is smaller than anything
// a recorded match can be cut down to.
func (s *shrinker) simple(ctx context.Context) error {
	if s.Plan.Build.Given() {
		return nil // who knows what there is to run after
	}
	one := s.packetEvery()
	for _, half := range []time.Duration{10 * one, one} {
		from := s.now
		if s.recorded { // on links that are simpler than those
			from = sketch{plan: s.steady(1).Plan, script: s.Script, losses: halves(Way{s.view, link.Down}, s.now.until, half, false)}
		}
		from.half = half
		if i, err := s.first(ctx, s.simplerThan(from)...); err != nil || i >= 0 {
			return err
		}
		if len(from.losses) == 0 {
			break // nothing is lost, so how much in a row does not matter
		}
	}
	return nil
}

// simplerThan are the sketches to try, the simplest first.
func (s *shrinker) simplerThan(from sketch) (list []sketch) {
	type part struct {
		length time.Duration
		seeds  uint64
	}
	parts := []part{{shortEnough, 3}, {2 * shortEnough, 2}}
	if s.recorded { // it is worth more: with the recorded outcomes no plan becomes small
		parts = []part{{shortEnough, seedsTried}}
	}
	for _, part := range parts {
		for _, bots := range []int{1, 2, len(from.plan.Bots)} {
			for _, do := range []bot.Step{{Do: bot.Idle}, {Do: bot.Chase, Kind: s.kind}, {Do: bot.Roam}} {
				for seed := range part.seeds {
					if seed == 0 || do.Do != bot.Idle { // who stands still does the same with all seeds, nearly
						list = append(list, s.simplest(from, part.length, bots, do, s.Plan.Seed+seed))
					}
				}
			}
		}
	}
	return list
}

// simplest is a sketch like another in which some of the bots, the finding's own first, do one thing.
// Those that join late still join later than the others.
func (s *shrinker) simplest(k sketch, length time.Duration, bots int, do bot.Step, seed uint64) sketch {
	p := *k.plan
	p.Seed, p.Bots = seed, slices.Clone(p.Bots)
	slices.SortStableFunc(p.Bots, func(a, b plan.Bot) int {
		switch view := s.view; {
		case a.Name == view:
			return -1
		case b.Name == view:
			return 1
		}
		return 0
	})
	p.Bots = p.Bots[:min(bots, len(p.Bots))]
	k.own = map[string]bool{}
	for i := range p.Bots {
		b := &p.Bots[i]
		join := bot.Step{Do: bot.Join}
		if moments := s.Script[b.Name]; len(moments) > 0 && moments[0].At > time.Second {
			join.At = lateJoin
		}
		b.Steps = []bot.Step{join}
		if do.Do != bot.Idle {
			b.Steps = append(b.Steps, do)
		}
		k.own[b.Name] = true
	}
	k.plan, k.until, k.tied = &p, length, true
	if len(k.losses) > 0 {
		k.losses = halves(k.losses[0].Way, length, k.half, false)
	}
	return k
}

const lateJoin = 2 * time.Second

// punctual lets everybody join at the start.
func (s *shrinker) punctual(ctx context.Context) error {
	k, p := s.now, *s.now.plan
	p.Bots, k.script = slices.Clone(p.Bots), maps.Clone(k.script)
	late := false
	for i := range p.Bots {
		b := &p.Bots[i]
		if k.own[b.Name] {
			b.Steps = slices.Clone(b.Steps)
			late = late || b.Steps[0].At > 0
			b.Steps[0].At = 0
		} else if moments := k.script[b.Name]; len(moments) > 0 && moments[0].At > time.Second {
			late = true
			k.script[b.Name] = joinAtStart(moments)
		}
	}
	if !late {
		return nil
	}
	k.plan = &p
	_, err := s.first(ctx, k)
	return err
}
