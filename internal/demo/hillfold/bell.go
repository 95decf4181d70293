package hillfold

import (
	"time"

	"zitherwheel/internal/trace"
)

// The bell goes from dog to dog by request and grant: a client that touches it
// asks for it, and the server decides. The answer is an event for everyone
// (picked up) or a message to the one who asked (denied).

const (
	touchDistance = 1.5             // metres, in the client's own view
	grantDistance = 5.0             // metres, on the server, where everything is a little elsewhere
	bellRest      = 2 * time.Second // after being taken
	askAgain      = time.Second     // after being denied
)

type bellState struct {
	id        thing
	told      told
	x, y      float64
	wearer    *player
	untouched time.Duration // until when nobody can take it
}

// answer decides a player's request for the bell.
func (s *Server) answer(now time.Duration, p *player, request uint8) {
	p.answered = request
	b := &s.bell
	s.tell.happened(now, func(r *trace.Record) { r.Checkpoint, r.Entity, r.By = "request", "bell/brass", p.name })
	dx, dy := p.dog.x-b.x, p.dog.y-b.y
	if now < b.untouched || b.wearer == p || dx*dx+dy*dy > grantDistance*grantDistance {
		s.tell.happened(now, func(r *trace.Record) { r.Checkpoint, r.Entity, r.By = "denied", "bell/brass", p.name })
		p.channel.say(messageOf(messageDenied, func(w *writer) { w.u8(request) }))
		return
	}
	b.wearer, b.untouched = p, now+bellRest
	s.event(now, messagePicked, "picked-up", "bell/brass", p.name, func(w *writer) { w.u16(uint16(p.id)) })
}

// carryBell keeps the bell with the dog that wears it.
func (s *Server) carryBell() {
	if b := &s.bell; b.wearer != nil {
		b.x, b.y = b.wearer.dog.x, b.wearer.dog.y
	}
}

// bellRequest is a client's side of the matter.
type bellRequest struct {
	number  uint8 // of the last request; rides on every packet
	waiting bool
	after   time.Duration // no new one before
}

// reachForBell asks for the bell when the own dog touches it.
func (c *Client) reachForBell(now time.Duration) {
	q := &c.bell
	if q.waiting || now < q.after {
		return
	}
	for _, t := range c.things {
		if t.species != bell || t.text == c.name {
			continue
		}
		p, ok := t.between(c.playback.at)
		if dx, dy := p.x-c.predicted.x, p.y-c.predicted.y; !ok || dx*dx+dy*dy > touchDistance*touchDistance {
			continue
		}
		q.number++
		q.waiting = true
		c.tell.happened(now, func(r *trace.Record) { r.Checkpoint, r.Entity, r.By = "touch", t.name, c.name })
		if c.config.Faults.Has(TwoMasters) {
			t.text = c.name // "the server will say yes"
		}
	}
}

// granted and denied end a request.

func (c *Client) granted(now time.Duration, by string) {
	for _, t := range c.things {
		if t.species == bell {
			t.text = by
		}
	}
	if by == c.name {
		c.bell.waiting, c.bell.after = false, now+askAgain
	}
}

func (c *Client) denied(now time.Duration, request uint8) {
	if request == c.bell.number {
		c.bell.waiting, c.bell.after = false, now+askAgain
	}
}
