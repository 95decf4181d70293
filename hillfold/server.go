package hillfold

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"zitherwheel/trace"
)

const (
	silentFor    = 5 * time.Second // after which a player counts as gone
	mostCatchUp  = 4               // an unlucky player's inputs are applied at up to so many times real time
	creditAtMost = 1.5             // seconds of input that may be caught up
)

// Server is the one that decides. See [NewServer].
type Server struct {
	config  Config
	random  *rand.Rand
	tell    teller
	log     func(string)
	started time.Duration
	tick    int64
	nextTo  time.Duration // when snapshots go out next
	lastID  thing
	events  uint16
	players []*player // in order of joining
	flock   []*sheepState
	sheepNo int
	bell    bellState
	round   roundState
	out     []Packet
	buffers [][]byte
	poses   []pose

	Malformed int // packets that were no good and were ignored
}

type player struct {
	id        thing
	told      told
	name      string
	address   Address
	session   uint32
	inputStep float64 // seconds that one input lasts
	dog       dogState
	score     int
	queue     []Input
	queued    uint32 // number of the last input put into queue
	applied   uint32 // number of the last input that moved the dog
	credit    float64
	heard     time.Duration
	channel   outChannel
	once      [][]byte // messages for the next snapshot only, never repeated
}

type bellState struct {
	id        thing
	told      told
	x, y      float64
	wearer    *player
	untouched time.Duration // until when nobody can take it
}

type roundState struct {
	id     thing
	told   told
	over   bool
	penned int
}

// NewServer returns a server whose trace goes to say and whose log lines go to
// log. random strews the sheep and moves them.
func NewServer(config Config, names *trace.Names, random *rand.Rand, say func(*trace.Record), log func(string)) *Server {
	s := &Server{config: config, random: random, tell: newTeller(names, say), log: log}
	s.bell = bellState{id: s.newThing(), x: s.between(-20, 20), y: s.between(-20, 20)}
	s.bell.told.entity = names.Entity("bell/brass")
	s.round = roundState{id: s.newThing()}
	s.round.told.entity = names.Entity("round/first")
	for range config.Sheep {
		s.addSheep(s.between(-50, 48), s.between(-35, 35))
	}
	return s
}

// Start says when the server's clock begins. Ticks come at multiples of the
// tick interval from there.
func (s *Server) Start(now time.Duration) { s.started = now }

// Next is when Step wants to be called next.
func (s *Server) Next() time.Duration { return s.started + at(s.tick, s.config.Rates.Tick) }

// at is the time of the n-th of so many steps a second, in whole microseconds.
func at(n int64, perSecond int) time.Duration {
	return time.Duration(n*1_000_000/int64(perSecond)) * time.Microsecond
}

// Things are the names of what is in the world.
func (s *Server) Things() []string {
	names := []string{"bell/brass", "round/first"}
	for _, p := range s.players {
		names = append(names, "dog/"+p.name)
	}
	for _, f := range s.flock {
		names = append(names, f.name)
	}
	return names
}

func (s *Server) newThing() thing {
	s.lastID++
	return s.lastID
}

func (s *Server) between(low, high float64) float64 { return low + (high-low)*s.random.Float64() }

// Step runs one tick: it takes what arrived, moves the world, says what it
// believes, and returns what is to be sent. The packets are valid until the
// next step.
func (s *Server) Step(now time.Duration, arrived []Packet) []Packet {
	for _, p := range s.out {
		s.buffers = append(s.buffers, p.Data)
	}
	s.out = s.out[:0]
	for _, p := range arrived {
		s.receive(now, p)
	}
	for i := 0; i < len(s.players); {
		if p := s.players[i]; now-p.heard > silentFor {
			s.remove(now, p, "silent for "+silentFor.String())
			continue
		}
		i++
	}
	dt := 1 / float64(s.config.Rates.Tick)
	for _, p := range s.players {
		s.moveDog(now, p, dt)
	}
	s.moveBell(now)
	s.moveFlock(now, dt)
	if !s.round.over && now-s.started >= s.config.Round {
		s.endRound(now)
	}
	s.speak(now)
	if now >= s.nextTo {
		s.nextTo += time.Second / time.Duration(s.config.Rates.Send)
		s.send(now)
	}
	s.tick++
	return s.out
}

// receive takes one packet apart. Whatever is wrong with it, it is counted and
// changes nothing.
func (s *Server) receive(now time.Duration, packet Packet) {
	r, kind := open(packet.Data)
	session := r.u32()
	p := s.find(packet.Peer, session)
	switch {
	case kind == packetJoin:
		rate, name := r.u8(), r.text()
		if r.bad || len(r.b) > 0 || rate == 0 || name == "" {
			s.Malformed++
			return
		}
		if p == nil {
			s.add(now, packet.Peer, session, rate, name)
		} else {
			p.heard = now
		}
	case kind == packetInput && p != nil:
		next, first, count := r.u16(), r.u32(), int(r.u8())
		if r.bad || count > maxInputs || len(r.b) != 2*count {
			s.Malformed++
			return
		}
		p.heard = now
		p.channel.acknowledge(next)
		for i := range count {
			in, number := r.input(), first+uint32(i)
			if int32(number-p.queued) > 0 {
				p.queue = append(p.queue, in)
				p.queued = number
			}
		}
	case kind == packetLeave && p != nil && !r.bad:
		s.remove(now, p, "left")
	case (kind == packetInput || kind == packetLeave) && !r.bad:
		// from somebody who is not in (any more)
	default:
		s.Malformed++
	}
}

func (s *Server) find(from Address, session uint32) *player {
	for _, p := range s.players {
		if p.address == from && p.session == session {
			return p
		}
	}
	return nil
}

func (s *Server) add(now time.Duration, from Address, session uint32, rate uint8, name string) {
	for _, p := range s.players {
		if p.name == name {
			s.remove(now, p, "joined anew")
			break
		}
	}
	p := &player{id: s.newThing(), name: name, address: from, session: session, inputStep: 1 / float64(rate), heard: now}
	p.told.entity = s.tell.names.Entity("dog/" + name)
	p.dog = dogState{x: -45 + s.between(-3, 3), y: -30 + 6*float64(len(s.players)%11) + s.between(-1, 1), stamina: fullStamina}

	w := writer{}
	w.u8(messageWelcome)
	w.u16(uint16(p.id))
	w.u8(uint8(s.config.Rates.Tick))
	p.channel.say(w.b)
	for _, other := range s.players {
		p.channel.say(messageOf(messageJoined, func(w *writer) { w.text(other.name) }))
		p.channel.say(s.appearance(other.id, dogs, uint16(other.score), "dog/"+other.name))
	}
	for _, f := range s.flock {
		p.channel.say(s.appearance(f.id, sheep, 0, f.name))
	}
	wearer := thing(0)
	if s.bell.wearer != nil {
		wearer = s.bell.wearer.id
	}
	p.channel.say(s.appearance(s.bell.id, bell, uint16(wearer), "bell/brass"))
	p.channel.say(s.appearance(s.round.id, round, uint16(s.round.penned), "round/first"))
	if s.round.over {
		p.channel.say(s.finalMessage())
	}

	s.players = append(s.players, p)
	s.broadcast(messageOf(messageJoined, func(w *writer) { w.text(name) }))
	s.broadcast(s.appearance(p.id, dogs, 0, "dog/"+name))
	s.tell.happened(now, func(r *trace.Record) { r.Joined, r.Entity = name, "dog/"+name })
	s.log("joined: " + name)
}

// messageOf makes a message of the reliable channel.
func messageOf(kind uint8, fill func(*writer)) []byte {
	w := writer{}
	w.u8(kind)
	fill(&w)
	return w.b
}

func (s *Server) appearance(id thing, of species, detail uint16, name string) []byte {
	return messageOf(messageAppear, func(w *writer) {
		w.u16(uint16(id))
		w.u8(uint8(of))
		w.u16(detail)
		w.text(name)
	})
}

func (s *Server) broadcast(message []byte) {
	for _, p := range s.players {
		p.channel.say(message)
	}
}

// event tells everybody of a one-off and puts it into the trace.
func (s *Server) event(now time.Duration, kind uint8, name, entity, by string, fill func(*writer)) {
	s.events++
	number := s.events
	s.broadcast(messageOf(kind, func(w *writer) {
		w.u16(number)
		fill(w)
	}))
	s.tell.happened(now, func(r *trace.Record) {
		r.Event, r.ID, r.Entity, r.By = name, strconv.Itoa(int(number)), entity, by
	})
}

// goodbye tells everybody that a thing has left the world.
func (s *Server) goodbye(id thing, entity trace.Entity) {
	s.tell.gone = append(s.tell.gone, entity)
	message := messageOf(messageGoodbye, func(w *writer) { w.u16(uint16(id)) })
	if s.config.Faults.Has(LostGoodbye) {
		for _, p := range s.players {
			p.once = append(p.once, message)
		}
		return
	}
	s.broadcast(message)
}

func (s *Server) remove(now time.Duration, p *player, why string) {
	s.players = slices.DeleteFunc(s.players, func(q *player) bool { return q == p })
	if s.bell.wearer == p {
		s.bell.wearer = nil
		s.bell.untouched = now
	}
	s.goodbye(p.id, p.told.entity)
	s.broadcast(messageOf(messageLeft, func(w *writer) { w.text(p.name) }))
	s.tell.happened(now, func(r *trace.Record) { r.Left, r.Entity = p.name, "dog/"+p.name })
	s.log(why + ": " + p.name)
}

// moveDog applies a player's inputs. Each lasts as long as a frame of the
// client; one who was cut off catches up, within limits, so that a burst of
// loss does not throw the dog back.
func (s *Server) moveDog(now time.Duration, p *player, dt float64) {
	p.credit = min(p.credit+dt, creditAtMost)
	most := mostCatchUp * dt
	for len(p.queue) > 0 && p.credit >= p.inputStep/2 && most >= p.inputStep/2 {
		in := p.queue[0]
		p.queue = p.queue[1:]
		if s.config.Faults.Has(KeptToItself) {
			rested := p.dog.stamina
			p.dog.step(in, p.inputStep)
			p.dog.stamina = rested // "the client counts that"
		} else {
			p.dog.step(in, p.inputStep)
		}
		p.credit -= p.inputStep
		most -= p.inputStep
		if in.Bark {
			s.event(now, messageBark, "bark", "dog/"+p.name, p.name, func(w *writer) { w.u16(uint16(p.id)) })
		}
	}
	p.applied = p.queued - uint32(len(p.queue))
}

const (
	touchDistance = 1.5
	bellRest      = 2 * time.Second // after being taken
)

// moveBell lets the next dog that touches the bell, or its wearer, take it.
func (s *Server) moveBell(now time.Duration) {
	b := &s.bell
	if b.wearer != nil {
		b.x, b.y = b.wearer.dog.x, b.wearer.dog.y
	}
	if now < b.untouched {
		return
	}
	for _, p := range s.players {
		if dx, dy := p.dog.x-b.x, p.dog.y-b.y; p == b.wearer || dx*dx+dy*dy > touchDistance*touchDistance {
			continue
		}
		b.wearer, b.untouched = p, now+bellRest
		s.event(now, messagePicked, "picked-up", "bell/brass", p.name, func(w *writer) { w.u16(uint16(p.id)) })
		return
	}
}

func (s *Server) endRound(now time.Duration) {
	s.round.over = true
	winner := s.winner()
	s.event(now, messageFinal, "final", "round/first", winner, func(w *writer) { w.text(winner) })
	s.log("round over, winner: " + winner)
}

func (s *Server) winner() string {
	if len(s.players) == 0 {
		return ""
	}
	return slices.MaxFunc(s.players, func(a, b *player) int { return cmp.Compare(a.score, b.score) }).name
}

func (s *Server) finalMessage() []byte {
	return messageOf(messageFinal, func(w *writer) {
		w.u16(s.events)
		w.text(s.winner())
	})
}

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
	snapshot := writer{b: s.buffer()}
	for i := range s.poses {
		snapshot.pose(&s.poses[i])
	}
	for _, p := range s.players {
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
		p.channel.write(&w, now, min(messageRoom, maxDatagram-len(w.b)-len(snapshot.b)))
		w.u16(uint16(len(s.poses)))
		w.b = append(w.b, snapshot.b...)
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
