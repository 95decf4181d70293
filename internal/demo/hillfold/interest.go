package hillfold

import "math"

// Who is told of what. A player knows of a thing once told of it; with
// a radius, what comes near is told and what goes far is taken away again, with
// some slack so that nothing flickers at the edge.

const leaveAt = 1.25 // times the radius

// presence is a thing as it is told to those who do not know of it yet.
type presence struct {
	id      thing
	species species
	x, y    float64
	detail  uint16
	name    string
	player  string
}

func (p *player) knows(id thing) bool { return int(id) < len(p.known) && p.known[id] }

func (p *player) learn(id thing, known bool) {
	for len(p.known) <= int(id) {
		p.known = append(p.known, false)
	}
	p.known[id] = known
}

// presences lists everything in the world, in an order that never changes:
// players first, because other things are about them.
func (s *Server) presences() []presence {
	list := s.present[:0]
	for _, p := range s.players {
		list = append(list, presence{p.id, dogs, p.dog.x, p.dog.y, uint16(p.score), p.entity, p.name})
	}
	wearer := thing(0)
	if s.bell.wearer != nil {
		wearer = s.bell.wearer.id
	}
	list = append(list,
		presence{s.round.id, round, 0, 0, uint16(s.round.penned), "round/first", ""},
		presence{s.bell.id, bell, s.bell.x, s.bell.y, uint16(wearer), "bell/brass", ""},
		presence{s.mill, mill, millX, millY, 0, "mill/old", ""},
		presence{s.stones.id, stones, 0, 0, 0, "stones/all", ""})
	for _, g := range s.gates {
		list = append(list, presence{g.id, gate, g.x, g.y, uint16(bit(g.open)), g.name, ""})
	}
	for _, f := range s.flock {
		list = append(list, presence{f.id, sheep, f.x, f.y, 0, f.name, ""})
	}
	s.present = list
	return list
}

// introduce tells a player of what came within reach and takes away what left it.
func (s *Server) introduce(p *player, world []presence) {
	for i := range world {
		t := &world[i]
		known := p.knows(t.id)
		reach := s.config.Radius
		if known {
			reach *= leaveAt
		}
		near := s.config.Radius == 0 || t.id == p.id || t.species.global() || math.Hypot(t.x-p.dog.x, t.y-p.dog.y) <= reach
		switch {
		case near && !known:
			p.learn(t.id, true)
			s.tellOf(p, t)
		case known && !near:
			p.learn(t.id, false)
			p.channel.say(messageOf(messageGoodbye, func(w *writer) { w.u16(uint16(t.id)) }))
		}
	}
}

// tellOf tells a player of a thing.
func (s *Server) tellOf(p *player, t *presence) {
	s.called[t.id] = t.name
	if p.late && s.config.Faults.Has(LateAndBlind) && (t.species == gate || t.species == stones) {
		return // "they were told when the match began"
	}
	detail := t.detail
	if t.species == gate {
		if before, ok := p.gates[t.id]; ok && s.config.Faults.Has(ForgetsWhatItLeft) {
			detail = uint16(bit(before))
		}
		p.gates[t.id] = detail == 1
	}
	p.channel.say(messageOf(messageAppear, func(w *writer) {
		w.u16(uint16(t.id))
		w.u8(uint8(t.species))
		w.u16(detail)
		w.place(t.x, t.y, centimetre)
		w.text(t.name)
		w.text(t.player)
	}))
	if t.species == stones {
		p.channel.say(messageOf(messageStones, func(w *writer) {
			w.u16(uint16(t.id))
			w.u8(uint8(len(s.stones.cells)))
			w.b = append(w.b, s.stones.cells...)
		}))
	}
}
