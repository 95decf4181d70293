package hillfold

import (
	"math"
	"time"
)

// playback is the client's place in the server's time: behind the newest
// snapshot by enough that the next one is usually there in time.
type playback struct {
	at      time.Duration // server time that is shown
	behind  float64       // seconds behind the newest snapshot, at least
	running bool
	delay   float64 // mean of (arrival here - server time), seconds
	spread  float64 // mean deviation of it
}

const (
	averageOver  = 16.0 // snapshots
	behindSpread = 2.5
	behindSends  = 1.2  // intervals between snapshots
	legalLag     = 0.45 // seconds
	hurry        = 0.1  // playback runs up to so much faster or slower
	jumpBeyond   = 0.5  // seconds
)

// heard takes in that a snapshot of that server time arrived.
func (p *playback) heard(now, server time.Duration) {
	delay := (now - server).Seconds()
	if !p.running {
		p.running, p.delay, p.spread = true, delay, 0.01
		p.at = server - time.Duration(p.behind*float64(time.Second))
		return
	}
	p.spread += (math.Abs(delay-p.delay) - p.spread) / averageOver
	p.delay += (delay - p.delay) / averageOver
}

// run lets dt seconds of a frame pass.
func (p *playback) run(now time.Duration, dt float64) {
	if !p.running {
		return
	}
	goal := now - time.Duration((p.delay+behindSpread*p.spread+p.behind)*float64(time.Second))
	ahead := (goal - p.at).Seconds() - dt
	if ahead > jumpBeyond {
		p.at = goal
		return
	}
	p.at += time.Duration(dt * (1 + max(-hurry, min(hurry, ahead*2))) * float64(time.Second))
}
