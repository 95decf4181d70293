package bot

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/game"
)

// Step is one thing a bot does. Steps follow each other.
type Step struct {
	Do     string        // one of the actions
	At     time.Duration // not before this time, counted from the start of the match; 0 means at once
	For    time.Duration // how long; 0 means until the next step's time, or until it is done
	Inputs []string      // hold: what is held down
	Turn   float64       // hold: how hard to the left, from -1 to 1, beside Inputs
	Input  string        // press; roam: pressed now and then
	To     [2]float64    // go: a point
	Kind   string        // chase: the nearest of that kind
	Refuse bool          // join: it must be refused, by a full server, say
	Away   time.Duration // rejoin: how long it is out; 0 means half a second
	Sets   []string      // cheat: what is changed on the client: place (with To), stamina, speed
}

// The actions of a step.
const (
	Join   = "join"
	Rejoin = "rejoin" // leave if still in, then join again
	Leave  = "leave"
	Roam   = "roam"
	Hold   = "hold"
	Press  = "press"
	Go     = "go"
	Chase  = "chase"
	Idle   = "idle"
	Cheat  = "cheat"
)

// Actions lists what a step can do.
var Actions = []string{Join, Roam, Hold, Press, Go, Chase, Idle, Leave, Rejoin, Cheat}

// Validate checks what goes with what, and, unless played is nil, whether the game has
// such inputs.
func (s *Step) Validate(played game.Game) error {
	var has game.Inputs
	if played != nil {
		has = played.Inputs()
	}
	switch {
	case s.Do == "":
		return fmt.Errorf("it says nothing to do; add do: with one of %s", strings.Join(Actions, ", "))
	case s.Do != Hold && len(s.Inputs) > 0:
		return fmt.Errorf("inputs: goes with hold; %s takes input:, one alone, if any", s.Do)
	case s.Do != Hold && s.Turn != 0:
		return fmt.Errorf("turn: goes with hold and not with %s", s.Do)
	case (s.Do == Hold) != (len(s.Inputs) > 0 || s.Turn != 0):
		return fmt.Errorf("hold goes with inputs:, a list %s, or with turn", likely(has.Hold, "like [forward, run]"))
	case s.Turn < -1 || s.Turn > 1:
		return fmt.Errorf("turn: %v is not between -1, hard right, and 1, hard left", s.Turn)
	case s.Do == Press && s.Input == "", s.Input != "" && s.Do != Press && s.Do != Roam:
		return errors.New("press goes with input:, and roam may")
	case (s.Do == Cheat) != (len(s.Sets) > 0):
		return fmt.Errorf("cheat goes with sets:, a list %s", likely(has.Cheats, "like [place]"))
	case s.Refuse && s.Do != Join && s.Do != Rejoin:
		return errors.New("refused goes with join and rejoin")
	case s.Away != 0 && s.Do != Rejoin:
		return errors.New("away goes with rejoin: how long it is out")
	case (s.Do == Chase) != (s.Kind != ""):
		return errors.New("chase goes with kind:, the kind of entity to chase")
	case played == nil:
		return nil
	}
	for _, asked := range []struct {
		key, verb    string
		names, there []string
	}{
		{"input", "press", []string{s.Input}, has.Press},
		{"sets", "change", s.Sets, has.Cheats},
		{"inputs", "hold", s.Inputs, has.Hold},
	} {
		for _, name := range asked.names {
			if name != "" && !slices.Contains(asked.there, name) {
				return fmt.Errorf("%s: %s has no %q to %s; it has %s", asked.key, played.Name(), name, asked.verb, strings.Join(asked.there, ", "))
			}
		}
	}
	return nil
}

// likely says what a list may hold.
func likely(known []string, example string) string {
	if len(known) == 0 {
		return example
	}
	return "of " + strings.Join(known, ", ")
}
