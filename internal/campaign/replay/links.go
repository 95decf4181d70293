package replay

import (
	"context"
	"time"

	"zitherwheel/internal/network/link"
)

// earlyLinks makes links simpler while what is lost may still change, if anything is.
func (s *shrinker) earlyLinks(ctx context.Context) error {
	if len(s.now.losses) == 0 && !s.recorded {
		return nil
	}
	return s.links(ctx)
}

// links makes links perfect, or their delay a round number, one after the other.
func (s *shrinker) links(ctx context.Context) error {
	for _, way := range ways(s.now.plan) {
		course := courseOf(s.now.plan, way)
		if course == nil || course.Latency == 0 && len(course.Given) == 0 {
			continue
		}
		if err := s.fewerOutcomes(ctx, way); err != nil {
			return err
		}
		delay := course.Latency
		var simpler []sketch
		for _, d := range []time.Duration{0, delay.Round(50 * time.Millisecond), delay.Round(10 * time.Millisecond)} {
			k := s.now
			k.plan = ownLinks(s.now.plan)
			courseOf(k.plan, way).Latency = d
			simpler = append(simpler, k)
		}
		if _, err := s.first(ctx, simpler...); err != nil {
			return err
		}
	}
	return nil
}

// fewerOutcomes leaves of the recorded outcomes of one way only those that matter; the rest is
// delivered after the usual time.
func (s *shrinker) fewerOutcomes(ctx context.Context, way Way) error {
	all := s.now
	given := courseOf(all.plan, way).Given
	return s.minimise(ctx, len(given), func(kept []int) sketch {
		k := all
		k.plan = ownLinks(all.plan)
		c := courseOf(k.plan, way)
		*c = link.Course{Conditions: link.Conditions{Latency: s.usual[way]}}
		for _, i := range kept {
			c.Given = append(c.Given, given[i])
		}
		return k
	})
}
