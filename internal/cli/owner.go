package cli

import (
	"slices"

	"zitherwheel/internal/match"
)

// players are the commands that may play builds on the virtual clock, where each match is to have a network of its own.
var players = []string{"run", "hunt", "replay", "why", "shrink", "sweep", "compare", "learn", "preflight", "machine", "worker"}

// AsOwner has a command that may play builds on the virtual clock carried out where each match can have a network of
// its own, if this user needs a place for that and has one. Then it returns the command's exit code and true.
func AsOwner(args []string) (code int, done bool) {
	if len(args) == 0 || !slices.Contains(players, args[0]) {
		return 0, false
	}
	return match.AsOwner()
}
