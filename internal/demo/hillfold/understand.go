package hillfold

import (
	"math"
	"strconv"
	"time"

	"zitherwheel/internal/trace"
)

// understand takes in one message of the reliable channel.
func (c *Client) understand(now time.Duration, message []byte) {
	r := reader{b: message}
	switch r.u8() {
	case messageWelcome:
		own, hz, send := thing(r.u16()), int(r.u8()), int(r.u8())
		if r.bad || hz == 0 || send == 0 || c.state != joining {
			break
		}
		c.own, c.serverHz, c.state = own, hz, inside
		c.playback.behind = behindSends / float64(send)
		if c.config.Faults.Has(LegalLag) {
			c.playback.behind += legalLag
		}
		c.nextSay = now
		c.board.ready = now + boardTakes
	case messageAppear:
		t := &seen{id: thing(r.u16()), species: species(r.u8()), detail: int(r.u16())}
		t.x, t.y = r.place()
		t.name, t.player = r.text(), r.text()
		if r.bad || int(t.species) >= len(speciesNames) {
			r.bad = true
			break
		}
		c.meet(now, t)
	case messageGoodbye:
		c.forget(thing(r.u16()))
	case messageBark:
		c.heardOf(now, &r, "bark", func() (entity, by string) {
			id := thing(r.u16())
			c.heardBark(now, id)
			return c.nameOf(id), c.playerOf(id)
		})
	case messagePicked:
		c.heardOf(now, &r, "picked-up", func() (entity, by string) {
			by = c.playerOf(thing(r.u16()))
			c.granted(now, by)
			return "bell/brass", by
		})
	case messagePenned:
		c.heardOf(now, &r, "penned", func() (entity, by string) {
			n := notice{sheep: thing(r.u16()), dog: thing(r.u16()), score: int(r.u16()), penned: int(r.u16())}
			if !r.bad {
				c.board.notice(c, now, n)
			}
			return c.nameOf(n.sheep), c.playerOf(n.dog)
		})
	case messageFinal:
		c.heardOf(now, &r, "final", func() (entity, by string) {
			winner := r.text()
			for _, t := range c.things {
				if t.species == round {
					t.over, t.text = true, winner
					if c.config.Faults.Has(DifferentEndings) {
						t.text = c.board.leader(c)
					}
				}
			}
			return "round/first", winner
		})
	case messageGate:
		id, isOpen := thing(r.u16()), int(r.u8())
		if t := c.byID[id]; t != nil && !r.bad {
			t.detail = isOpen
		}
	case messageFlip:
		if t := c.byID[thing(r.u16())]; t != nil && !r.bad {
			t.detail = 1 - t.detail
			t.flips++
		}
	case messageStones:
		if t, cells := c.byID[thing(r.u16())], r.take(int(r.u8())); t != nil && !r.bad {
			t.text = listed(cells)
		}
	case messageDenied:
		c.denied(now, r.u8())
	case messageJoined:
		id, player := thing(r.u16()), r.text()
		if r.bad {
			break
		}
		c.players[id] = player
		if player != c.name {
			c.tell.happened(now, func(t *trace.Record) { t.Joined, t.Entity = player, "dog/"+player })
		}
	case messageLeft:
		player := r.text()
		for _, t := range c.things {
			if t.species == bell && t.text == player {
				t.text = ""
			}
		}
		c.tell.happened(now, func(t *trace.Record) { t.Left, t.Entity = player, "dog/"+player })
	default:
		r.bad = true
	}
	if r.bad {
		c.Malformed++
	}
}

// heardOf puts a one-off into the trace after its message was applied.
func (c *Client) heardOf(now time.Duration, r *reader, event string, apply func() (entity, by string)) {
	number := r.u16()
	entity, by := apply()
	if !r.bad && number != 0 {
		order := "all"
		if event == "bark" {
			order, c.barks[number] = "barks", true
		}
		switch {
		case c.applied[number]:
			c.eventsAgain++
		case number < c.lastEvent[order]:
			c.eventsAstray++
		default:
			c.lastEvent[order] = number
		}
		c.applied[number] = true
		c.tell.happened(now, func(t *trace.Record) {
			t.Event, t.ID, t.Entity, t.By = event, strconv.Itoa(int(number)), entity, by
		})
	}
}

func (c *Client) nameOf(id thing) string {
	if t := c.byID[id]; t != nil {
		return t.name
	}
	return ""
}

func (c *Client) playerOf(id thing) string {
	if t := c.byID[id]; t != nil {
		return t.player
	}
	return c.players[id] // too far away to be known
}

// meet takes in a thing that this client is told of.
func (c *Client) meet(now time.Duration, t *seen) {
	if c.byID[t.id] != nil {
		return
	}
	if t.species == bell {
		t.text = c.playerOf(thing(t.detail))
	}
	t.told.entity = c.tell.names.Entity(t.name)
	t.counted = t.detail
	c.things = append(c.things, t)
	c.byID[t.id] = t
	if t.id == c.own {
		c.tell.happened(now, func(r *trace.Record) { r.Joined, r.Entity = c.name, t.name })
	}
}

// refuse: the server has no place left.
func (c *Client) refuse(now time.Duration) {
	if c.state != joining || c.config.Faults.Has(ShutDoor) {
		return
	}
	c.state = refused
	c.tell.happened(now, func(r *trace.Record) { r.Refused = c.name })
}

const giveUpAfter = 1500 * time.Millisecond

// playAlone is what a client does that takes no answer for a yes.
func (c *Client) playAlone(now time.Duration) {
	c.state, c.serverHz, c.newest, c.nextSay = inside, DefaultRates.Tick, 0, now
	c.own = math.MaxUint16
	c.predicted = dogState{x: spawnX, stamina: fullStamina}
	c.meet(now, &seen{id: c.own, species: dogs, name: "dog/" + c.name, player: c.name})
}

func (c *Client) forget(id thing) {
	t := c.byID[id]
	if t == nil {
		return
	}
	delete(c.byID, id)
	for i := range c.things {
		if c.things[i] == t {
			c.things = append(c.things[:i], c.things[i+1:]...)
			break
		}
	}
	if t.shown {
		c.tell.gone = append(c.tell.gone, t.told.entity)
	}
}
