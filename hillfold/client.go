package hillfold

import (
	"math"
	"strconv"
	"time"

	"zitherwheel/trace"
)

const (
	joinAgain     = 200 * time.Millisecond // between requests to join
	sayGoodbye    = 3                      // times, because nobody acknowledges it
	sendEvery     = 2                      // frames
	correctWithin = 0.1                    // seconds in which a correction fades
	tooFarToFade  = 3.0                    // metres: beyond, the dog jumps
	samplesKept   = 64
)

// Client is one player's end. See [NewClient].
type Client struct {
	config   Config
	name     string
	tell     teller
	session  uint32
	state    clientState
	started  time.Duration
	frame    int64
	asked    time.Duration
	nextSay  time.Duration
	goodbyes int

	own       thing
	serverHz  int
	channel   inChannel
	things    []*seen // in order of appearing
	byID      map[thing]*seen
	newest    int64 // tick of the newest snapshot, or -1
	playback  playback
	predicted dogState
	fading    struct{ x, y, heading float64 } // what is left of the last corrections
	inputs    []Input                         // not yet applied by the server
	firstIn   uint32                          // number of inputs[0]
	out       []Packet
	buffer    []byte

	Malformed int // packets that were no good and were ignored
}

type clientState uint8

const (
	outside clientState = iota
	joining
	inside
	leaving
)

// seen is a thing as this client knows it.
type seen struct {
	id      thing
	species species
	name    string
	told    told
	samples []sample // in order of time
	shown   bool
	detail  int    // dogs: score; round: penned
	wearer  string // bell
	over    bool   // round
}

type sample struct {
	at time.Duration // server time
	pose
}

// NewClient returns a client that is not in the match; see Join. Its trace goes
// to say.
func NewClient(config Config, name string, names *trace.Names, say func(*trace.Record)) *Client {
	return &Client{config: config, name: name, tell: newTeller(names, say), newest: -1}
}

// Join makes the client ask to be let in, in a new session, from its next step
// on. Frames come at multiples of the frame interval from now.
func (c *Client) Join(now time.Duration) {
	*c = Client{config: c.config, name: c.name, tell: newTeller(c.tell.names, c.tell.say), session: c.session + 1,
		state: joining, started: now, asked: now - joinAgain, newest: -1, firstIn: 1, byID: map[thing]*seen{}, Malformed: c.Malformed}
}

// Leave makes the client say goodbye and stop.
func (c *Client) Leave(now time.Duration) {
	if c.state == inside {
		c.tell.happened(now, func(r *trace.Record) { r.Left, r.Entity = c.name, "dog/"+c.name })
	}
	if c.state != outside {
		c.state, c.goodbyes = leaving, sayGoodbye
	}
}

// Next is when Step wants to be called next.
func (c *Client) Next() time.Duration { return c.started + at(c.frame, c.config.Rates.Frame) }

// Inside reports whether the client believes that it is in the match.
func (c *Client) Inside() bool { return c.state == inside }

// Idle reports whether the client has nothing to do: it has not joined, or has
// left and said so.
func (c *Client) Idle() bool { return c.state == outside }

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
		if n := len(t.samples); n > 0 && t.id != c.own && t.species.String() == kind {
			p := &t.samples[n-1].pose
			if d := math.Hypot(p.x-ownX, p.y-ownY); d < best {
				x, y, ok, best = p.x, p.y, true, d
			}
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
	case outside:
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
	if c.state == joining {
		if now-c.asked < joinAgain {
			return nil
		}
		c.asked = now
		w := newWriter(c.buffer, packetJoin)
		w.u32(c.session)
		w.u8(uint8(min(255, c.config.Rates.Frame)))
		w.text(c.name)
		return c.send(w)
	}

	dt := 1 / float64(c.config.Rates.Frame)
	c.playback.run(now, dt)
	if c.newest >= 0 {
		c.moveOwn(in.asSent(), dt)
	}
	if now >= c.nextSay {
		c.nextSay = max(c.nextSay+time.Second/time.Duration(c.config.Rates.Report), now)
		c.speak(now)
	}
	if c.frame%sendEvery != 0 {
		return nil
	}
	w := newWriter(c.buffer, packetInput)
	w.u32(c.session)
	w.u16(c.channel.next)
	w.u32(c.firstIn)
	w.u8(uint8(len(c.inputs)))
	for _, in := range c.inputs {
		w.input(in)
	}
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
	session, tick, applied := r.u32(), int64(r.u32()), r.u32()
	if r.bad || kind != packetUpdate {
		c.Malformed++
		return
	}
	if session != c.session {
		return // of an earlier stay
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
		if p.id == c.own {
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
		c.predicted.step(in, 1/float64(c.config.Rates.Frame))
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

// understand takes in one message of the reliable channel.
func (c *Client) understand(now time.Duration, message []byte) {
	r := reader{b: message}
	switch r.u8() {
	case messageWelcome:
		own, hz := thing(r.u16()), int(r.u8())
		if r.bad || hz == 0 || c.state != joining {
			break
		}
		c.own, c.serverHz, c.state = own, hz, inside
		c.nextSay = now
		c.tell.happened(now, func(t *trace.Record) { t.Joined, t.Entity = c.name, "dog/"+c.name })
	case messageAppear:
		t := &seen{id: thing(r.u16()), species: species(r.u8()), detail: int(r.u16()), name: r.text()}
		if r.bad || c.byID[t.id] != nil {
			break
		}
		if t.species == bell {
			if wearer := c.byID[thing(t.detail)]; wearer != nil {
				t.wearer = wearer.name[len("dog/"):]
			}
		}
		t.told.entity = c.tell.names.Entity(t.name)
		c.things = append(c.things, t)
		c.byID[t.id] = t
	case messageGoodbye:
		c.forget(thing(r.u16()))
	case messageBark:
		c.heardOf(now, &r, "bark", func() (entity, by string) {
			dog := c.nameOf(thing(r.u16()))
			return dog, playerOf(dog)
		})
	case messagePicked:
		c.heardOf(now, &r, "picked-up", func() (entity, by string) {
			by = playerOf(c.nameOf(thing(r.u16())))
			for _, t := range c.things {
				if t.species == bell {
					t.wearer = by
				}
			}
			return "bell/brass", by
		})
	case messagePenned:
		c.heardOf(now, &r, "penned", func() (entity, by string) {
			entity = c.nameOf(thing(r.u16()))
			dog, score, penned := thing(r.u16()), int(r.u16()), int(r.u16())
			if t := c.byID[dog]; t != nil {
				t.detail = score
			}
			for _, t := range c.things {
				if t.species == round {
					t.detail = penned
				}
			}
			return entity, playerOf(c.nameOf(dog))
		})
	case messageFinal:
		c.heardOf(now, &r, "final", func() (entity, by string) {
			for _, t := range c.things {
				if t.species == round {
					t.over = true
				}
			}
			return "round/first", r.text()
		})
	case messageJoined:
		if player := r.text(); player != c.name {
			c.tell.happened(now, func(t *trace.Record) { t.Joined, t.Entity = player, "dog/"+player })
		}
	case messageLeft:
		player := r.text()
		for _, t := range c.things {
			if t.species == bell && t.wearer == player {
				t.wearer = ""
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
	if !r.bad {
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

func playerOf(dog string) string {
	if len(dog) < len("dog/") {
		return ""
	}
	return dog[len("dog/"):]
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

// speak says what this client would show now.
func (c *Client) speak(now time.Duration) {
	tell := &c.tell
	tell.begin(now)
	for _, t := range c.things {
		if t.species == round {
			tell.text(&t.told, fieldPhase, phase(t.over))
			tell.number(&t.told, fieldPenned, float64(t.detail))
			t.shown = true
			continue
		}
		p, ok := c.poseOf(t)
		if !ok {
			continue
		}
		t.shown = true
		tell.number(&t.told, fieldX, p.x)
		tell.number(&t.told, fieldY, p.y)
		if t.species == bell {
			tell.text(&t.told, fieldWearer, t.wearer)
			continue
		}
		tell.number(&t.told, fieldHeading, p.heading)
		if t.species == dogs {
			tell.number(&t.told, fieldSpeed, p.speed)
			tell.tell(&t.told, fieldGait, tell.gaits[p.gait])
			tell.number(&t.told, fieldStamina, p.stamina)
			tell.number(&t.told, fieldScore, float64(t.detail))
		}
	}
	tell.end()
}

// poseOf is where this client shows a thing, if it can.
func (c *Client) poseOf(t *seen) (pose, bool) {
	if t.id == c.own {
		if c.newest < 0 {
			return pose{}, false
		}
		d := c.predicted
		return pose{x: d.x + c.fading.x, y: d.y + c.fading.y, heading: turned(d.heading, c.fading.heading), speed: d.speed,
			stamina: d.stamina, gait: gaitNumber(d.gait())}, true
	}
	return t.between(c.playback.at)
}

// between interpolates the samples of a thing at a moment of the server's time.
// After the last sample it stays where it was seen last.
func (t *seen) between(moment time.Duration) (pose, bool) {
	n := len(t.samples)
	if n == 0 || moment < t.samples[0].at {
		return pose{}, false
	}
	i := n - 1
	for t.samples[i].at > moment {
		i--
	}
	if i > 0 { // what lies behind is never needed again
		t.samples = append(t.samples[:0], t.samples[i:]...)
		n, i = n-i, 0
	}
	a := t.samples[0]
	if n == 1 {
		return a.pose, true
	}
	b := t.samples[1]
	share := float64(moment-a.at) / float64(b.at-a.at)
	p := a.pose
	p.x += (b.x - a.x) * share
	p.y += (b.y - a.y) * share
	p.heading = turned(a.heading, turnTo(a.heading, b.heading)*share)
	p.speed += (b.speed - a.speed) * share
	p.stamina += (b.stamina - a.stamina) * share
	return p, true
}

// playback is the client's place in the server's time: behind the newest
// snapshot by enough that the next one is usually there in time.
type playback struct {
	at      time.Duration // server time that is shown
	running bool
	delay   float64 // mean of (arrival here - server time), seconds
	spread  float64 // mean deviation of it
}

const (
	averageOver  = 16.0 // snapshots
	behindSpread = 2.5
	behindAlways = 0.06 // seconds
	hurry        = 0.1  // playback runs up to so much faster or slower
	jumpBeyond   = 0.5  // seconds
)

// heard takes in that a snapshot of that server time arrived.
func (p *playback) heard(now, server time.Duration) {
	delay := (now - server).Seconds()
	if !p.running {
		p.running, p.delay, p.spread = true, delay, 0.01
		p.at = server - time.Duration(behindAlways*float64(time.Second))
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
	goal := now - time.Duration((p.delay+behindSpread*p.spread+behindAlways)*float64(time.Second))
	ahead := (goal - p.at).Seconds() - dt
	if ahead > jumpBeyond {
		p.at = goal
		return
	}
	p.at += time.Duration(dt * (1 + max(-hurry, min(hurry, ahead*2))) * float64(time.Second))
}
