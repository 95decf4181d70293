package hillfold

import (
	"fmt"
	"slices"
	"time"
)

// What the server says of the world: to its trace, and to the players.

// speak says what the server believes.
func (s *Server) speak(now time.Duration) {
	t := &s.tell
	t.begin(now)
	t.record.Tick, t.record.HasTick = s.tick, true
	for _, p := range s.players {
		t.number(&p.told, fieldX, p.dog.x)
		t.number(&p.told, fieldY, p.dog.y)
		t.number(&p.told, fieldHeading, p.dog.heading)
		t.number(&p.told, fieldSpeed, p.dog.speed)
		t.tell(&p.told, fieldGait, t.gaits[gaitNumber(p.dog.gait())])
		t.number(&p.told, fieldStamina, p.dog.stamina)
		t.number(&p.told, fieldScore, float64(p.score))
		t.text(&p.told, fieldPlayer, p.name)
	}
	for _, f := range s.flock {
		t.number(&f.told, fieldX, f.x)
		t.number(&f.told, fieldY, f.y)
		t.number(&f.told, fieldHeading, f.heading)
	}
	t.number(&s.bell.told, fieldX, s.bell.x)
	t.number(&s.bell.told, fieldY, s.bell.y)
	wearer := ""
	if s.bell.wearer != nil {
		wearer = s.bell.wearer.name
	}
	t.text(&s.bell.told, fieldWearer, wearer)
	t.text(&s.round.told, fieldPhase, phase(s.round.over))
	t.number(&s.round.told, fieldPenned, float64(s.round.penned))
	t.text(&s.round.told, fieldWinner, s.round.winner)
	t.number(&s.arm, fieldX, millX)
	t.number(&s.arm, fieldY, millY)
	t.number(&s.arm, fieldAngle, armAt(now-s.started))
	t.text(&s.stones.told, fieldCells, listed(s.stones.cells))
	for _, g := range s.gates {
		t.number(&g.told, fieldX, g.x)
		t.number(&g.told, fieldY, g.y)
		t.flag(&g.told, fieldOpen, g.open)
	}
	t.end()
}

func phase(over bool) string {
	if over {
		return "over"
	}
	return "running"
}

func gaitNumber(gait string) uint8 { return uint8(slices.Index(gaits[:], gait)) }

// send makes each player's update: what it must not miss, and a snapshot.
func (s *Server) send(now time.Duration) {
	s.poses = s.poses[:0]
	for _, p := range s.players {
		s.poses = append(s.poses, pose{id: p.id, species: dogs, x: p.dog.x, y: p.dog.y, heading: p.dog.heading, speed: p.dog.speed,
			stamina: p.dog.stamina, gait: gaitNumber(p.dog.gait()), tired: p.dog.tired})
	}
	s.poses = append(s.poses, pose{id: s.bell.id, species: bell, x: s.bell.x, y: s.bell.y})
	for _, f := range s.flock {
		s.poses = append(s.poses, pose{id: f.id, species: sheep, x: f.x, y: f.y, heading: f.heading})
	}
	snapshot, count := writer{b: s.buffer()}, len(s.poses)
	for i := range s.poses {
		snapshot.pose(&s.poses[i], s.config.Faults)
	}
	world := s.presences()
	for _, p := range s.players {
		if p.gone {
			continue
		}
		s.introduce(p, world)
		if s.config.Radius > 0 {
			snapshot.b, count = snapshot.b[:0], 0
			for i := range s.poses {
				if p.knows(s.poses[i].id) {
					snapshot.pose(&s.poses[i], s.config.Faults)
					count++
				}
			}
		}
		w := newWriter(s.buffer(), packetUpdate)
		w.u32(p.session)
		w.u32(uint32(s.tick))
		w.u32(p.applied)
		w.u8(uint8(len(p.once)))
		for _, message := range p.once {
			w.u8(uint8(len(message)))
			w.b = append(w.b, message...)
		}
		p.once = p.once[:0]
		start := len(w.b)
		// Some room there must be, or a crowded world could never be told of.
		p.channel.write(&w, now, max(leastRoom, min(messageRoom, maxDatagram-len(w.b)-len(snapshot.b))))
		s.tell.sent("messages", len(w.b)-start)
		w.u16(uint16(count))
		w.b = append(w.b, snapshot.b...)
		s.tell.sent("snapshots", len(snapshot.b))
		s.out = append(s.out, Packet{Peer: p.address, Data: w.b})
	}
	s.buffers = append(s.buffers, snapshot.b)
}

func (s *Server) buffer() []byte {
	if n := len(s.buffers); n > 0 {
		b := s.buffers[n-1]
		s.buffers = s.buffers[:n-1]
		return b[:0]
	}
	return make([]byte, 0, maxDatagram)
}

func sheepName(number int) string { return fmt.Sprintf("sheep/s%02d", number) }
