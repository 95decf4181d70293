package replay

import (
	"context"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// length makes the plan no longer than the sketch.
func (s *shrinker) length(ctx context.Context) error {
	if s.now.tied {
		return nil
	}
	k := s.now
	k.tied = true
	_, err := s.first(ctx, k)
	return err
}

// trim ends the match soon after the finding.
func (s *shrinker) trim(ctx context.Context) error {
	r, err := s.lab.play(ctx, s.variant(s.now), match.Options{})
	if err != nil {
		return err
	}
	f := s.target.In(r.Verdict)
	if f == nil {
		return nil // on the wall clock
	}
	var earlier []sketch
	for _, more := range []time.Duration{time.Second / 2, time.Second, 2 * time.Second, 4 * time.Second} {
		if until := max(time.Duration(f.BeganAt)+more, leastLength); until < s.now.until-200*time.Millisecond {
			k := s.now
			k.until = until
			earlier = append(earlier, k)
		}
	}
	_, err = s.first(ctx, earlier...)
	return err
}

const (
	timeParts   = 8
	leastLength = time.Second // of a match: a shorter one is no easier to read
)

// time leaves stretches of time out of the match.
func (s *shrinker) time(ctx context.Context) error {
	all := s.now
	if all.until <= leastLength {
		return nil
	}
	parts := min(timeParts, max(1, int(all.until/(50*time.Millisecond))))
	return s.minimise(ctx, parts, func(kept []int) sketch {
		if len(kept) == 0 {
			k := all
			k.until = leastLength
			return k
		}
		k := s.cut(all, parts, kept)
		k.until = max(k.until, leastLength)
		return k
	})
}

// cut leaves of a sketch, parted evenly in time, only those parts. What bots do once
// at their joining and leaving, and what goes on at the end of a part, stays.
func (s *shrinker) cut(k sketch, parts int, kept []int) sketch {
	edge := func(part int) time.Duration { return k.until * time.Duration(part) / time.Duration(parts) }
	// moved is when something happens in what is left, and whether it is in it.
	moved := func(at time.Duration) (time.Duration, bool) {
		sum := time.Duration(0)
		for part := range parts {
			from, to := edge(part), edge(part+1)
			in := slices.Contains(kept, part)
			if at < to || part == parts-1 {
				if in {
					return sum + max(0, at-from), true
				}
				return sum, false
			}
			if in {
				sum += to - from
			}
		}
		return sum, false
	}
	shorter := k
	shorter.script = map[string][]bot.Moment{}
	for name, moments := range k.script {
		var list []bot.Moment
		for _, m := range moments {
			at, in := moved(m.At)
			m.At = at.Round(time.Microsecond)
			if !in {
				m.Press = ""
			}
			// Several that fall together become one, except those that join or leave.
			if last := len(list) - 1; last >= 0 && !in && list[last].At == m.At && !list[last].Once() {
				list[last] = m
				continue
			}
			list = append(list, m)
		}
		shorter.script[name] = list
	}
	shorter.losses = nil
	for _, l := range k.losses {
		from, in := moved(l.From)
		if until, _ := moved(l.Until); in && until > from {
			shorter.losses = append(shorter.losses, loss{l.Way, link.Window{From: from, Until: until}})
		}
	}
	shorter.until, _ = moved(k.until)
	shorter.until = shorter.until.Round(time.Microsecond)
	return shorter
}

const (
	shortEnough = 5 * time.Second
	seedsTried  = 12
)

// seeds looks for a seed with which a match that is still long is short.
func (s *shrinker) seeds(ctx context.Context) error {
	if s.now.until <= shortEnough || s.Plan.Clock == plan.Wall {
		return nil
	}
	var list []sketch
	for seed := range uint64(seedsTried) {
		k, p := s.now, *s.now.plan
		p.Seed = seed + 1
		k.plan, k.until = &p, shortEnough
		list = append(list, k)
	}
	_, err := s.first(ctx, list...)
	return err
}
