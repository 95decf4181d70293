// Package hillfold is the demo game: a sheepdog trial on a field of 120 by 80
// metres, played over datagrams. It is a small networked game of the ordinary
// kind, there to be tested: a server that decides everything, clients that
// predict their own dog and interpolate everything else, snapshots on
// unreliable datagrams and a numbered, acknowledged, resent channel for what
// must not be lost.
//
// [Server] and [Client] are plain state machines, Step(now, packets) -> packets,
// so the same code runs under a virtual clock and as real processes. Both say
// what they believe as trace records; the client says what it would show.
//
// The package knows the trace format and, in game.go, how its own fields are compared;
// nothing of bots, links or verdicts. Read game.go for what the tool sees of it.
package hillfold

import (
	"math"
	"time"

	"zitherwheel/internal/game"
)

// The field, in metres, with the origin in its middle. East of foldX and
// between -foldY and foldY lies the fold.
const (
	width      = 120.0
	height     = 80.0
	halfWidth  = width / 2
	halfHeight = height / 2
	foldX      = 50.0
	foldY      = 14.0
)

// Rates are how often things happen.
type Rates = game.Rates

// DefaultRates are those of a healthy match.
var DefaultRates = Rates{Tick: 30, Send: 20, FPS: 60, Report: 20}

// Config is what the two sides of a match agree on. Only Rates.Frame and
// Rates.Report may differ from client to client.
type Config struct {
	Rates  Rates
	Sheep  int           // how many are on the field at a time
	Round  time.Duration // when the round ends and the final score is told
	Places int           // for players at a time; 0 means any number
	Radius float64       // how far a player's dog perceives, metres; 0 means everything
	Faults Faults        // faults to make

	Session uint32 // sets a client's sessions apart from those of earlier processes of the same name; 0 where there are none
}

// Address and Packet are those of any game.
type (
	Address = game.Address
	Packet  = game.Packet
)

// Input is what a player does during one frame.
type Input struct {
	Turn float64 // -1 hard right to 1 hard left
	Move float64 // 0 stands, 1 goes ahead
	Run  bool    // runs instead of trotting, while stamina lasts
	Bark bool
}

// Cheat is what a player changes on their own client behind the game's back.
type Cheat struct {
	X, Y    float64
	Moves   bool // the dog to X, Y
	Stamina bool // to the full
}

// Dog movement, in metres, seconds and degrees.
const (
	trotSpeed    = 4.0
	runSpeed     = 8.0
	acceleration = 14.0
	turnRate     = 200.0
	fullStamina  = 100.0
	runCost      = 16.0 // stamina a second
	restGain     = 7.0
	tiredBelow   = 1.0 // too tired to run
	restedAbove  = 15.0
)

// dogState is the part of a dog that follows from inputs alone, so that a
// client can predict it.
type dogState struct {
	x, y, heading, speed, stamina float64
	running, tired                bool
}

// step moves a dog by one input that lasts dt seconds.
func (d *dogState) step(in Input, dt float64) {
	d.heading = turned(d.heading, in.Turn*turnRate*dt)
	if d.stamina < tiredBelow {
		d.tired = true
	} else if d.stamina > restedAbove {
		d.tired = false
	}
	d.running = in.Run && in.Move > 0 && !d.tired
	goal := trotSpeed * in.Move
	if d.running {
		goal = runSpeed * in.Move
		d.stamina = max(0, d.stamina-runCost*dt)
	} else {
		d.stamina = min(fullStamina, d.stamina+restGain*dt)
	}
	d.speed += max(-acceleration*dt, min(acceleration*dt, goal-d.speed))
	sin, cos := math.Sincos(d.heading * math.Pi / 180)
	d.x = fenced(d.x, d.x+cos*d.speed*dt, halfWidth)
	d.y = fenced(d.y, d.y+sin*d.speed*dt, halfHeight)
}

// fenced is where a step ends that the fence around the field may stop.
func fenced(from, to, limit float64) float64 {
	return max(min(to, max(from, limit)), min(from, -limit))
}

func (d *dogState) gait() string {
	switch {
	case d.speed < 0.05:
		return "stand"
	case d.running:
		return "run"
	}
	return "trot"
}

// turned adds to a heading in degrees and keeps it in [0, 360).
func turned(heading, by float64) float64 {
	h := heading + by
	if h < -360 || h >= 720 {
		h = math.Mod(h, 360)
	}
	switch {
	case h < 0:
		h += 360
	case h >= 360:
		h -= 360
	}
	return h
}

// turnTo is the signed angle from one heading to another, in (-180, 180].
func turnTo(from, to float64) float64 {
	d := turned(to, -from)
	if d > 180 {
		d -= 360
	}
	return d
}
