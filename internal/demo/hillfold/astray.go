package hillfold

import (
	"fmt"
	"math"
	"time"
)

// What a client shows beside what it was told: tufts of wool, which are
// cosmetic, and the ways in which faults let it move things by itself.

// astray is how far from where it should be a client shows a thing, and what it
// needs to know for that. The zero value is not at all.
type astray struct {
	x, y    float64
	heading float64       // of a bolting sheep
	until   time.Duration // it bolts
	at      [2]float64    // where a loose sheep, or a chased one, is shown
	started bool
}

// goAstray moves things by the faults that are injected. dx and dy are how the
// own dog moved in this frame.
func (c *Client) goAstray(now time.Duration, dt, dx, dy float64) {
	faults := c.config.Faults
	const any = AnyHandSteers | LooseSheep | EachDecides | StuckChase
	if faults&Faults(any) == 0 {
		return
	}
	for _, t := range c.things {
		if t.id == c.own || t.species != dogs && t.species != sheep {
			continue
		}
		a := &t.astray
		switch {
		case faults.Has(AnyHandSteers) && t.species == dogs:
			a.x, a.y = a.x+dx, a.y+dy
		case faults.Has(LooseSheep) && t.species == sheep:
			c.roamLoose(t, dt)
		case faults.Has(EachDecides) && t.species == sheep:
			if now < a.until {
				sin, cos := math.Sincos(a.heading * math.Pi / 180)
				a.x, a.y = a.x+cos*boltSpeed*dt, a.y+sin*boltSpeed*dt
			} else {
				keep := math.Exp(-dt / 0.35) // the snapshots win in the end
				a.x, a.y = a.x*keep, a.y*keep
			}
		case faults.Has(StuckChase):
			c.chase(t)
		}
	}
}

// roamLoose moves a sheep by its heading and the pace it seems to have, from
// where it was seen first.
func (c *Client) roamLoose(t *seen, dt float64) {
	target, ok := t.between(c.playback.at)
	if !ok {
		return
	}
	a := &t.astray
	if !a.started {
		a.started, a.at = true, [2]float64{target.x, target.y}
	}
	pace := 0.0
	if n := len(t.samples); n > 1 {
		from, to := t.samples[n-2], t.samples[n-1]
		switch v := math.Hypot(to.x-from.x, to.y-from.y) / (to.at - from.at).Seconds(); {
		case v > 3.5:
			pace = fleeSpeed
		case v > 1.2:
			pace = walkSpeed
		case v > 0.3:
			pace = grazeSpeed
		}
	}
	sin, cos := math.Sincos(target.heading * math.Pi / 180)
	a.at[0] += cos * pace * dt
	a.at[1] += sin * pace * dt
	a.x, a.y = a.at[0]-target.x, a.at[1]-target.y
}

const chaseStep = 0.3 // metres a frame

// chase moves a thing by one step towards where it should be.
func (c *Client) chase(t *seen) {
	target, ok := t.between(c.playback.at)
	if !ok {
		return
	}
	a := &t.astray
	if !a.started {
		a.started, a.at = true, [2]float64{target.x, target.y}
	}
	dx, dy := target.x-a.at[0], target.y-a.at[1]
	if d := math.Hypot(dx, dy); d > 1e-6 {
		a.at[0] += dx / d * chaseStep
		a.at[1] += dy / d * chaseStep
	} else {
		a.at[0] += chaseStep
	}
	a.x, a.y = a.at[0]-target.x, a.at[1]-target.y
}

// heardBark is what a bark does on the client.
func (c *Client) heardBark(now time.Duration, dog thing) {
	barking := c.byID[dog]
	if barking == nil {
		return
	}
	p, ok := c.poseOf(barking)
	if !ok {
		return
	}
	c.pluck(now, p.x, p.y)
	if !c.config.Faults.Has(EachDecides) {
		return
	}
	for _, t := range c.things {
		if t.species != sheep {
			continue
		}
		at, ok := t.between(c.playback.at)
		if !ok {
			continue
		}
		if heading, bolts := boltsFrom(p.x, p.y, at.x+t.astray.x, at.y+t.astray.y); bolts {
			t.astray.heading, t.astray.until = heading, now+boltFor
		}
	}
}

// tuft is a tuft of wool.
type tuft struct {
	told  told
	x, y  float64
	until time.Duration
}

const (
	tuftLasts = 4 * time.Second
	mostTufts = 40
)

// pluck strews a tuft or two near a place: each client its own.
func (c *Client) pluck(now time.Duration, x, y float64) {
	count := 1 + c.random.IntN(2)
	if c.config.Faults.Has(WildTufts) {
		count += 6
	}
	for range count {
		if len(c.tufts) >= mostTufts {
			return
		}
		c.tuftNo++
		t := tuft{x: x + 4*c.random.Float64() - 2, y: y + 4*c.random.Float64() - 2, until: now + tuftLasts}
		t.told.entity = c.tell.names.Entity(fmt.Sprintf("tuft/%d", c.tuftNo))
		c.tufts = append(c.tufts, t)
	}
}

func (c *Client) speakOfTufts(now time.Duration) {
	kept := c.tufts[:0]
	for i := range c.tufts {
		t := c.tufts[i]
		if now >= t.until {
			c.tell.gone = append(c.tell.gone, t.told.entity)
			continue
		}
		c.tell.number(&t.told, fieldX, t.x)
		c.tell.number(&t.told, fieldY, t.y)
		kept = append(kept, t)
	}
	c.tufts = kept
}
