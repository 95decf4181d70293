package hillfold

import (
	"fmt"
	"strings"
)

// Fault is a mistake that the game can be told to make. Each is an ordinary
// programming mistake, made where a programmer would make it.
type Fault uint32

const (
	LostGoodbye Fault = 1 << iota
	KeptToItself
	NarrowNumbers
)

// Faults is a set of mistakes.
type Faults uint32

// Has reports whether the set has that mistake.
func (f Faults) Has(one Fault) bool { return f&Faults(one) != 0 }

// FaultInfo describes a mistake.
type FaultInfo struct {
	Fault Fault
	Name  string
	What  string // what the code does wrong
	Shows string // when it shows itself
	Kind  string // the kind of finding it should be reported as
}

// AllFaults lists the mistakes the game can make.
var AllFaults = []FaultInfo{
	{LostGoodbye, "lost-goodbye",
		"that something left the world is told once, on the unreliable channel, and never again",
		"when that one packet is lost: some client keeps a ghost", "ghost"},
	{KeptToItself, "kept-to-itself",
		"running costs stamina on the player's own client only; the server never takes any, and the client never looks at the server's number",
		"whenever a dog runs, on any link", "never-sent"},
	{NarrowNumbers, "narrow-numbers",
		"x is read from its 16 bits without its sign, so it wraps west of the origin",
		"whenever a thing is west of the middle, on any link", "wrapped"},
}

// ParseFaults turns names into a set.
func ParseFaults(names []string) (Faults, error) {
	var set Faults
	for _, name := range names {
		found := false
		for _, info := range AllFaults {
			if info.Name == name {
				set |= Faults(info.Fault)
				found = true
			}
		}
		if !found {
			known := make([]string, len(AllFaults))
			for i, info := range AllFaults {
				known[i] = info.Name
			}
			return 0, fmt.Errorf("there is no fault %q; there are %s", name, strings.Join(known, ", "))
		}
	}
	return set, nil
}
