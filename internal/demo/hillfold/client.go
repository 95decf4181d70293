package hillfold

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"zitherwheel/internal/trace"
)

const (
	joinAgain     = 200 * time.Millisecond // between requests to join
	sayGoodbye    = 3                      // times, because nobody acknowledges it
	lostAfter     = 8 * time.Second        // without a word of the server a client is out
	sendAbout     = 30                     // packets a second
	correctWithin = 0.1                    // seconds in which a correction fades
	tooFarToFade  = 3.0                    // metres: beyond, the dog jumps
	samplesKept   = 64
)

// Client is one player's end. See [NewClient].
type Client struct {
	config   Config
	name     string
	random   *rand.Rand // only for what is cosmetic
	tell     teller
	session  uint32
	state    clientState
	started  time.Duration
	frame    int64
	asked    time.Duration
	nextSay  time.Duration
	goodbyes int
	heard    time.Duration // when the server was

	own       thing
	serverHz  int
	channel   inChannel
	things    []*seen // in order of appearing
	byID      map[thing]*seen
	players   map[thing]string // who has joined, by the number of the player's dog
	newest    int64            // tick of the newest snapshot, or -1
	playback  playback
	predicted dogState
	fading    struct{ x, y, heading float64 } // what is left of the last corrections
	inputs    []Input                         // not yet applied by the server
	firstIn   uint32                          // number of inputs[0]
	clock     clock
	bell      bellRequest
	board     board
	tufts     []tuft
	tuftNo    int
	claim     *[2]float64 // where a cheat says it is
	claimTill time.Duration
	barks     map[uint16]bool   // that it heard, by event number
	applied   map[uint16]bool   // events
	lastEvent map[string]uint16 // the newest of each order
	out       []Packet
	buffer    []byte

	eventsAgain  int // one-offs that were applied before
	eventsAstray int // one-offs that were applied after a later one

	Malformed int // packets that were no good and were ignored
}

type clientState uint8

const (
	outside clientState = iota
	joining
	inside
	leaving
	refused // by the server, and knows it
)

// seen is a thing as this client knows it.
type seen struct {
	id      thing
	species species
	name    string
	player  string
	told    told
	x, y    float64  // where it was when it was told of
	samples []sample // in order of time
	shown   bool
	detail  int    // dogs: score; round: penned; gate: whether it is open
	text    string // bell: who wears it; round: the winner; stones: where they lie
	over    bool   // round
	flips   int    // gate
	counted int    // dogs: the score this client counted by itself
	astray  astray
}

type sample struct {
	at time.Duration // server time
	pose
}

// NewClient returns a client that is not in the match; see Join. Its trace goes
// to say; random is for what is cosmetic.
func NewClient(config Config, name string, names *trace.Names, random *rand.Rand, say func(*trace.Record)) *Client {
	return &Client{config: config, name: name, random: random, tell: newTeller(names, say), newest: -1, session: config.Session ^ firstSession(name)}
}

// firstSession makes the sessions of different players different.
func firstSession(name string) uint32 {
	h := fnv.New32a()
	h.Write([]byte(name))
	return h.Sum32()
}

// Join makes the client ask to be let in, in a new session, from its next step
// on. Frames come at multiples of the frame interval from now.
func (c *Client) Join(now time.Duration) {
	*c = Client{config: c.config, name: c.name, random: c.random, tell: newTeller(c.tell.names, c.tell.say), session: c.session + 1,
		state: joining, started: now, asked: now - joinAgain, newest: -1, firstIn: 1, byID: map[thing]*seen{}, players: map[thing]string{}, barks: map[uint16]bool{}, applied: map[uint16]bool{}, lastEvent: map[string]uint16{},
		eventsAgain: c.eventsAgain, eventsAstray: c.eventsAstray, tuftNo: c.tuftNo, Malformed: c.Malformed}
	c.channel.faults = c.config.Faults
}

// Leave makes the client say goodbye and stop.
func (c *Client) Leave(now time.Duration) {
	if c.state == inside {
		c.tell.happened(now, func(r *trace.Record) { r.Left, r.Entity = c.name, c.nameOf(c.own) })
	}
	if c.state == joining || c.state == inside {
		c.state, c.goodbyes = leaving, sayGoodbye
	}
}

// Next is when Step wants to be called next.
func (c *Client) Next() time.Duration { return c.started + at(c.frame, c.config.Rates.FPS) }

// Inside reports whether the client believes that it is in the match.
func (c *Client) Inside() bool { return c.state == inside }

// Idle reports whether the client has nothing to do: it has not joined, or has
// left and said so.
func (c *Client) Idle() bool { return c.state == outside || c.state == refused }

// Refused reports whether the server did not let the client in, as far as the
// client knows.
func (c *Client) Refused() bool { return c.state == refused }

// Cheat changes what this client believes behind the game's back.
func (c *Client) Cheat(now time.Duration, cheat Cheat) {
	if c.state != inside {
		return
	}
	if cheat.Moves {
		c.predicted.x, c.predicted.y = cheat.X, cheat.Y
		c.fading.x, c.fading.y = 0, 0
		c.claim, c.claimTill = &[2]float64{cheat.X, cheat.Y}, now+claimFor
	}
	if cheat.Stamina {
		c.predicted.stamina, c.predicted.tired = fullStamina, false
	}
}

const claimFor = 200 * time.Millisecond

// Things are the names of what this client shows, in order of appearing.
func (c *Client) Things() (names []string) {
	for _, t := range c.things {
		if t.shown {
			names = append(names, t.name)
		}
	}
	return names
}

// Own is where this client shows its own dog.
func (c *Client) Own() (x, y, heading float64, ok bool) {
	if c.state != inside || c.newest < 0 {
		return 0, 0, 0, false
	}
	return c.predicted.x + c.fading.x, c.predicted.y + c.fading.y, c.predicted.heading, true
}

// Nearest is where this client has last heard of the nearest thing of a kind,
// other than its own dog.
func (c *Client) Nearest(kind string) (x, y float64, ok bool) {
	ownX, ownY, _, _ := c.Own()
	best := math.Inf(1)
	for _, t := range c.things {
		if t.id == c.own || t.species.String() != kind {
			continue
		}
		atX, atY := t.x, t.y
		if n := len(t.samples); n > 0 {
			atX, atY = t.samples[n-1].x, t.samples[n-1].y
		}
		if d := math.Hypot(atX-ownX, atY-ownY); d < best {
			x, y, ok, best = atX, atY, true, d
		}
	}
	return x, y, ok
}

// Step runs one frame: it takes what arrived, moves the own dog by the player's
// input, says what it would show, and returns what is to be sent.
func (c *Client) Step(now time.Duration, arrived []Packet, in Input) []Packet {
	c.out = c.out[:0]
	c.frame++
	switch c.state {
	case outside, refused:
		return nil
	case leaving:
		if c.goodbyes--; c.goodbyes <= 0 {
			c.state = outside
		}
		w := newWriter(c.buffer, packetLeave)
		w.u32(c.session)
		return c.send(w)
	}
	for _, p := range arrived {
		c.receive(now, p.Data)
	}
	if c.state == inside && now-c.heard > lostAfter {
		c.tell.happened(now, func(r *trace.Record) { r.Left, r.Entity = c.name, c.nameOf(c.own) })
		c.state = outside
		return nil
	}
	switch c.state {
	case refused:
		return nil
	case joining:
		if c.config.Faults.Has(ShutDoor) && now-c.started > giveUpAfter {
			c.playAlone(now)
			return nil
		}
		if now-c.asked < joinAgain {
			return nil
		}
		c.asked = now
		w := newWriter(c.buffer, packetJoin)
		w.u32(c.session)
		w.u8(uint8(min(255, c.config.Rates.FPS)))
		w.text(c.name)
		return c.send(w)
	}

	dt := 1 / float64(c.config.Rates.FPS)
	c.playback.run(now, dt)
	c.board.build(c, now)
	if c.newest >= 0 {
		x, y := c.predicted.x, c.predicted.y
		c.moveOwn(in.asSent(), dt)
		c.goAstray(now, dt, c.predicted.x-x, c.predicted.y-y)
		c.reachForBell(now)
	}
	c.clock.run(c)
	if now >= c.nextSay {
		c.nextSay = max(c.nextSay+time.Second/time.Duration(c.config.Rates.Report), now)
		c.speak(now)
	}
	if stamp, due := c.clock.ask(now); due {
		w := newWriter(nil, packetPing)
		w.u32(c.session)
		w.u64(stamp)
		c.tell.sent("clock", len(w.b))
		c.out = append(c.out, Packet{Data: w.b})
	}
	if c.frame%int64(max(1, c.config.Rates.FPS/sendAbout)) != 0 {
		return c.out
	}
	w := newWriter(c.buffer, packetInput)
	w.u32(c.session)
	w.u16(c.channel.next)
	w.u8(c.bell.number)
	x, y := c.predicted.x, c.predicted.y
	if c.claim != nil && now < c.claimTill {
		x, y = c.claim[0], c.claim[1]
	}
	w.place(x, y, centimetre)
	w.u32(c.firstIn)
	w.u8(uint8(len(c.inputs)))
	for _, in := range c.inputs {
		w.input(in)
	}
	c.tell.sent("inputs", len(w.b))
	return c.send(w)
}

func (c *Client) send(w writer) []Packet {
	c.buffer = w.b
	c.out = append(c.out, Packet{Data: w.b})
	return c.out
}

// moveOwn predicts what the server will make of an input, and lets earlier
// corrections fade.
func (c *Client) moveOwn(in Input, dt float64) {
	if c.config.Faults.Has(KeptToItself) && c.predicted.tired {
		in.Run = false // only this client knows
	}
	c.predicted.step(in, dt)
	keep := math.Exp(-dt / correctWithin)
	c.fading.x *= keep
	c.fading.y *= keep
	c.fading.heading *= keep
	c.inputs = append(c.inputs, in)
	if len(c.inputs) > maxInputs {
		c.inputs = c.inputs[1:]
		c.firstIn++
	}
}

// receive takes one packet apart. Whatever is wrong with it, it is counted and
// changes nothing more.
func (c *Client) receive(now time.Duration, data []byte) {
	r, kind := open(data)
	session := r.u32()
	switch {
	case r.bad || kind != packetUpdate && kind != packetPong && kind != packetRefused:
		c.Malformed++
		return
	case session != c.session:
		return // of an earlier stay
	}
	c.heard = now
	switch {
	case kind == packetPong:
		c.clock.heard(c, now, &r)
		return
	case kind == packetRefused:
		c.refuse(now)
		return
	}
	tick, applied := int64(r.u32()), r.u32()
	if r.bad {
		c.Malformed++
		return
	}
	for range r.u8() {
		c.understand(now, r.take(int(r.u8())))
	}
	c.channel.read(&r, func(message []byte) { c.understand(now, message) })
	count := int(r.u16())
	if r.bad {
		c.Malformed++
		return
	}
	if c.state != inside || tick <= c.newest {
		return
	}
	// A snapshot counts as a whole or not at all.
	rest := r
	for range count {
		rest.pose(c.config.Faults)
	}
	if rest.bad || len(rest.b) > 0 {
		c.Malformed++
		return
	}
	first := c.newest < 0
	c.newest = tick
	at := at(tick, c.serverHz)
	c.playback.heard(now, at)
	for range count {
		p := r.pose(c.config.Faults)
		if p.id == c.own && now >= c.claimTill {
			c.correct(p, applied, first)
		}
		if t := c.byID[p.id]; t != nil {
			t.samples = append(t.samples, sample{at, p})
			if len(t.samples) > samplesKept {
				t.samples = append(t.samples[:0], t.samples[1:]...)
			}
		}
	}
}

// correct starts again from what the server says of the own dog and replays the
// inputs it has not applied yet.
func (c *Client) correct(p pose, applied uint32, first bool) {
	if n := int(int32(applied - c.firstIn + 1)); n > 0 {
		n = min(n, len(c.inputs))
		c.inputs = append(c.inputs[:0], c.inputs[n:]...)
		c.firstIn += uint32(n)
	}
	before := c.predicted
	c.predicted = dogState{x: p.x, y: p.y, heading: p.heading, speed: p.speed, stamina: p.stamina, tired: p.tired}
	if c.config.Faults.Has(KeptToItself) && !first {
		c.predicted.stamina, c.predicted.tired = before.stamina, before.tired
	}
	kept := c.predicted
	for _, in := range c.inputs {
		c.predicted.step(in, 1/float64(c.config.Rates.FPS))
	}
	if c.config.Faults.Has(KeptToItself) && !first {
		c.predicted.stamina, c.predicted.tired = kept.stamina, kept.tired
	}
	if first {
		return
	}
	c.fading.x += before.x - c.predicted.x
	c.fading.y += before.y - c.predicted.y
	c.fading.heading += turnTo(c.predicted.heading, before.heading)
	if math.Hypot(c.fading.x, c.fading.y) > tooFarToFade {
		c.fading.x, c.fading.y, c.fading.heading = 0, 0, 0
	}
}
