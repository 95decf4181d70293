package replay

import (
	"context"
	"slices"

	"zitherwheel/internal/plan"
)

// game leaves out faults, sheep, and settings that are not the usual ones.
func (s *shrinker) game(ctx context.Context) error {
	change := func(change func(p *plan.Plan)) sketch {
		k, p := s.now, *s.now.plan
		p.Bots, p.Game.Faults = slices.Clone(p.Bots), slices.Clone(p.Game.Faults)
		change(&p)
		k.plan = &p
		return k
	}
	for i := len(s.now.plan.Game.Faults) - 1; i >= 0; i-- {
		if _, err := s.first(ctx, change(func(p *plan.Plan) { p.Game.Faults = slices.Delete(p.Game.Faults, i, i+1) })); err != nil {
			return err
		}
	}
	for _, population := range []int{0, 1, 2, 4, 8} {
		if population >= s.now.plan.Game.Population {
			break
		}
		if i, err := s.first(ctx, change(func(p *plan.Plan) { p.Game.Population = population })); err != nil {
			return err
		} else if i >= 0 {
			break
		}
	}
	usual := plan.Defaults().Game
	for _, simpler := range []func(p *plan.Plan){
		func(p *plan.Plan) { p.Game.InterestRadius = 0 },
		func(p *plan.Plan) { p.Game.MaxPlayers = 0 },
		func(p *plan.Plan) {
			p.Game.Tick, p.Game.Send, p.Game.FPS, p.Game.Report = usual.Tick, usual.Send, usual.FPS, usual.Report
		},
		func(p *plan.Plan) {
			for i := range p.Bots {
				p.Bots[i].FPS = 0
			}
		},
	} {
		k := change(simpler)
		if samePlan(k.plan, s.now.plan) {
			continue
		}
		if _, err := s.first(ctx, k); err != nil {
			return err
		}
	}
	return nil
}
