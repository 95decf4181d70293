package hillfold

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"zitherwheel/internal/trace"
)

const (
	silentFor    = 5 * time.Second // after which a player counts as gone
	mostCatchUp  = 8               // an unlucky player's inputs are applied at up to so many times real time
	creditAtMost = 1.5             // seconds of input that may be caught up
	mostBehind   = 0.25            // seconds of input that may wait when nothing more can be caught up
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
	gates   []*gateState
	mill    thing
	arm     told
	stones  stoneState
	present []presence
	out     []Packet
	buffers [][]byte
	poses   []pose
	jumps   int // dogs that a claim moved farther than any dog can run
	crowded int // dogs that started on top of another
	barks   []barkNotice
	called  map[thing]string // the names of what anybody was told of

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
	entity    string   // its name: dog/fern
	late      bool     // joined after the match had begun
	gone      bool     // left, and only the dog is still here
	known     []bool   // things it was told of, by number
	gates     map[thing]bool
	answered  uint8 // its last request for the bell that was answered
	claim     *[2]float64
	shovable  time.Duration // by the mill, from when on
}

type roundState struct {
	id     thing
	told   told
	over   bool
	penned int
	winner string
}

type stoneState struct {
	id    thing
	told  told
	cells []byte
}

// NewServer returns a server whose trace goes to say and whose log lines go to
// log. random strews the sheep and moves them.
func NewServer(config Config, names *trace.Names, random *rand.Rand, say func(*trace.Record), log func(string)) *Server {
	s := &Server{config: config, random: random, tell: newTeller(names, say), log: log, called: map[thing]string{}}
	s.bell = bellState{id: s.newThing(), x: s.between(-20, 20), y: s.between(-20, 20)}
	s.bell.told.entity = names.Entity("bell/brass")
	s.round = roundState{id: s.newThing()}
	s.round.told.entity = names.Entity("round/first")
	s.mill = s.newThing()
	s.arm.entity = names.Entity("mill/old")
	s.stones = stoneState{id: s.newThing(), cells: strew(random)}
	s.stones.told.entity = names.Entity("stones/all")
	s.gates = newGates(s)
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
	var names []string
	for _, p := range s.presences() {
		names = append(names, p.name)
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
		if p := s.players[i]; !p.gone && now-p.heard > silentFor {
			s.remove(now, p, "silent for "+silentFor.String())
			continue
		}
		i++
	}
	dt := 1 / float64(s.config.Rates.Tick)
	for _, p := range s.players {
		s.moveDog(now, p, dt)
		s.shove(now, p)
	}
	s.carryBell()
	s.movePushed()
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
	p := s.find(session)
	if p != nil {
		p.address = packet.Peer // which may have changed on the way
	}
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
	case kind == packetPing && p != nil:
		stamp := r.u64()
		if r.bad || len(r.b) > 0 {
			s.Malformed++
			return
		}
		w := newWriter(s.buffer(), packetPong)
		w.u32(session)
		w.u64(stamp)
		w.u64(uint64((now - s.started).Microseconds()))
		s.tell.sent("clock", len(w.b))
		s.out = append(s.out, Packet{Peer: packet.Peer, Data: w.b})
	case kind == packetInput && p != nil:
		next, request := r.u16(), r.u8()
		x, y := r.place()
		first, count := r.u32(), int(r.u8())
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
				p.claim = &[2]float64{x, y}
			}
		}
		if int8(request-p.answered) > 0 {
			s.answer(now, p, request)
		}
	case kind == packetLeave && p != nil && !r.bad:
		s.remove(now, p, "left")
	case (kind == packetInput || kind == packetLeave || kind == packetPing) && !r.bad:
		// from somebody who is not in (any more)
	default:
		s.Malformed++
	}
}

func (s *Server) find(session uint32) *player {
	for _, p := range s.players {
		if p.session == session && !p.gone {
			return p
		}
	}
	return nil
}

func (s *Server) add(now time.Duration, from Address, session uint32, rate uint8, name string) {
	places, dogs := 0, 0
	for _, p := range slices.Clone(s.players) {
		if p.name == name {
			dogs++
			if !p.gone {
				s.remove(now, p, "joined anew")
			}
		} else if !p.gone {
			places++
		}
	}
	if s.config.Places > 0 && places >= s.config.Places {
		w := newWriter(s.buffer(), packetRefused)
		w.u32(session)
		s.out = append(s.out, Packet{Peer: from, Data: w.b})
		s.tell.happened(now, func(r *trace.Record) { r.Refused = name })
		s.log("refused, no place left: " + name)
		return
	}
	p := &player{id: s.newThing(), name: name, address: from, session: session, inputStep: 1 / float64(rate), heard: now,
		entity: "dog/" + name, gates: map[thing]bool{}, late: now-s.started > time.Second}
	if s.config.Faults.Has(WrongOrder) {
		p.channel.wait = patientResend
	}
	if dogs > 0 && s.config.Faults.Has(TwinOnReturn) {
		p.entity += "-" + strconv.Itoa(dogs+1)
	}
	p.told.entity = s.tell.names.Entity(p.entity)
	p.dog = dogState{stamina: fullStamina}
	p.dog.x, p.dog.y = s.spawn()
	for _, other := range s.players {
		if math.Hypot(other.dog.x-p.dog.x, other.dog.y-p.dog.y) < 1 {
			s.crowded++
		}
	}

	p.channel.say(messageOf(messageWelcome, func(w *writer) {
		w.u16(uint16(p.id))
		w.u8(uint8(s.config.Rates.Tick))
		w.u8(uint8(s.config.Rates.Send))
	}))
	for _, other := range s.players {
		if !other.gone {
			p.channel.say(joinedMessage(other))
		}
	}
	s.players = append(s.players, p)
	s.introduce(p, s.presences())
	if s.round.over {
		p.channel.say(s.finalMessage())
	}
	s.broadcast(joinedMessage(p))
	s.tell.happened(now, func(r *trace.Record) { r.Joined, r.Entity = name, p.entity })
	s.log("joined: " + name)
}

func joinedMessage(p *player) []byte {
	return messageOf(messageJoined, func(w *writer) {
		w.u16(uint16(p.id))
		w.text(p.name)
	})
}

// The places at which dogs start: rows and columns from the west.
const (
	spawnX       = -45.0
	spawnRows    = 11
	spawnColumns = 15
	spawnApart   = 6.0 // metres from one to the next
	spawnRoom    = 5.0 // that a place must have to be taken at once
)

// spawn chooses the westernmost column with a place that has room, and there the
// one that is farthest from every dog.
func (s *Server) spawn() (x, y float64) {
	x, y = spawnX, 0
	if s.config.Faults.Has(SameSpot) {
		return x, y
	}
	best := -1.0
	for column := 0; column < spawnColumns && best < spawnRoom; column++ {
		for row := range spawnRows {
			atX, atY := spawnX+spawnApart*float64(column), spawnApart*float64(row-spawnRows/2)
			nearest := math.Inf(1)
			for _, p := range s.players {
				nearest = min(nearest, math.Hypot(p.dog.x-atX, p.dog.y-atY))
			}
			if nearest > best {
				x, y, best = atX, atY, nearest
			}
		}
	}
	return x + s.between(-1, 1), y + s.between(-1, 1)
}

// messageOf makes a message of the reliable channel.
func messageOf(kind uint8, fill func(*writer)) []byte {
	w := writer{}
	w.u8(kind)
	fill(&w)
	return w.b
}

func (s *Server) broadcast(message []byte) {
	for _, p := range s.players {
		if !p.gone {
			p.channel.say(message)
		}
	}
}

// event tells everybody of a one-off and puts it into the trace.
func (s *Server) event(now time.Duration, kind uint8, name, entity, by string, fill func(*writer)) {
	s.events++
	number := s.events
	message := messageOf(kind, func(w *writer) {
		w.u16(number)
		fill(w)
	})
	if kind == messageBark && s.config.Faults.Has(OnceUnreliable) {
		for _, p := range s.players {
			p.once = append(p.once, message)
		}
	} else {
		s.broadcast(message)
	}
	s.tell.happened(now, func(r *trace.Record) {
		r.Event, r.ID, r.Entity, r.By = name, strconv.Itoa(int(number)), entity, by
	})
}

// goodbye tells everybody who knows a thing that it has left the world.
func (s *Server) goodbye(id thing, entity trace.Entity) {
	s.tell.gone = append(s.tell.gone, entity)
	message := messageOf(messageGoodbye, func(w *writer) { w.u16(uint16(id)) })
	for _, p := range s.players {
		switch {
		case !p.knows(id):
			continue
		case s.config.Faults.Has(LostGoodbye):
			p.once = append(p.once, message)
		default:
			p.channel.say(message)
		}
		p.learn(id, false)
	}
}

func (s *Server) remove(now time.Duration, p *player, why string) {
	if s.config.Faults.Has(TwinOnReturn) {
		p.gone, p.queue = true, nil // "may come back"
	} else {
		s.players = slices.DeleteFunc(s.players, func(q *player) bool { return q == p })
		if s.bell.wearer == p {
			s.bell.wearer = nil
			s.bell.untouched = now
		}
		s.goodbye(p.id, p.told.entity)
	}
	s.broadcast(messageOf(messageLeft, func(w *writer) { w.text(p.name) }))
	s.tell.happened(now, func(r *trace.Record) { r.Left, r.Entity = p.name, p.entity })
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
		if p.claim != nil && s.config.Faults.Has(BelievesAnything) {
			if math.Hypot(p.dog.x-p.claim[0], p.dog.y-p.claim[1]) > 8 {
				s.jumps++
			}
			p.dog.x, p.dog.y = p.claim[0], p.claim[1]
		}
		if in.Bark {
			s.bark(now, p)
		}
	}
	// What cannot be caught up any more is dropped, or the dog would stay behind
	// its player for the rest of the match.
	if waiting := float64(len(p.queue)) * p.inputStep; p.credit < p.inputStep/2 && waiting > mostBehind {
		p.queue = p.queue[int((waiting-mostBehind/2)/p.inputStep):]
	}
	p.applied = p.queued - uint32(len(p.queue))
}

func (s *Server) endRound(now time.Duration) {
	s.round.over = true
	s.round.winner = s.winner()
	s.event(now, messageFinal, "final", "round/first", s.round.winner, func(w *writer) { w.text(s.round.winner) })
	s.log("round over, winner: " + s.round.winner)
}

// winner is whose dog has the highest score; among equals, who joined first.
func (s *Server) winner() string {
	if len(s.players) == 0 {
		return ""
	}
	return slices.MaxFunc(s.players, func(a, b *player) int { return cmp.Compare(a.score, b.score) }).name
}

func (s *Server) finalMessage() []byte {
	return messageOf(messageFinal, func(w *writer) {
		w.u16(0) // no news: it is told in the trace only once
		w.text(s.round.winner)
	})
}
