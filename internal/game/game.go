// Package game says what a game must do to be played inside this process, on the
// virtual clock: a server and clients that are plain state machines, what bots can
// press, the faults that can be injected, and how its fields are compared.
//
// It holds the games that there are and knows none of them. A game registers itself
// when its package is imported; the program imports those of internal/demo.
package game

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Game is a game that can be played inside this process.
type Game interface {
	// Name is what plans call it.
	Name() string
	// Area is the ground on which bots roam, in the game's units.
	Area() Area
	// Inputs are what a player has at hand.
	Inputs() Inputs
	// Faults are the faults that it can be told to make.
	Faults() []Fault
	// Rules are its watch rules, as the YAML of a rules file.
	Rules() []byte
	// Fit fits rules to a match: to its rates, say.
	Fit(rules *rulebook.Rules, setup Setup)
	// Programs are the command lines that play it as processes of their own.
	Programs(Setup) Programs

	NewServer(Setup, Env) (Server, error)
	// NewClient makes the client of a named player.
	NewClient(setup Setup, name string, env Env) (Client, error)
}

// Programs are the command lines of a game's processes, with the placeholders that a
// plan's run: knows, like {port}; {zwheel} is this program.
type Programs struct {
	Server, Client []string
	Heading        string // the field that tells where an entity faces
}

// Area is a rectangle around the origin: from -Width/2 to Width/2, and so on.
type Area struct{ Width, Height float64 }

// Rates are how often things happen, per second.
type Rates struct {
	Tick   int // the server simulates
	Send   int // the server sends a snapshot to each client
	FPS    int // a client runs: one input and one frame shown
	Report int // a client says in its trace what it shows; at most Frame
}

// Setup is what the two sides of a match agree on. Only Rates.Frame and Rates.Report
// may differ from client to client.
type Setup struct {
	Rates          Rates
	Population     int           // how many things the game keeps in the world
	Round          time.Duration // when the round ends
	MaxPlayers     int           // for players at a time; 0 means any number
	InterestRadius float64       // how far a player perceives, in the game's units; 0 means everything
	Faults         []string      // names of the faults to inject
}

// Env is what a server or a client is given by whoever plays it.
type Env struct {
	Names  *trace.Names
	Random *rand.Rand
	Say    func(*trace.Record) // takes its trace records
	Log    func(text string)   // takes its log lines; may be nil for a client
}

// Address tells the network places of packets apart. To a client everything comes from
// and goes to one server, whatever its address.
type Address int32

// Packet is a datagram. Data is valid only until the next step.
type Packet struct {
	Peer Address // where it came from, or where it goes
	Data []byte
}

// Server decides what is so. All times count from the start of the match.
type Server interface {
	// Step takes what arrived and returns what is to be sent.
	Step(now time.Duration, arrived []Packet) []Packet
	// Next is when it wants to be stepped next.
	Next() time.Duration
	// Malformed counts the packets that it could not read.
	Malformed() int
	// Describe says in words what a packet of either side carries; "" if it cannot say.
	Describe(data []byte) string
}

// Client is one player's side.
type Client interface {
	Join(now time.Duration)
	Leave(now time.Duration)
	// Step runs one frame in which the player does in.
	Step(now time.Duration, arrived []Packet, in Input) []Packet
	Next() time.Duration
	// Cheat changes what the client believes, behind the game's back.
	Cheat(now time.Duration, cheat Cheat)
	Malformed() int

	Idle() bool    // it is out of the match and does not try to get in
	Refused() bool // the server did not let it in
	Senses
}

// Senses is what a bot can see on its client. Positions are in the game's units,
// headings in degrees counter-clockwise from the x axis.
type Senses interface {
	// Inside reports whether the client is in the match.
	Inside() bool
	// Own is where the player's own entity is.
	Own() (x, y, heading float64, ok bool)
	// Nearest is where the nearest entity of a kind is, other than the player's own.
	Nearest(kind string) (x, y float64, ok bool)
}

// Input is what a player does during one frame.
type Input struct {
	Turn  float64 // -1 hard right to 1 hard left
	Move  float64 // 0 stands, 1 goes ahead, more is a cheat
	Run   bool
	Press string // an input pressed once
}

// Cheat is what a player changes on the own client.
type Cheat struct {
	Sets []string   // of [Inputs.Cheats]
	To   [2]float64 // where a place is set to
}

// Inputs are what a player has at hand.
type Inputs struct {
	Hold   []string // what can be held down
	Press  []string // what can be pressed once; a bot that roams presses the first now and then
	Cheats []string // what can be changed on a client
}

// Fault is a fault that a game can be told to make.
type Fault struct {
	Name  string
	What  string // what the code does wrong
	Shows string // when it shows itself

	Control bool // it looks like a fault and is none: it must never be reported
}

var registered []Game

// Register makes a game known. It is called while the program starts.
func Register(g Game) {
	if _, known := Find(g.Name()); known {
		panic("game: " + g.Name() + " is registered twice")
	}
	registered = append(registered, g)
}

// Find returns the game of a name.
func Find(name string) (Game, bool) {
	i := slices.IndexFunc(registered, func(g Game) bool { return g.Name() == name })
	if i < 0 {
		return nil, false
	}
	return registered[i], true
}

// Names are the names of all games, in the order in which they became known.
func Names() (names []string) {
	for _, g := range registered {
		names = append(names, g.Name())
	}
	return names
}

// CheckFaults says which of the names is no fault of the game.
func CheckFaults(g Game, names []string) error {
	for _, name := range names {
		if !slices.ContainsFunc(g.Faults(), func(f Fault) bool { return f.Name == name }) {
			var known []string
			for _, f := range g.Faults() {
				known = append(known, f.Name)
			}
			return fmt.Errorf("%s has no fault %q; there are %s", g.Name(), name, strings.Join(known, ", "))
		}
	}
	return nil
}
