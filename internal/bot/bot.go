// Package bot plays: it turns the steps of a plan into what a player does at
// each moment, from what the player's own client shows. It knows
// what package game says of any game, and nothing of networks or verdicts.
package bot

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/game"
)

// Action is what a bot does during one frame. The zero value is to do nothing.
type Action struct {
	Join, Leave bool
	Turn        float64 // -1 hard right to 1 hard left
	Move        float64 // 0 to 1
	Run         bool
	Held        []string // the inputs that a step holds down, by the plan's names
	Press       string   // an input pressed once
	Hurry       float64  // added to Move: more than any key gives
	Cheat       *Step    // what the player changes behind the game's back
}

// Text is how a trace tells what is done: the inputs that a step holds down, by their
// names, or how the player goes, and what is pressed.
func (a Action) Text() string {
	text := "stand"
	switch {
	case len(a.Held) > 0:
		text = strings.Join(a.Held, " ")
	case a.Move > 0 && a.Run:
		text = "run"
	case a.Move > 0:
		text = "walk"
	}
	if a.Press != "" {
		text += " " + a.Press
	}
	return text
}

// Bot plays the steps of one player.
type Bot struct {
	steps  []Step
	area   game.Area
	press  string // what it presses now and then while it roams; "" means nothing
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
	press  time.Duration // when something is pressed; 0 means not at all
	wanted bool
}

// New returns a bot that plays those steps. Where it roams it goes about the area, presses
// that input now and then unless its step names another, and draws its whims from random.
func New(steps []Step, area game.Area, press string, random *rand.Rand) *Bot {
	return &Bot{steps: steps, area: area, press: press, random: random}
}

// Act says what the bot does at now. It must be asked in time order.
func (b *Bot) Act(now time.Duration, senses game.Senses) Action {
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
func (b *Bot) play(step *Step, now time.Duration, senses game.Senses) (action Action, done bool) {
	switch step.Do {
	case Join:
		return Action{Join: true}, true
	case Rejoin:
		if senses.Inside() && !b.left {
			b.left, b.until = true, now+cmp.Or(step.Away, rejoinAfter)
			return Action{Leave: true}, false
		}
		return Action{Join: now >= b.until}, now >= b.until
	case Leave:
		return Action{Leave: true}, true
	case Cheat:
		if !senses.Inside() {
			return Action{}, false
		}
		if slices.Contains(step.Sets, "speed") {
			return Action{Move: 1, Run: true, Hurry: 3, Cheat: step}, step.For == 0
		}
		return Action{Cheat: step}, true
	case Press:
		return Action{Press: step.Input}, true
	case Hold:
		return hold(step), false
	case Go:
		return b.head(step.To, senses, false)
	case Chase:
		x, y, ok := senses.Nearest(step.Kind)
		if !ok {
			return Action{}, false
		}
		action, _ = b.head([2]float64{x, y}, senses, true)
		return action, false
	case Roam:
		return b.roam(now, senses, cmp.Or(step.Input, b.press)), false
	}
	return Action{}, false // idle
}

// rejoinAfter is how long a bot stays out that leaves to come again.
const rejoinAfter = 500 * time.Millisecond

func hold(step *Step) (a Action) {
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
func (b *Bot) head(to [2]float64, senses game.Senses, run bool) (Action, bool) {
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

// roam goes from one whim to the next: to some place, at some pace, with a press of
// an input now and then, or a rest.
func (b *Bot) roam(now time.Duration, senses game.Senses, press string) Action {
	if !senses.Inside() {
		return Action{}
	}
	if now >= b.until {
		b.until = now + time.Duration((1.5+4.5*b.random.Float64())*float64(time.Second))
		b.goal = [2]float64{(b.random.Float64() - 0.5) * b.area.Width, (b.random.Float64() - 0.5) * b.area.Height}
		b.run = b.random.Float64() < 0.45
		b.wanted = b.random.Float64() < 0.85
		if b.random.Float64() < 0.4 {
			b.playing.press = now + time.Duration(b.random.Float64()*float64(time.Second))
		}
	}
	var action Action
	if b.wanted {
		arrived := false
		if action, arrived = b.head(b.goal, senses, b.run); arrived {
			b.until = now
		}
	}
	if b.playing.press > 0 && now >= b.playing.press {
		b.playing.press = 0
		action.Press = press
	}
	return action
}
