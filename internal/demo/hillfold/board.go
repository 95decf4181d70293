package hillfold

import (
	"math"
	"time"
)

// boardTakes is how long a client needs to build its score board after joining.
const boardTakes = 800 * time.Millisecond

// board is a client's score board. Notices that come before it is built wait.
type board struct {
	ready   time.Duration
	waiting []notice
	dropped int // notices
	doubled int // sheep that were counted for two shapes
}

// notice says that a sheep was penned.
type notice struct {
	sheep, dog    thing
	score, penned int
}

func (b *board) notice(c *Client, now time.Duration, n notice) {
	if now < b.ready || len(b.waiting) > 0 {
		if now < b.ready && c.config.Faults.Has(EmptyBoard) {
			b.dropped++
			return
		}
		b.waiting = append(b.waiting, n)
		return
	}
	b.apply(c, n)
}

// build takes in what waited, once the board is there.
func (b *board) build(c *Client, now time.Duration) {
	if now < b.ready {
		return
	}
	for _, n := range b.waiting {
		b.apply(c, n)
	}
	b.waiting = b.waiting[:0]
}

func (b *board) apply(c *Client, n notice) {
	if t := c.byID[n.dog]; t != nil {
		t.detail = n.score
	}
	if c.config.Faults.Has(CountedTwice) {
		b.count(c, n)
	}
	for _, t := range c.things {
		if t.species == round {
			t.detail = n.penned
		}
	}
}

// count lets the client keep score by itself: a point for each shape of the fold
// that the sheep touches. The shapes are two halves that overlap in the middle.
func (b *board) count(c *Client, n notice) {
	dog, sheep := c.byID[n.dog], c.byID[n.sheep]
	if dog == nil {
		return
	}
	dog.detail = dog.counted + 1
	if sheep != nil && len(sheep.samples) > 0 {
		if last := sheep.samples[len(sheep.samples)-1]; math.Abs(last.y) < foldY/2 {
			dog.detail++
			b.doubled++
		}
	}
	dog.counted = dog.detail
}

// leader is the player with the highest score; among equals, the one met last.
func (b *board) leader(c *Client) string {
	name, best := "", -1
	for _, t := range c.things {
		if t.species == dogs && t.detail >= best {
			name, best = t.player, t.detail
		}
	}
	return name
}
