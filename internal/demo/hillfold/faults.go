package hillfold

import (
	"fmt"
	"strings"
)

// Fault is a mistake that the game can be told to make. Each is an ordinary programming
// mistake, made where a programmer would make it.
type Fault uint32

const (
	LostGoodbye Fault = 1 << iota
	KeptToItself
	NarrowNumbers
	OnlyHere
	CountedTwice
	ToldTwice
	OnceUnreliable
	LateAndBlind
	TwinOnReturn
	TwoMasters
	AnyHandSteers
	BelievesAnything
	HalfATrip
	OwnStartClock
	EmptyBoard
	LooseSheep
	EachDecides
	FramePaced
	CoarseGrid
	FlipNotValue
	ForgetsWhatItLeft
	SameSpot
	ShutDoor
	DifferentEndings
	WrongOrder
	SwappedAxes
	StuckChase
	WildTufts
	LegalLag
)

// Faults is a set of faults.
type Faults uint32

// Has reports whether the set has that fault.
func (f Faults) Has(one Fault) bool { return f&Faults(one) != 0 }

// FaultInfo describes a fault.
type FaultInfo struct {
	Fault Fault
	Name  string
	What  string // what the code does wrong
	Shows string // when it shows itself

}

// Control reports whether it looks like a fault and is none: it must never be reported.
func (f FaultInfo) Control() bool { return f.Fault == WildTufts || f.Fault == LegalLag }

// AllFaults lists the faults the game can make.
var AllFaults = []FaultInfo{
	{LostGoodbye, "lost-goodbye",
		"that something left the world is told once, on the unreliable channel, and never again",
		"when that one packet is lost: some client keeps a ghost"},
	{KeptToItself, "kept-to-itself",
		"running costs stamina on the player's own client only; the server never takes any, and the client never looks at the server's number",
		"whenever a dog runs, on any link"},
	{NarrowNumbers, "narrow-numbers",
		"x is read from its 16 bits without its sign, so it wraps west of the origin",
		"whenever a thing is west of the middle, on any link"},
	{OnlyHere, "only-here",
		"a change between standing, trotting and running is made on the player's own client and never put into the snapshots",
		"as soon as a dog moves, in the views of the others"},
	{CountedTwice, "counted-twice",
		"a client counts a penned sheep once for each shape of the fold that it touches, and the shapes overlap",
		"when a sheep is penned in the middle of the fold"},
	{ToldTwice, "told-twice",
		"a message that was sent again because its acknowledgement was late is applied again",
		"when the round trip takes longer than the wait for an acknowledgement"},
	{OnceUnreliable, "once-unreliable",
		"a bark is told once, on the unreliable channel",
		"when that one packet is lost"},
	{LateAndBlind, "late-and-blind",
		"gates and stones are told to those who are there at the start, and to nobody who joins later",
		"for everyone who joins late"},
	{TwinOnReturn, "twin-on-return",
		"the dog of a player who leaves stays in the world for the return, and who returns gets a new one",
		"when somebody rejoins"},
	{TwoMasters, "two-masters",
		"a client that touches the bell wears it at once and does not listen to the server's no",
		"when the server refuses a request: somebody else was faster, or the bell was only just taken"},
	{AnyHandSteers, "any-hand-steers",
		"the code that moves a dog by the player's keys runs on every dog of that player's process, not only on that player's own",
		"whenever the player moves, in that player's view of the others"},
	{BelievesAnything, "believes-anything",
		"the server takes the position that a client claims to be at",
		"when a client cheats"},
	{HalfATrip, "half-a-trip",
		"the client takes the server's clock as it was when the answer left, and ignores the way back",
		"in time-driven values, on links with latency"},
	{OwnStartClock, "own-start-clock",
		"the client counts time from its own start instead of asking for the server's clock",
		"in time-driven values, most for those who join late"},
	{EmptyBoard, "empty-board",
		"score notices that arrive before the client has built its score board are dropped",
		"in a minority of matches: when a sheep is penned just after somebody joined"},
	{LooseSheep, "loose-sheep",
		"clients move the sheep by themselves between snapshots and never take the correction",
		"as soon as sheep walk"},
	{EachDecides, "each-decides",
		"each client decides by itself which sheep bolt from a bark, and the server does not",
		"when a dog barks near sheep"},
	{FramePaced, "frame-paced",
		"the arm of the mill turns so much a frame instead of so much a second",
		"on clients that do not run at 60 frames a second"},
	{CoarseGrid, "coarse-grid",
		"positions are rounded to whole metres when they are packed",
		"wherever something stands away from a whole metre"},
	{FlipNotValue, "flip-not-value",
		"that a gate was opened or shut is sent as a flip, once, on the unreliable channel",
		"when one flip is lost: from then on that client has the gate the other way round"},
	{ForgetsWhatItLeft, "forgets-what-it-left",
		"a thing that comes back into a player's reach is told as that player knew it, not as it is now",
		"when a gate is moved out of somebody's reach who then comes back to it"},
	{SameSpot, "same-spot",
		"every dog starts at the same point",
		"when two join close together"},
	{ShutDoor, "shut-door",
		"a client that the full server refuses does not notice and plays on in an empty world",
		"for whoever comes when all places are taken"},
	{DifferentEndings, "different-endings",
		"each client works out the winner by itself, and among equals takes the one it met last",
		"when the round ends in a tie"},
	{WrongOrder, "wrong-order",
		"messages are sent again only after a while, and applied as they arrive, not in the order of their numbers",
		"when one is lost and the next is not"},
	{SwappedAxes, "swapped-axes",
		"x and y of a sheep are read the wrong way round",
		"for every sheep that is not on the diagonal"},
	{StuckChase, "stuck-chase",
		"what others move is shown by a step of fixed length towards where it should be, which never settles",
		"all the time, most when things stand"},
	{WildTufts, "wild-tufts",
		"clients strew many tufts of wool, each its own: cosmetic, and no fault",
		"all the time"},
	{LegalLag, "legal-lag",
		"clients show everything 450 ms late, in a game whose rules allow it: no fault",
		"all the time"},
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
