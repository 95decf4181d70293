// Package plan reads test plans: the YAML files that say which match to play,
// who plays it, over which links, and how the views are to be compared.
//
// docs/plan.md describes the format for people. The package knows no game but by
// package game, and nothing of how a match is played or judged.
package plan

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Plan is a test plan with every default filled in.
type Plan struct {
	Title       string
	Seed        uint64
	Duration    time.Duration // of the match
	Clock       string        // Virtual, Wall or Recorded
	Game        Game
	Build       Build
	Links       []link.Pair
	Bots        []Bot
	Reference   string         // what views are compared with: server, a bot's name, or none
	Align       string         // how the views' clocks are brought together: shared or "", tick, or estimated
	MaxEntities int            // how many there may be in all traces
	Strict      bool           // a match is no pass if anything that should have been compared was not
	Rules       rulebook.Rules // the plan's own rules, then the game's
	Draw        Draw           // what is drawn by the seed

	file   string         // as it was called
	checks []func() error // made while reading, of what may refer to later parts
}

// Game says which game is played and how.
type Game struct {
	Name           string  // one of package game, or what the build under test is called
	Population     int     // how many things the game keeps in the world
	MaxPlayers     int     // for players at a time; 0 means any number
	InterestRadius float64 // how far a player perceives; 0 means everything
	Host           string  // the bot whose process is the server too; "" means a server of its own
	Tick           int     // times a second: the server simulates
	Send           int     // the server sends a snapshot
	FPS            int     // a client runs
	Report         int     // a client says in its trace what it shows
	Faults         []string
}

// DemoGame is the game that is played where a plan names none.
const DemoGame = "hillfold"

// Played is the game inside this process that the plan names, if there is one.
func (g *Game) Played() (game.Game, bool) { return game.Find(g.Name) }

// Setup is what the two sides of a match agree on.
func (p *Plan) Setup() game.Setup {
	g := &p.Game
	return game.Setup{
		Rates:      game.Rates{Tick: g.Tick, Send: g.Send, FPS: g.FPS, Report: g.Report},
		Population: g.Population, MaxPlayers: g.MaxPlayers, InterestRadius: g.InterestRadius, Faults: g.Faults,
		Round: p.Duration - min(3*time.Second, p.Duration/4),
	}
}

// The clocks of a match.
const (
	Virtual = "virtual" // as fast as it can be computed, and the same bytes each time
	Wall    = "wall"    // real processes and sockets

	// Recorded is the clock of what nobody can play: traces that were recorded elsewhere.
	Recorded = "recorded"
)

// Bot is one player.
type Bot struct {
	Name  string
	Link  string // name of a link; "" is a perfect one
	FPS   int    // its client's frames a second; 0 means the game's rate
	On    string // the machine on which its client runs: a worker's name; "" is this one
	Steps []bot.Step
}

// LinkOf returns the link of a bot: one of the plan, a ready one, or a perfect
// one if the bot names none or is the host.
func (p *Plan) LinkOf(b Bot) link.Pair {
	if b.Name == p.Game.Host {
		return link.Pair{}
	}
	for _, links := range [][]link.Pair{p.Links, link.Ready} {
		for i := range links {
			if links[i].Name == b.Link {
				return links[i]
			}
		}
	}
	return link.Pair{}
}

func (p *Plan) allLinks() []link.Pair { return slices.Concat(p.Links, link.Ready) }

// Defaults are what a plan leaves out.
func Defaults() Plan {
	return Plan{
		Title:       "untitled match",
		Seed:        1,
		Duration:    60 * time.Second,
		Clock:       Virtual,
		MaxEntities: trace.MostEntities,
		Build:       defaultBuild(),
		Game:        Game{Population: 20, Tick: 30, Send: 20, FPS: 60, Report: 20},
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
