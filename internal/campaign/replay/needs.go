package replay

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// otherwise looks for what a finding hangs on that hangs on no packet: delay, who
// plays, when they joined, what they did, and the rates. It says in words what part the
// network plays, and what else it takes.
func (c *inquiry) otherwise(ctx context.Context, w *Why) (network, needs string, err error) {
	c.lab.tell("no packet makes the difference; trying other things")
	try := c.try(ctx, w)
	// On perfect links, then with every packet after the usual time of its way.
	base := c.steady(0)
	perfectly, err := try("perfect links", base)
	if err != nil {
		return "", "", err
	}
	if perfectly == Inconclusive {
		return "what part the network plays is not known, because the match on perfect links is inconclusive", "", nil
	}
	perfect := perfectly != Gone
	if !perfect {
		base = c.steady(1)
		steadily, err := try("every packet after the usual time of its link", base)
		if err != nil {
			return "", "", err
		}
		if steadily == Inconclusive {
			return "it takes delay: on perfect links it is gone", "", nil
		}
		if steadily == Gone {
			w.Unproved = append(w.Unproved, "which delays matter")
			return "it hangs on how uneven the delay is: with every packet taking the usual time it is gone", "", nil
		}
		if err := c.leastDelay(ctx, w); err != nil {
			return "", "", err
		}
	}
	needs, err = c.people(ctx, w, base, try)
	if !perfect {
		return "it takes delay, and no more than that of the network", needs, err
	}
	return "the network plays no part in it", needs, err
}

// steady is the recorded match with every packet delivered after that part of the
// usual time.
func (c *inquiry) steady(part float64) played.Variant {
	return played.Variant{Plan: c.steadyOf(c.Plan, part), Script: c.Script, Until: c.until}
}

func (c *inquiry) steadyOf(p *plan.Plan, part float64) *plan.Plan {
	p = ownLinks(p)
	for _, way := range ways(p) {
		*courseOf(p, way) = link.Course{Conditions: link.Conditions{Latency: time.Duration(part * float64(c.usual[way])).Round(time.Millisecond)}}
	}
	for i := range p.Links {
		p.Links[i].Moves, p.Links[i].Resets = nil, nil
	}
	return p
}

const leastDelaySteps = 5

// leastDelay halves its way to the part of the usual delay that it takes.
func (c *inquiry) leastDelay(ctx context.Context, w *Why) error {
	gone, there := 0.0, 1.0
	for range leastDelaySteps {
		middle := (gone + there) / 2
		answer, err := c.lab.ask(ctx, c.steady(middle), c.target)
		if err != nil {
			return err
		}
		switch answer {
		case There:
			there = middle
		case Gone:
			gone = middle
		default:
			return nil // between these nothing can be told
		}
	}
	down := c.usual[Way{w.View, link.Down}].Seconds() * 1e3
	w.Needs = append(w.Needs, Need{fmt.Sprintf("%.0f ms to %s, and the others in proportion", there*down, w.View), true, There},
		Need{fmt.Sprintf("%.0f ms to %s, and the others in proportion", gone*down, w.View), false, Gone})
	return nil
}

// trial plays a variant, and says what it tells of the finding; what names it in the list of what was tried.
type trial func(what string, v played.Variant) (Answer, error)

// people finds who is needed, and of these whose late joining and whose inputs.
func (c *inquiry) people(ctx context.Context, w *Why, base played.Variant, try trial) (string, error) {
	who, needs, err := c.present(ctx, w, base, try)
	if err != nil {
		return "", err
	}
	base = onlyBots(base, who)
	for _, part := range []func(base played.Variant, try trial, who []string) ([]string, error){order, doings, usualSettings} {
		more, err := part(base, try, who)
		if err != nil {
			return "", err
		}
		needs = append(needs, more...)
	}
	return strings.Join(needs, " "), nil
}

// present finds the fewest bots that it takes: the finding's own, and of the others those
// that it does not show without.
func (c *inquiry) present(ctx context.Context, w *Why, base played.Variant, try trial) (who, needs []string, err error) {
	var others []string
	mine := ""
	for _, b := range c.Plan.Bots {
		if b.Name == c.target.View {
			mine = b.Name // nobody's, if the server's own view is wrong
		} else {
			others = append(others, b.Name)
		}
	}
	if mine != "" {
		who = []string{mine}
		if alone, err := try("nobody else in the match", onlyBots(base, who)); err != nil || alone == There {
			return who, nil, err
		}
	}
	if len(others) == 0 {
		return who, nil, nil
	}
	set, err := minimise(len(others), func(sets [][]int) (int, error) {
		return c.lab.first(ctx, len(sets), func(i int) played.Variant {
			return onlyBots(base, append(slices.Clone(who), named(others, sets[i])...))
		}, c.target)
	})
	if err != nil {
		return nil, nil, err
	}
	present := named(others, set)
	if len(present) < len(others) {
		w.Needs = append(w.Needs, Need{"of the others only " + and(present), true, There})
	}
	beside := ""
	if mine != "" {
		beside = " beside " + mine
	}
	return append(who, present...), []string{fmt.Sprintf("It takes %s%s.", and(present), beside)}, nil
}

// order finds out whether it takes who joins before whom, of those that join at about the same time:
// of others the finding would come too late to be the same. The first of who is the finding's own.
func order(base played.Variant, try trial, who []string) (needs []string, err error) {
	if len(who) < 2 || !joins(base.Script[who[0]]) {
		return nil, nil
	}
	mine, others := firstJoin(base.Script[who[0]]), time.Duration(-1)
	for _, name := range who[1:] {
		if at := firstJoin(base.Script[name]); joins(base.Script[name]) && (others < 0 || at < others) {
			others = at
		}
	}
	if others < 0 {
		return nil, nil
	}
	v, what, shift := base, who[0]+" joining last", mine-others+joinsApart
	if mine < others {
		latest := others
		for _, name := range who[1:] {
			latest = max(latest, firstJoin(base.Script[name]))
		}
		shift = latest - mine + joinsApart
		v.Script = without(base.Script, who[0])
		v.Script[who[0]] = later(base.Script[who[0]], shift)
	} else {
		what = who[0] + " joining first"
		v.Script = without(base.Script, who[1:]...)
		for _, name := range who[1:] {
			v.Script[name] = later(base.Script[name], shift)
		}
	}
	if shift > joinsTogether+joinsApart {
		return nil, nil
	}
	if v.Until > 0 {
		v.Until = min(v.Until+shift, v.Plan.Duration)
	}
	answer, err := try(what, v)
	if err == nil && answer == Gone {
		needs = append(needs, fmt.Sprintf("With %s it is gone.", what))
	}
	return needs, err
}

const (
	joinsTogether = 500 * time.Millisecond // joins so near are at about the same time
	joinsApart    = time.Second            // and so far apart one is before the other for certain
)

func joins(moments []bot.Moment) bool {
	return slices.ContainsFunc(moments, func(m bot.Moment) bool { return m.Join })
}

func firstJoin(moments []bot.Moment) time.Duration {
	for _, m := range moments {
		if m.Join {
			return m.At
		}
	}
	return 0
}

// later is a script in which the first joining is so much later. All else happens when it did, or right
// then: a match that is shifted as a whole goes another way whoever joins first.
func later(moments []bot.Moment, by time.Duration) []bot.Moment {
	moments = slices.Clone(moments)
	until := firstJoin(moments) + by
	joined := false
	for i := range moments {
		if joined = joined || moments[i].Join; joined {
			moments[i].At = max(moments[i].At, until)
		}
	}
	return moments
}

// doings finds whose late joining and whose inputs it takes.
func doings(base played.Variant, try trial, who []string) (needs []string, err error) {
	for _, name := range who {
		moments := base.Script[name]
		if len(moments) == 0 {
			continue
		}
		with := func(script []bot.Moment) played.Variant {
			v := base
			v.Script = without(base.Script, name)
			v.Script[name] = script
			return v
		}
		if moments[0].At > time.Second {
			answer, err := try(name+" joining at the start", with(joinAtStart(moments)))
			if err != nil {
				return nil, err
			}
			if answer == Gone {
				needs = append(needs, fmt.Sprintf("It takes %s joining late.", name))
			}
		}
		answer, err := try(name+" doing nothing but joining and leaving", with(standing(moments)))
		if err != nil {
			return nil, err
		}
		if answer == Gone {
			needs = append(needs, fmt.Sprintf("It takes what %s does.", name))
		}
	}
	return needs, nil
}

// usualSettings finds which of the plan's settings it takes that are not the usual ones.
func usualSettings(base played.Variant, try trial, _ []string) (needs []string, err error) {
	for _, setting := range []struct {
		what, needs string
		set         func(p *plan.Plan)
	}{
		{"all clients at the game's frame rate", "It takes a client with another frame rate than the game's.", func(p *plan.Plan) {
			for i := range p.Bots {
				p.Bots[i].FPS = 0
			}
		}},
		{"the game's usual rates", "It takes other rates than the game's usual ones.", func(p *plan.Plan) {
			usual := plan.Defaults().Game
			p.Game.Tick, p.Game.Send, p.Game.FPS, p.Game.Report = usual.Tick, usual.Send, usual.FPS, usual.Report
		}},
		{"the world within everybody's reach", "It takes things out of reach.", func(p *plan.Plan) { p.Game.InterestRadius = 0 }},
		{"a place for everybody", "It takes a full server.", func(p *plan.Plan) { p.Game.MaxPlayers = 0 }},
	} {
		p := *base.Plan
		p.Bots = slices.Clone(p.Bots)
		setting.set(&p)
		if samePlan(&p, base.Plan) {
			continue
		}
		v := base
		v.Plan = &p
		answer, err := try(setting.what, v)
		if err != nil {
			return nil, err
		}
		if answer == Gone {
			needs = append(needs, setting.needs)
		}
	}
	return needs, nil
}

// samePlan reports whether two plans have the same rates, reach and places.
func samePlan(a, b *plan.Plan) bool {
	return a.Game.InterestRadius == b.Game.InterestRadius && a.Game.MaxPlayers == b.Game.MaxPlayers &&
		a.Game.Tick == b.Game.Tick && a.Game.Send == b.Game.Send && a.Game.FPS == b.Game.FPS && a.Game.Report == b.Game.Report &&
		slices.EqualFunc(a.Bots, b.Bots, func(x, y plan.Bot) bool { return x.FPS == y.FPS })
}

// onlyBots leaves of a variant's bots only those.
func onlyBots(v played.Variant, names []string) played.Variant {
	p := *v.Plan
	p.Bots = slices.DeleteFunc(slices.Clone(p.Bots), func(b plan.Bot) bool { return !slices.Contains(names, b.Name) })
	v.Plan = &p
	return v
}

func named(names []string, numbers []int) (list []string) {
	for _, i := range numbers {
		list = append(list, names[i])
	}
	return list
}

func and(names []string) string {
	switch len(names) {
	case 0:
		return "nobody"
	case 1:
		return names[0]
	}
	text := ""
	for i, n := range names {
		switch {
		case i == 0:
		case i == len(names)-1:
			text += " and "
		default:
			text += ", "
		}
		text += n
	}
	return text
}

// joinAtStart lets the first joining of a script be at once.
func joinAtStart(moments []bot.Moment) []bot.Moment {
	moments = slices.Clone(moments)
	for i := range moments {
		if moments[i].Join {
			join := moments[i]
			moments[i].Join = false
			join.At, join.Action = 0, bot.Action{Join: true}
			return append([]bot.Moment{join}, moments...)
		}
	}
	return moments
}

// standing leaves of a script only the joining and leaving.
func standing(moments []bot.Moment) (list []bot.Moment) {
	for _, m := range moments {
		if m.Join || m.Leave {
			list = append(list, bot.Moment{At: m.At, Action: bot.Action{Join: m.Join, Leave: m.Leave}})
		}
	}
	return list
}
