package replay

import (
	"time"

	"zitherwheel/internal/bot"
)

// stepsOf writes what a bot did as steps of a plan.
func stepsOf(moments []bot.Moment) []bot.Step {
	var steps []bot.Step
	going := bot.Action{}
	add := func(s bot.Step, at time.Duration) {
		s.At = at
		steps = append(steps, s)
	}
	for _, m := range moments {
		if m.Join {
			add(bot.Step{Do: bot.Join}, m.At)
		}
		if m.Leave {
			add(bot.Step{Do: bot.Leave}, m.At)
		}
		if m.Cheat != nil {
			add(*m.Cheat, m.At)
		}
		if m.Press != "" {
			add(bot.Step{Do: bot.Press, Input: m.Press}, m.At)
		}
		hold := bot.Step{Do: bot.Hold, Inputs: keysOf(m.Action), Turn: turnOf(m.Action)}
		if hold.Inputs == nil && hold.Turn == 0 {
			if going.Move > 0 || going.Turn != 0 || going.Run {
				add(bot.Step{Do: bot.Idle}, m.At)
			}
		} else {
			add(hold, m.At)
		}
		going = m.Action
	}
	for len(steps) > 0 && steps[len(steps)-1].Do == bot.Idle {
		steps = steps[:len(steps)-1]
	}
	if len(steps) == 0 { // a bot must join to be one
		steps = []bot.Step{{Do: bot.Join, At: 24 * time.Hour}}
	}
	return steps
}

// keysOf are the keys that are held down in an action.
func keysOf(a bot.Action) (keys []string) {
	if a.Move > 0 {
		keys = append(keys, "forward")
	}
	switch a.Turn {
	case 1:
		keys = append(keys, "left")
	case -1:
		keys = append(keys, "right")
	}
	if a.Run {
		keys = append(keys, "run")
	}
	for _, key := range a.Held { // of a game of one's own
		if key != "forward" && key != "left" && key != "right" && key != "run" {
			keys = append(keys, key)
		}
	}
	return keys
}

// turnOf is the turning that is done by no key.
func turnOf(a bot.Action) float64 {
	if a.Turn == 1 || a.Turn == -1 {
		return 0
	}
	return a.Turn
}
