// Package plan reads test plans: the YAML files that say which match to play,
// who plays it, over which links, and how the views are to be compared.
//
// docs/plan.md describes the format for people. The package knows which games
// and which of their mistakes there are, and nothing of how a match is played or
// judged.
package plan

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/link"
	"zitherwheel/trace"
	"zitherwheel/watch"
)

// Plan is a test plan with every default filled in.
type Plan struct {
	Title     string
	Seed      uint64
	Length    time.Duration // of the match
	Clock     string        // Virtual or Wall
	Game      Game
	Build     Build
	Links     []Link
	Bots      []Bot
	Reference string      // whom the views are held against: server, a bot's name, or none
	Align     string      // how the views' clocks are brought together: shared or "", tick, or estimated
	Entities  int         // how many there may be in all traces
	Strict    bool        // whatever was to be compared and was not keeps the match from being a pass
	Rules     watch.Rules // the plan's own rules, then the game's
	Draw      Draw        // what is drawn by the seed

	file   string         // as it was called, and what it said
	text   []byte         // nil if it was not read
	checks []func() error // made while reading, of what may refer to later parts
}

// Game says which game is played and how.
type Game struct {
	Name   string // "hillfold", or what the build under test is called
	Sheep  int
	Places int     // for players at a time; 0 means any number
	Radius float64 // how far a player perceives; 0 means everything
	Host   string  // the bot whose process is the server too; "" means a server of its own
	Tick   int     // times a second: the server simulates
	Send   int     // the server sends a snapshot
	Frame  int     // a client runs
	Report int     // a client says in its trace what it shows
	Faults []string
}

// The clocks of a match.
const (
	Virtual = "virtual" // as fast as it can be computed, and the same bytes each time
	Wall    = "wall"    // real processes and sockets
)

const hillfoldName = "hillfold"

// Link is a named pair of lines.
type Link struct {
	Name     string
	Up, Down link.Course
	Moves    []time.Duration // when the client appears under a new address
	Resets   []time.Duration // when its streams are broken off
}

// Bot is one player.
type Bot struct {
	Name  string
	Link  string // name of a link; "" is a perfect one
	Frame int    // its client's frames a second; 0 means the game's rate
	Steps []Step
}

// Step is one thing a bot does. Steps follow each other.
type Step struct {
	Do     string        // one of the actions
	At     time.Duration // not before this time, counted from the start of the match; 0 means at once
	For    time.Duration // how long; 0 means until the next step's time, or until it is done
	Inputs []string      // hold: what is held down
	Turn   float64       // hold: how hard to the left, from -1 to 1, beside Inputs
	Input  string        // press
	To     [2]float64    // go: a point
	Kind   string        // chase: the nearest of that kind
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

// LinkOf returns the link of a bot: one of the plan, a ready one, or a perfect
// one if the bot names none or is the host.
func (p *Plan) LinkOf(b Bot) Link {
	if b.Name == p.Game.Host {
		return Link{}
	}
	for _, links := range [][]Link{p.Links, ReadyLinks} {
		for i := range links {
			if links[i].Name == b.Link {
				return links[i]
			}
		}
	}
	return Link{}
}

func (p *Plan) allLinks() []Link { return slices.Concat(p.Links, ReadyLinks) }

const ms = time.Millisecond

// ReadyLinks are links for situations, there for every plan by name.
var ReadyLinks = []Link{
	both("same-room", link.Quality{Latency: 2 * ms, Jitter: 1 * ms}),
	both("village", link.Quality{Latency: 25 * ms, Jitter: 6 * ms, Loss: 0.005}),
	both("hill-farm", link.Quality{Latency: 80 * ms, Jitter: 25 * ms, Loss: 0.04, Burst: 3}),
	both("train-window", link.Quality{Latency: 120 * ms, Jitter: 40 * ms, Loss: 0.08, Burst: 6, Duplicate: 0.01, Reorder: true}),
	both("far-shore", link.Quality{Latency: 200 * ms, Jitter: 30 * ms, Loss: 0.15, Burst: 4}),
	both("lost-valley", link.Quality{Latency: 400 * ms, Jitter: 50 * ms, Loss: 0.15, Burst: 5}),
}

func both(name string, q link.Quality) Link {
	course := link.Course{Quality: q}
	return Link{Name: name, Up: course, Down: course}
}

// Defaults are what a plan leaves out.
func Defaults() Plan {
	return Plan{
		Title:    "untitled match",
		Seed:     1,
		Length:   60 * time.Second,
		Clock:    Virtual,
		Entities: trace.MostEntities,
		Build:    defaultBuild(),
		Game:     Game{Name: hillfoldName, Sheep: 20, Tick: 30, Send: 20, Frame: 60, Report: 20},
	}
}

// Error is something wrong in a plan, with its place. Line and Column count
// from 1; 0 means the whole file.
type Error struct {
	File         string
	Line, Column int
	Message      string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Message)
}
