// Package replay plays a match again that was recorded: as it was (again.go), with
// some of its packets given another outcome, to prove which of them matter (why.go), or
// with less of everything, to find the smallest plan that still goes wrong
// (shrink.go). All three are the same thing to it: a [played.Variant] of the recording, which
// a [Lab] plays.
//
// It knows plans, outcomes and verdicts, and how to have a match played; nothing of how
// results are shown.
package replay

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// Recording is a match that was played, with what is needed to play it again.
type Recording struct {
	Run      *run.Run
	Plan     *plan.Plan
	Verdict  *judge.Verdict
	Outcomes map[Way][]link.Outcome
	Script   map[string][]bot.Moment // what each bot did
	Cargo    *feed.Cargo             // what its packets carried, as far as the programs of a build said it

	unruled *plan.Plan // the plan as it was, if it has no rules: Plan has those that were learned from the match
}

// Way is one direction of a bot's link.
type Way struct {
	Link      string
	Direction link.Direction
}

// Load reads a recording. What the bots of the demo game did on the virtual clock is not
// recorded, because it can be had by letting them do it again.
func Load(ctx context.Context, run *run.Run) (*Recording, error) {
	if len(run.About.Damage) > 0 {
		return nil, fmt.Errorf("%s is not what was recorded, so nothing follows from playing it again: %s", run.Path, run.About.Damage[0])
	}
	p, err := plan.Load(run.PlanPath())
	if err != nil {
		return nil, err
	}
	if err := match.Playable(p); err != nil {
		return nil, err
	}
	r := &Recording{Run: run, Plan: p, Outcomes: map[Way][]link.Outcome{}, Script: map[string][]bot.Moment{}}
	said, err := feed.Recorded(ctx, run, p)
	if err != nil {
		return nil, err
	}
	if p.Unruled() { // what was learned from it is what its variants are judged by
		if rules, err := feed.Rules(ctx, run, p); err == nil && len(rules.Fields) > 0 {
			ruled := *p
			ruled.Rules, r.unruled, r.Plan = rules, p, &ruled
		}
	}
	r.Verdict = said.Verdict
	if err := r.readOutcomes(); err != nil {
		return nil, err
	}
	if p.ByPrograms() {
		if r.Cargo, err = feed.Carried(ctx, run, p); err != nil {
			return nil, err
		}
		return r, r.readScript()
	}
	if len(r.Verdict.Findings) == 0 { // nothing that could be asked about: the bots need not be asked again
		return r, nil
	}
	_, err = match.Run(ctx, p, match.Options{Silent: true, Acted: func(name string, m bot.Moment) { r.Script[name] = append(r.Script[name], m) }})
	if err == nil {
		err = ctx.Err()
	}
	return r, err
}

func (r *Recording) readOutcomes() error {
	file, err := trace.Open(r.Run.PacketsPath())
	if err != nil {
		return err
	}
	defer file.Close()
	reader := run.NewPacketReader(file)
	for {
		name, p, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		way := Way{name, p.Direction}
		r.Outcomes[way] = append(r.Outcomes[way], p.Outcome)
	}
}

func (r *Recording) readScript() error {
	file, err := trace.Open(r.Run.InputsPath())
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: there is no inputs.jsonl.zst in it, so what the bots did is not known; play the match once more with zwheel run", r.Run.Path)
	} else if err != nil {
		return err
	}
	defer file.Close()
	r.Script, err = bot.ReadMoments(file)
	return err
}

// ways are both directions of the links of all bots, in the plan's order.
func ways(p *plan.Plan) (list []Way) {
	for _, b := range p.Bots {
		list = append(list, Way{b.Name, link.Up}, Way{b.Name, link.Down})
	}
	return list
}

// Same is the recorded match: the same inputs, and every packet with its outcome.
func (r *Recording) Same() played.Variant {
	return played.Variant{Plan: r.given(r.outcomes()), Script: r.Script}
}

// outcomes are the outcomes to give all packets that were recorded.
func (r *Recording) outcomes() map[Way][]link.Given {
	all := map[Way][]link.Given{}
	for way, outcomes := range r.Outcomes {
		list := make([]link.Given, len(outcomes))
		for i, f := range outcomes {
			list[i] = f.Given()
			if r.Plan.Clock == plan.Wall {
				list[i].Like = link.Recorded{Sent: f.Sent, Size: f.Size}
			}
		}
		all[way] = list
	}
	return all
}

// given is the plan in which every bot has a link of its own, with those outcomes.
func (r *Recording) given(outcomes map[Way][]link.Given) *plan.Plan {
	p := ownLinks(r.Plan)
	for way, list := range outcomes {
		if c := courseOf(p, way); c != nil {
			c.Given = list
		}
	}
	return p
}

// ownLinks copies a plan and gives every bot a link of its own that is called like it.
func ownLinks(p *plan.Plan) *plan.Plan {
	own := *p
	own.Links, own.Bots = nil, slices.Clone(p.Bots)
	for i, b := range own.Bots {
		l := p.LinkOf(b)
		l.Name = b.Name
		own.Links = append(own.Links, l)
		own.Bots[i].Link = b.Name
	}
	return &own
}

// courseOf is the course of one direction of a link of a plan's own, or nil.
func courseOf(p *plan.Plan, w Way) *link.Course {
	for i := range p.Links {
		l := &p.Links[i]
		switch {
		case l.Name != w.Link:
		case w.Direction == link.Up:
			return &l.Up
		default:
			return &l.Down
		}
	}
	return nil
}

// usual is the median delay of the packets that arrived.
func usual(outcomes []link.Outcome) time.Duration {
	var delays []time.Duration
	for _, f := range outcomes {
		if f.Copies > 0 {
			delays = append(delays, f.Delay())
		}
	}
	if delays == nil {
		return 0
	}
	slices.Sort(delays)
	return delays[len(delays)/2]
}

// without is a script in which some bots are missing.
func without(script map[string][]bot.Moment, names ...string) map[string][]bot.Moment {
	rest := maps.Clone(script)
	for _, name := range names {
		delete(rest, name)
	}
	return rest
}
