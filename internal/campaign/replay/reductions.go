package replay

import (
	"context"
	"maps"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
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
	was, half := s.now, s.half
	one := s.packetEvery()
	for _, s.half = range []time.Duration{10 * one, one} {
		if s.recorded { // on links that are simpler than those
			s.now = sketch{plan: s.steady(1).Plan, script: s.Script, losses: halves(Way{s.view, link.Down}, was.until, s.half, false)}
		}
		if i, err := s.simpler(ctx); err != nil || i >= 0 {
			return err
		}
		s.now = was
		if len(was.losses) == 0 && !s.recorded {
			break // nothing is lost, so how much in a row does not matter
		}
	}
	s.half = half
	return nil
}

func (s *shrinker) simpler(ctx context.Context) (int, error) {
	type part struct {
		length time.Duration
		seeds  uint64
	}
	parts := []part{{shortEnough, 3}, {2 * shortEnough, 2}}
	if s.recorded { // it is worth more: with the recorded outcomes no plan becomes small
		parts = []part{{shortEnough, seedsTried}}
	}
	var list []sketch
	for _, part := range parts {
		for _, bots := range []int{1, 2, len(s.now.plan.Bots)} {
			for _, do := range []bot.Step{{Do: bot.Idle}, {Do: bot.Chase, Kind: s.kind}, {Do: bot.Roam}} {
				for seed := range part.seeds {
					if seed == 0 || do.Do != bot.Idle { // who stands still does the same with all seeds, nearly
						list = append(list, s.simplest(part.length, bots, do, s.Plan.Seed+seed))
					}
				}
			}
		}
	}
	return s.first(ctx, list...)
}

// simplest is a sketch in which some of the bots, the finding's own first, do one thing.
// Those that join late still join later than the others.
func (s *shrinker) simplest(length time.Duration, bots int, do bot.Step, seed uint64) sketch {
	k, p := s.now, *s.now.plan
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
		k.losses = halves(k.losses[0].Way, length, s.half, false)
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

// losses leaves only those losses that matter: stretches, then packets.
func (s *shrinker) losses(ctx context.Context) error {
	if len(s.now.losses) == 0 {
		return nil
	}
	was := s.fixed
	s.fixed = true
	defer func() { s.fixed = was }()
	fewer := func() error {
		all := s.now
		return s.minimise(ctx, len(all.losses), func(kept []int) sketch {
			k := all
			k.losses = nil
			for _, i := range kept {
				k.losses = append(k.losses, all.losses[i])
			}
			return k
		})
	}
	if err := fewer(); err != nil {
		return err
	}
	k := s.now
	k.losses = nil
	for _, l := range s.now.losses {
		whole := s.now
		whole.losses = nil
		sent, err := s.sent(ctx, whole, l)
		if err != nil {
			return err
		}
		for _, at := range sent {
			k.losses = append(k.losses, loss{l.Way, link.Window{From: at - time.Millisecond, Until: at + time.Millisecond}})
		}
	}
	if i, err := s.exactly(ctx, k); err != nil || i < 0 {
		return err
	}
	return fewer()
}

// lost are the losses of one way in the recording, by the time at which they were sent.
func (s *shrinker) lost(way Way) (list []loss) {
	for _, f := range s.Outcomes[way] {
		if f.Copies == 0 && f.Sent < s.until {
			list = append(list, loss{way, link.Window{From: max(0, f.Sent-time.Millisecond), Until: f.Sent + time.Millisecond}})
		}
	}
	return list
}

// sent is when packets are sent within a stretch.
func (s *shrinker) sent(ctx context.Context, k sketch, in loss) (list []time.Duration, err error) {
	_, err = s.lab.play(ctx, s.variant(k), match.Options{Silent: true, Packet: func(p match.Packet) {
		if p.Link == in.Link && p.Direction == in.Direction && p.Sent >= in.From && p.Sent < in.Until {
			list = append(list, p.Sent)
		}
	}})
	return list, err
}

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
		if host != "" && !has(host) || reference != "" && reference != "server" && reference != "none" && !has(reference) {
			p := *k.plan
			p.Bots, p.Game.Host, p.Reference = p.Bots[:1], "", ""
			sketches[i].plan, sketches[i].until = &p, time.Millisecond
		}
	}
	return sketches
}

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
		if until := time.Duration(f.BeganAt) + more; until < s.now.until-200*time.Millisecond {
			k := s.now
			k.until = until
			earlier = append(earlier, k)
		}
	}
	_, err = s.first(ctx, earlier...)
	return err
}

const timeParts = 8

// time leaves stretches of time out of the match.
func (s *shrinker) time(ctx context.Context) error {
	all := s.now
	parts := min(timeParts, max(1, int(all.until/(50*time.Millisecond))))
	return s.minimise(ctx, parts, func(kept []int) sketch {
		if len(kept) == 0 {
			k := all
			k.until = time.Millisecond
			return k
		}
		return s.cut(all, parts, kept)
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
