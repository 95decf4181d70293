package replay

import (
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/bot"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/plan"
	"zitherwheel/stage"
)

// Shrunk is the smallest plan that was found that still shows a finding's signature.
type Shrunk struct {
	Signature string
	Plan      *plan.Plan
	Story     []string // what happens in it, line by line
	Left      []string // what could not be made smaller, and why
	Before    Size
	After     Size
	Replays   int
	Of        int // on the wall clock: how often each variant was played
	Needed    int
	Stopped   bool // it was interrupted, or reached the most matches it may play
}

// Size is how much happens in a plan.
type Size struct {
	Bots   int           `json:"bots"`
	Length time.Duration `json:"length"`
	Inputs int           `json:"inputs"` // that bots are told
	Fates  int           `json:"fates"`  // packets that fare other than the rest
}

// Shrink makes the match of a finding as small as it can, playing at most that many
// matches.
func (r *Recording) Shrink(ctx context.Context, l *Lab, f *judge.Finding, most int) (*Shrunk, error) {
	s := &shrinker{inquiry: inquiry{Recording: r, lab: l, usual: map[Way]time.Duration{}}, most: most}
	// The same thing at about the same time first, to know how long it takes.
	s.target = Target{f.Signature, f.View, f.Entity, time.Duration(f.BeganAt), findingNear}
	if err := s.horizon(ctx, f); err != nil {
		return nil, err
	}
	if s.until == 0 {
		s.until = r.Plan.Length
	}
	for way, fates := range r.Fates {
		s.usual[way] = usual(fates)
	}
	s.target, s.view = Target{Signature: f.Signature}, f.View
	out := &Shrunk{Signature: f.Signature, Before: s.sizeBefore(), Story: []string{}, Left: []string{}}
	if r.Plan.Clock == plan.Wall {
		out.Of, out.Needed = max(1, l.Runs), max(1, l.Needed)
	}
	err := s.run(ctx, f)
	out.Replays = l.Replays()
	if errors.Is(err, errEnough) || err != nil && ctx.Err() != nil && s.now.plan != nil {
		out.Stopped, err = true, nil
	}
	if err != nil {
		return nil, err
	}
	if err := s.write(context.WithoutCancel(ctx), out); err != nil {
		return nil, err
	}
	out.Replays = l.Replays()
	return out, nil
}

// errEnough ends the shrinking when it has played as many matches as it may.
var errEnough = errors.New("as many matches were played as may be")

// shrinker makes a sketch smaller step by step.
type shrinker struct {
	inquiry
	most  int
	view  string        // of the finding
	now   sketch        // the smallest that has shown the signature so far
	kind  string        // of the thing that went wrong
	half  time.Duration // how much is lost in a row when half of all is
	fixed bool          // what is lost is not to be tried otherwise
}

// sketch is a match that is getting smaller. Packets are lost by the time at which they
// are sent and not by their numbers, which change whenever something else does.
type sketch struct {
	plan   *plan.Plan // every bot has a link of its own
	script map[string][]bot.Moment
	own    map[string]bool // bots that do what the plan had them do, and follow no script
	losses []loss
	until  time.Duration
	tied   bool // the plan is only as long as the sketch
}

// loss is a stretch of time in which everything is lost one way.
type loss struct {
	Way
	link.Window
}

func (s *shrinker) sizeBefore() Size {
	size := Size{Bots: len(s.Plan.Bots), Length: s.Plan.Length}
	for _, moments := range s.Script {
		size.Inputs += len(moments)
	}
	for _, fates := range s.Fates {
		for _, f := range fates {
			if f.Copies != 1 {
				size.Fates++
			}
		}
	}
	return size
}

// variant is the match of a sketch.
func (s *shrinker) variant(k sketch) Variant {
	p := ownLinks(k.plan)
	if k.tied {
		p.Length = k.until
	}
	for _, l := range k.losses {
		if c := courseOf(p, l.Way); c != nil {
			c.Outages = append(slices.Clone(c.Outages), l.Window)
		}
	}
	for i := range p.Bots {
		if b := &p.Bots[i]; !k.own[b.Name] {
			b.Steps = stepsOf(k.script[b.Name])
		}
	}
	return Variant{Plan: p, Until: k.until}
}

// first makes the first of several smaller sketches that shows the signature the
// present one.
//
// A match with something left out goes another way, and what was lost in it at some
// moment may be lost no more. Where it takes losses at all, each sketch is therefore
// also tried with half of all packets of that way lost, and with the other half.
func (s *shrinker) first(ctx context.Context, sketches ...sketch) (int, error) {
	var all []sketch
	var of []int
	for i, k := range sketches {
		all, of = append(all, k), append(of, i)
		if len(k.losses) > 0 && !s.fixed {
			for _, odd := range []bool{false, true} {
				other := k
				other.losses = halves(k.losses[0].Way, k.until, s.half, odd)
				if !slices.Equal(other.losses, k.losses) {
					all, of = append(all, other), append(of, i)
				}
			}
		}
	}
	i, err := s.exactly(ctx, all...)
	if err != nil || i < 0 {
		return -1, err
	}
	return of[i], nil
}

// exactly is first without other losses.
func (s *shrinker) exactly(ctx context.Context, sketches ...sketch) (int, error) {
	if s.lab.Replays() >= s.most {
		return -1, errEnough
	}
	i, err := s.lab.first(ctx, len(sketches), func(i int) Variant { return s.variant(sketches[i]) }, s.target)
	if err == nil && i >= 0 {
		s.now = sketches[i]
	}
	return i, err
}

// halves are every other stretch of that length up to a time.
func halves(way Way, until, length time.Duration, odd bool) (list []loss) {
	at := time.Duration(0)
	if odd {
		at = length
	}
	for ; at < until; at += 2 * length {
		list = append(list, loss{way, link.Window{From: at, Until: at + length}})
	}
	return list
}

// minimise leaves out of n parts of the present sketch as many as it can. with is the
// sketch in which only those parts are left.
func (s *shrinker) minimise(ctx context.Context, n int, with func(kept []int) sketch) error {
	if n == 0 {
		return nil
	}
	if i, err := s.first(ctx, with(nil)); err != nil || i >= 0 {
		return err
	}
	_, err := minimise(n, func(sets [][]int) (int, error) {
		sketches := make([]sketch, len(sets))
		for i, set := range sets {
			sketches[i] = with(set)
		}
		return s.first(ctx, sketches...)
	})
	return err
}

func (s *shrinker) run(ctx context.Context, f *judge.Finding) error {
	s.lab.tell("looking for the simplest links that show it")
	if err := s.network(ctx, f); err != nil {
		return err
	}
	// The last steps must not be left without matches to play.
	whole := s.most
	s.most -= whole / 8
	s.kind, _, _ = strings.Cut(f.Entity, "/")
	err := s.steps(ctx, []step{
		{"something simple", s.simple},
		{"everybody from the start", s.punctual},
		{"an earlier end", s.trim},
		{"fewer bots", s.bots},
		{"bots that stand still", s.standing},
		{"a shorter match", s.length},
		{"an earlier end", s.trim},
		{"fewer losses", s.losses},
		{"another seed", s.seeds},
		{"simpler inputs", s.keys},
		{"less of the time", s.time},
		{"an earlier end", s.trim},
		{"fewer bots", s.bots},
		{"fewer inputs", s.inputs},
		{"a simpler game", s.game},
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	s.most = whole
	return errors.Join(s.steps(ctx, []step{
		{"fewer losses", s.losses},
		{"simpler links", s.links},
		{"an earlier end", s.trim},
		{"rounder times", s.round},
	}), err)
}

// step is something of which there may be less.
type step struct {
	what string
	do   func(context.Context) error
}

func (s *shrinker) steps(ctx context.Context, steps []step) error {
	for _, step := range steps {
		size := s.now.size()
		s.lab.tell("%d bots, %.1f s, %d inputs, %d losses; trying %s", size.Bots, size.Length.Seconds(), size.Inputs, size.Fates, step.what)
		if err := step.do(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (k sketch) size() Size {
	size := Size{Bots: len(k.plan.Bots), Length: k.until, Fates: len(k.losses)}
	for _, b := range k.plan.Bots {
		if k.own[b.Name] {
			size.Inputs += len(b.Steps)
		} else {
			size.Inputs += len(k.script[b.Name])
		}
	}
	return size
}

// network finds the simplest links on which the recorded inputs show the signature:
// perfect ones, steady ones, those with every other half second lost one way, and if
// nothing else will do the recorded fates.
func (s *shrinker) network(ctx context.Context, f *judge.Finding) error {
	base := func(part float64, until time.Duration) sketch {
		return sketch{plan: s.steady(part).Plan, script: s.Script, until: until}
	}
	untils := []time.Duration{s.until, s.Plan.Length}
	if s.until == s.Plan.Length {
		untils = untils[:1]
	}
	for _, until := range untils {
		if i, err := s.exactly(ctx, base(0, until), base(1, until)); err != nil || i >= 0 {
			return err
		}
	}
	one := time.Second / time.Duration(max(1, s.Plan.Game.Send)) // packet
	for _, until := range untils {
		for _, d := range []link.Direction{link.Down, link.Up} {
			for _, s.half = range []time.Duration{10 * one, one} {
				var lossy []sketch
				for _, part := range []float64{0, 1} {
					for _, odd := range []bool{false, true} {
						k := base(part, until)
						k.losses = halves(Way{f.View, d}, until, s.half, odd)
						lossy = append(lossy, k)
					}
				}
				if i, err := s.exactly(ctx, lossy...); err != nil || i >= 0 {
					return err
				}
			}
		}
	}
	s.lab.tell("neither steady links nor losses in one direction show it; keeping the recorded fates")
	k := sketch{plan: s.given(s.fates()), script: s.Script, until: s.until}
	if i, err := s.exactly(ctx, k); err != nil || i < 0 {
		return errors.Join(err, ErrNotThere)
	}
	return nil
}

// simple tries whether it takes no more than a few bots that run after the kind of thing
// that went wrong, roam, or stand still, for a short time: that is smaller than anything
// a recorded match can be cut down to.
func (s *shrinker) simple(ctx context.Context) error {
	if s.Plan.Build.Given() {
		return nil // who knows what there is to run after
	}
	var list []sketch
	for _, part := range []struct {
		length time.Duration
		seeds  uint64
	}{{shortEnough, 4}, {2 * shortEnough, 3}} {
		for _, bots := range []int{1, 2, len(s.now.plan.Bots)} {
			for _, do := range []plan.Step{{Do: plan.Idle}, {Do: plan.Chase, Kind: s.kind}, {Do: plan.Roam}} {
				for seed := range part.seeds {
					if seed == 0 || do.Do != plan.Idle { // who stands still does the same with all seeds, nearly
						list = append(list, s.simplest(part.length, bots, do, s.Plan.Seed+seed))
					}
				}
			}
		}
	}
	_, err := s.first(ctx, list...)
	return err
}

// simplest is a sketch in which some of the bots, the finding's own first, do one thing.
// Those that join late still join later than the others.
func (s *shrinker) simplest(length time.Duration, bots int, do plan.Step, seed uint64) sketch {
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
		join := plan.Step{Do: plan.Join}
		if moments := s.Script[b.Name]; len(moments) > 0 && moments[0].At > time.Second {
			join.At = lateJoin
		}
		b.Steps = []plan.Step{join}
		if do.Do != plan.Idle {
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
	s.fixed = true
	defer func() { s.fixed = false }()
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

// sent is when packets are sent within a stretch.
func (s *shrinker) sent(ctx context.Context, k sketch, in loss) (list []time.Duration, err error) {
	_, err = s.lab.play(ctx, s.variant(k), stage.Options{Silent: true, Packet: func(p stage.Packet) {
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
	r, err := s.lab.play(ctx, s.variant(s.now), stage.Options{})
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
	s.fixed = len(s.now.losses) > 0
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

// game leaves out mistakes, sheep, and settings that are not the usual ones.
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
	for _, sheep := range []int{0, 1, 2, 4, 8} {
		if sheep >= s.now.plan.Game.Sheep {
			break
		}
		if i, err := s.first(ctx, change(func(p *plan.Plan) { p.Game.Sheep = sheep })); err != nil {
			return err
		} else if i >= 0 {
			break
		}
	}
	usual := plan.Defaults().Game
	for _, simpler := range []func(p *plan.Plan){
		func(p *plan.Plan) { p.Game.Radius = 0 },
		func(p *plan.Plan) { p.Game.Places = 0 },
		func(p *plan.Plan) {
			p.Game.Tick, p.Game.Send, p.Game.Frame, p.Game.Report = usual.Tick, usual.Send, usual.Frame, usual.Report
		},
		func(p *plan.Plan) {
			for i := range p.Bots {
				p.Bots[i].Frame = 0
			}
		},
	} {
		k := change(simpler)
		if samePlan(k.plan, s.now.plan) && k.plan.Game.Tick == s.now.plan.Game.Tick && k.plan.Game.Send == s.now.plan.Game.Send && k.plan.Game.Frame == s.now.plan.Game.Frame && k.plan.Game.Report == s.now.plan.Game.Report {
			continue
		}
		if _, err := s.first(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

// links makes links perfect, or their delay a round number, one after the other.
func (s *shrinker) links(ctx context.Context) error {
	for _, way := range ways(s.now.plan) {
		course := courseOf(s.now.plan, way)
		if course == nil || course.Latency == 0 && len(course.Given) == 0 {
			continue
		}
		if err := s.fewerFates(ctx, way); err != nil {
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

// fewerFates leaves of the recorded fates of one way only those that matter; the rest is
// delivered after the usual time.
func (s *shrinker) fewerFates(ctx context.Context, way Way) error {
	all := s.now
	given := courseOf(all.plan, way).Given
	return s.minimise(ctx, len(given), func(kept []int) sketch {
		k := all
		k.plan = ownLinks(all.plan)
		c := courseOf(k.plan, way)
		*c = link.Course{Quality: link.Quality{Latency: s.usual[way]}}
		for _, i := range kept {
			c.Given = append(c.Given, given[i])
		}
		return k
	})
}
