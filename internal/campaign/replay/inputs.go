package replay

import (
	"context"
	"maps"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/bot"
)

// standing lets bots do nothing but join and leave: all of them, or one by one.
func (s *shrinker) standing(ctx context.Context) error {
	all := s.now
	all.script, all.own = maps.Clone(all.script), nil
	for name, moments := range all.script {
		all.script[name] = standing(moments)
	}
	if i, err := s.first(ctx, all); err != nil || i >= 0 {
		return err
	}
	for _, b := range s.now.plan.Bots {
		k := s.scripted(b.Name, standing(s.now.script[b.Name]))
		if _, err := s.first(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

// scripted is the present sketch with another script for one bot.
func (s *shrinker) scripted(name string, moments []bot.Moment) sketch {
	k := s.now
	k.script, k.own = maps.Clone(k.script), maps.Clone(k.own)
	k.script[name] = moments
	delete(k.own, name)
	return k
}

// keys makes what bots do simpler: they hold keys down instead of turning with a
// steady hand, or do what the plan had them do.
func (s *shrinker) keys(ctx context.Context) error {
	all := s.now
	all.script = maps.Clone(all.script)
	for name, moments := range all.script {
		all.script[name] = keysOnly(moments, true)
	}
	if len(s.now.own) > 0 {
		return nil // simple enough
	}
	if i, err := s.first(ctx, all); err != nil || i >= 0 {
		return err
	}
	for _, b := range s.now.plan.Bots {
		if s.now.own[b.Name] {
			continue
		}
		moments := s.now.script[b.Name]
		own := s.now
		own.own = maps.Clone(own.own)
		if own.own == nil {
			own.own = map[string]bool{}
		}
		own.own[b.Name] = true
		if _, err := s.first(ctx, s.scripted(b.Name, keysOnly(moments, true)), own, s.scripted(b.Name, keysOnly(moments, false))); err != nil {
			return err
		}
	}
	return nil
}

// inputs leaves of what each bot does only what matters.
func (s *shrinker) inputs(ctx context.Context) error {
	for _, b := range s.now.plan.Bots {
		if s.now.own[b.Name] {
			continue
		}
		moments := s.now.script[b.Name]
		var acts []int // those that are no joining or leaving
		for i, m := range moments {
			if !m.Join && !m.Leave {
				acts = append(acts, i)
			}
		}
		all := s.now
		err := s.minimise(ctx, len(acts), func(kept []int) sketch {
			var list []bot.Moment
			for i, m := range moments {
				if n, is := slices.BinarySearch(acts, i); !is || slices.Contains(kept, n) {
					list = append(list, m)
				}
			}
			k := all
			k.script = maps.Clone(all.script)
			k.script[b.Name] = list
			return k
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// round makes the times of the plan round numbers.
func (s *shrinker) round(ctx context.Context) error {
	var rounder []sketch
	for _, to := range []struct {
		time time.Duration
		turn float64
	}{{100 * time.Millisecond, 10}, {10 * time.Millisecond, 100}, {10 * time.Millisecond, 1e6}} {
		k := s.now
		k.script = map[string][]bot.Moment{}
		for name, moments := range s.now.script {
			for _, m := range moments {
				m.At, m.Turn = m.At.Round(to.time), math.Round(m.Turn*to.turn)/to.turn
				k.script[name] = append(k.script[name], m)
			}
		}
		if k.tied {
			k.until = (k.until + to.time - 1).Truncate(to.time)
		}
		rounder = append(rounder, k)
	}
	_, err := s.exactly(ctx, rounder...)
	return err
}

// keysOnly is a script with whole keys held down instead of a steady hand, or with the
// hand to a tenth; with what says the same again left out.
func keysOnly(moments []bot.Moment, keys bool) []bot.Moment {
	var r bot.Recorder
	for _, m := range moments {
		switch {
		case !keys:
			m.Turn = float64(int(m.Turn*10)) / 10
		case m.Turn > 0.5:
			m.Turn = 1
		case m.Turn < -0.5:
			m.Turn = -1
		default:
			m.Turn = 0
		}
		if m.Move > 0 {
			m.Move = 1
		}
		m.At = m.At.Round(10 * time.Millisecond)
		r.Saw(m.At, m.Action)
	}
	return r.Moments
}
