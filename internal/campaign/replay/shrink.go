package replay

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
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
	Repeats   *Repeats // on the wall clock: in how many repeats of the recorded match it showed
	Verified  *Repeats // and in how many of the smallest
	Stopped   bool     // it was interrupted, or reached the most matches it may play
}

// Size is how much happens in a plan.
type Size struct {
	Bots     int           `json:"bots"`
	Length   judge.Seconds `json:"length_s"`
	Inputs   int           `json:"inputs"`   // that bots are told
	Outcomes int           `json:"outcomes"` // packets that fare other than the rest
}

// Shrink makes the match of a finding as small as it can, playing at most that many
// matches.
func (r *Recording) Shrink(ctx context.Context, l *Lab, f *judge.Finding, most int) (*Shrunk, error) {
	s := &shrinker{inquiry: inquiry{Recording: r, lab: l, usual: map[Way]time.Duration{}}, most: max(1, most-lastMatches)}
	// The same thing at about the same time first, to know how long it takes.
	s.target = targetOf(f)
	if err := s.horizon(ctx, f); err != nil {
		return nil, err
	}
	if s.until == 0 {
		s.until = r.Plan.Duration
	}
	for way, outcomes := range r.Outcomes {
		s.usual[way] = usual(outcomes)
	}
	s.target, s.view = Target{Signature: f.Signature}, f.View
	out := &Shrunk{Signature: f.Signature, Before: s.sizeBefore(), Story: []string{}, Left: []string{}}
	if r.Plan.Clock == plan.Wall {
		repeats := l.repeats
		out.Repeats = &repeats
	}
	err := s.run(ctx, f)
	out.Replays = l.Replays()
	if s.now.plan != nil && (errors.Is(err, ErrEnough) || err != nil && ctx.Err() != nil) {
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

// lastMatches are kept back for writing what was found.
const lastMatches = 4

// ErrEnough is the error of a shrinking that has played as many matches as it may before
// it had anything to show.
var ErrEnough = errors.New("as many matches were played as may be, and nothing smaller was found yet")

// shrinker makes a sketch smaller step by step.
type shrinker struct {
	inquiry
	most  int
	view  string // of the finding
	now   sketch // the smallest that has shown the signature so far
	kind  string // of the thing that went wrong
	fixed bool   // what is lost is not to be tried otherwise

	recorded bool // nothing simpler than the recorded outcomes has shown it
}

// sketch is a match that is getting smaller. Packets are lost by the time at which they
// are sent and not by their numbers, which change whenever something else does.
type sketch struct {
	plan   *plan.Plan // every bot has a link of its own
	script map[string][]bot.Moment
	own    map[string]bool // bots that do what the plan had them do, and follow no script
	losses []loss
	half   time.Duration // how much is lost in a row where half of all is
	until  time.Duration
	tied   bool // the plan is only as long as the sketch
}

// loss is a stretch of time in which everything is lost one way.
type loss struct {
	Way
	link.Window
}

func (s *shrinker) sizeBefore() Size {
	size := Size{Bots: len(s.Plan.Bots), Length: judge.Seconds(s.Plan.Duration)}
	for _, moments := range s.Script {
		size.Inputs += len(moments)
	}
	for _, outcomes := range s.Outcomes {
		for _, f := range outcomes {
			if f.Copies != 1 {
				size.Outcomes++
			}
		}
	}
	return size
}

// variant is the match of a sketch.
func (s *shrinker) variant(k sketch) played.Variant {
	p := ownLinks(k.plan)
	if k.tied {
		p.Duration = k.until
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
	return played.Variant{Plan: p, Until: k.until}
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
				other.losses = halves(k.losses[0].Way, k.until, k.half, odd)
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
	left := s.most - s.lab.Replays()
	if left <= 0 {
		return -1, ErrEnough
	}
	sketches = sketches[:min(left, len(sketches))]
	i, err := s.lab.first(ctx, len(sketches), func(i int) played.Variant { return s.variant(sketches[i]) }, s.target)
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
	s.most -= whole / 4
	s.kind, _, _ = strings.Cut(f.Entity, "/")
	err := s.steps(ctx, []step{
		{"something simple", s.simple},
		{"everyone from the start", s.punctual},
		{"an earlier end", s.trim},
		{"fewer bots", s.bots},
		{"bots that stand still", s.standing},
		{"simpler links", s.earlyLinks},
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
	if err != nil && !errors.Is(err, ErrEnough) {
		return err
	}
	s.most = whole
	s.fixed = true // what has been cut down is not to grow again
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
		s.lab.tell("%d matches played: bots %d, length %.1f s, inputs %d, losses %d; trying %s", s.lab.Replays(), size.Bots, time.Duration(size.Length).Seconds(), size.Inputs, size.Outcomes, step.what)
		if err := step.do(ctx); err != nil {
			return err
		}
	}
	return nil
}

// packetEvery is how far apart the server's snapshots are.
func (s *shrinker) packetEvery() time.Duration {
	return time.Second / time.Duration(max(1, s.Plan.Game.Send))
}

func (k sketch) size() Size {
	size := Size{Bots: len(k.plan.Bots), Length: judge.Seconds(k.until), Outcomes: len(k.losses)}
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
// nothing else will do the recorded outcomes.
func (s *shrinker) network(ctx context.Context, f *judge.Finding) error {
	one := s.packetEvery()
	base := func(part float64, until time.Duration) sketch {
		return sketch{plan: s.steady(part).Plan, script: s.Script, half: one, until: until}
	}
	untils := []time.Duration{s.until, s.Plan.Duration}
	if s.until == s.Plan.Duration {
		untils = untils[:1]
	}
	for _, until := range untils {
		if i, err := s.exactly(ctx, base(0, until), base(1, until)); err != nil || i >= 0 {
			return err
		}
	}
	// What was lost in the recording, one way alone or both.
	down, up := s.lost(Way{f.View, link.Down}), s.lost(Way{f.View, link.Up})
	var lossy []sketch
	for _, losses := range [][]loss{down, up, append(slices.Clone(down), up...)} {
		if k := base(1, s.until); len(losses) > 0 {
			k.losses = losses
			lossy = append(lossy, k)
		}
	}
	if i, err := s.exactly(ctx, lossy...); err != nil || i >= 0 {
		return err
	}
	for _, until := range untils {
		for _, d := range []link.Direction{link.Down, link.Up} {
			for _, half := range []time.Duration{10 * one, one} {
				var lossy []sketch
				for _, part := range []float64{0, 1} {
					for _, odd := range []bool{false, true} {
						k := base(part, until)
						k.half, k.losses = half, halves(Way{f.View, d}, until, half, odd)
						lossy = append(lossy, k)
					}
				}
				if i, err := s.exactly(ctx, lossy...); err != nil || i >= 0 {
					return err
				}
			}
		}
	}
	s.lab.tell("neither steady links nor losses in one direction show it; keeping the recorded outcomes")
	s.recorded = true
	k := sketch{plan: s.given(s.outcomes()), script: s.Script, half: one, until: s.until}
	if i, err := s.exactly(ctx, k); err != nil || i < 0 {
		return errors.Join(err, ErrNotThere)
	}
	return nil
}
