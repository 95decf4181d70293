// Package bot plays: it turns the steps of a plan into what a player does at
// each moment, from what the player's own client shows. It knows plans and
// nothing of any game, network or verdict.
package bot

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"zitherwheel/plan"
)

// Senses is what a bot can see. Positions are in the game's units, headings in
// degrees counter-clockwise from the x axis.
type Senses interface {
	// Inside reports whether the client is in the match.
	Inside() bool
	// Own is where the bot's own thing is.
	Own() (x, y, heading float64, ok bool)
	// Nearest is where the nearest thing of a kind is, other than the bot's own.
	Nearest(kind string) (x, y float64, ok bool)
}

// Action is what a bot does during one frame. The zero value is to do nothing.
type Action struct {
	Join, Leave bool
	Turn        float64 // -1 hard right to 1 hard left
	Move        float64 // 0 to 1
	Run         bool
	Held        []string   // the inputs that a step holds down, by the plan's names
	Press       string     // an input pressed once
	Hurry       float64    // added to Move: more than any key gives
	Cheat       *plan.Step // what the player changes behind the game's back
}

// Area is where a bot roams: from -Width/2 to Width/2, and so on.
type Area struct{ Width, Height float64 }

// Bot plays the steps of one player.
type Bot struct {
	steps  []plan.Step
	area   Area
	random *rand.Rand
	index  int
	begun  bool
	start  time.Duration // of the step
	playing
}

// playing is what a bot remembers during a step.
type playing struct {
	left   bool // to rejoin
	goal   [2]float64
	until  time.Duration
	run    bool
	bark   time.Duration
	wanted bool
}

// New returns a bot that plays those steps and draws its whims from random.
func New(steps []plan.Step, area Area, random *rand.Rand) *Bot {
	return &Bot{steps: steps, area: area, random: random}
}

// Act says what the bot does at now. It must be asked in time order.
func (b *Bot) Act(now time.Duration, senses Senses) Action {
	for b.index < len(b.steps) {
		step := &b.steps[b.index]
		if !b.begun {
			if now < step.At {
				return Action{}
			}
			b.begun, b.start, b.playing = true, now, playing{}
		}
		action, done := b.play(step, now, senses)
		if over := step.For > 0 && now >= b.start+step.For; !done && !over && !b.due(now) {
			return action
		}
		b.begun = false
		b.index++
		if done && (action.Join || action.Leave || action.Press != "" || action.Cheat != nil) {
			return action // these take a frame
		}
	}
	return Action{}
}

// due reports whether the next step has a time and it has come.
func (b *Bot) due(now time.Duration) bool {
	next := b.index + 1
	return next < len(b.steps) && b.steps[next].At > 0 && now >= b.steps[next].At
}

// play says what a step does now, and whether it is done with that.
func (b *Bot) play(step *plan.Step, now time.Duration, senses Senses) (action Action, done bool) {
	switch step.Do {
	case plan.Join:
		return Action{Join: true}, true
	case plan.Rejoin:
		if senses.Inside() && !b.left {
			b.left, b.until = true, now+rejoinAfter
			return Action{Leave: true}, false
		}
		return Action{Join: now >= b.until}, now >= b.until
	case plan.Leave:
		return Action{Leave: true}, true
	case plan.Cheat:
		if !senses.Inside() {
			return Action{}, false
		}
		if slices.Contains(step.Sets, "speed") {
			return Action{Move: 1, Run: true, Hurry: 3, Cheat: step}, step.For == 0
		}
		return Action{Cheat: step}, true
	case plan.Press:
		return Action{Press: step.Input}, true
	case plan.Hold:
		return hold(step), false
	case plan.Go:
		return b.head(step.To, senses, false)
	case plan.Chase:
		x, y, ok := senses.Nearest(step.Kind)
		if !ok {
			return Action{}, false
		}
		action, _ = b.head([2]float64{x, y}, senses, true)
		return action, false
	case plan.Roam:
		return b.roam(now, senses), false
	}
	return Action{}, false // idle
}

// rejoinAfter is how long a bot stays out that leaves to come again.
const rejoinAfter = 500 * time.Millisecond

func hold(step *plan.Step) (a Action) {
	a.Held, a.Turn = step.Inputs, step.Turn
	for _, in := range step.Inputs {
		switch in {
		case "forward":
			a.Move = 1
		case "left":
			a.Turn += 1
		case "right":
			a.Turn -= 1
		case "run":
			a.Run = true
		}
	}
	return a
}

const arrivedWithin = 1.5

// head goes towards a point and says whether it is reached.
func (b *Bot) head(to [2]float64, senses Senses, run bool) (Action, bool) {
	x, y, heading, ok := senses.Own()
	if !ok {
		return Action{}, false
	}
	dx, dy := to[0]-x, to[1]-y
	if math.Hypot(dx, dy) < arrivedWithin {
		return Action{}, true
	}
	turn := math.Remainder(math.Atan2(dy, dx)*180/math.Pi-heading, 360)
	move := 1.0
	if math.Abs(turn) > 100 {
		move = 0.4
	}
	return Action{Turn: max(-1, min(1, turn/20)), Move: move, Run: run && math.Abs(turn) < 60}, false
}

// roam goes from one whim to the next: to some place, at some pace, with a bark
// now and then, or a rest.
func (b *Bot) roam(now time.Duration, senses Senses) Action {
	if !senses.Inside() {
		return Action{}
	}
	if now >= b.until {
		b.until = now + time.Duration((1.5+4.5*b.random.Float64())*float64(time.Second))
		b.goal = [2]float64{(b.random.Float64() - 0.5) * b.area.Width, (b.random.Float64() - 0.5) * b.area.Height}
		b.run = b.random.Float64() < 0.45
		b.wanted = b.random.Float64() < 0.85
		if b.random.Float64() < 0.4 {
			b.bark = now + time.Duration(b.random.Float64()*float64(time.Second))
		}
	}
	var action Action
	if b.wanted {
		arrived := false
		if action, arrived = b.head(b.goal, senses, b.run); arrived {
			b.until = now
		}
	}
	if b.bark > 0 && now >= b.bark {
		b.bark = 0
		action.Press = "bark"
	}
	return action
}
