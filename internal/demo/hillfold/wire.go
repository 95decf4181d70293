package hillfold

import (
	"encoding/binary"
	"math"
)

// The wire format. Every datagram starts with a version byte and a kind byte;
// numbers are big-endian.
const wireVersion = 1

const (
	packetJoin    = iota + 1 // client: session, input rate, name
	packetInput              // client: session, next message wanted, bell request, where it believes it is, first input number, inputs
	packetLeave              // client: session
	packetUpdate             // server: session, tick, last input applied, messages, snapshot
	packetPing               // client: session, the client's clock
	packetPong               // server: session, the client's clock as it was, the server's clock
	packetRefused            // server: session
)

// The messages of the reliable channel.
const (
	messageWelcome = iota + 1 // own thing, tick rate, send rate
	messageAppear             // thing, species, detail, x, y, name, player
	messageGoodbye            // thing
	messageBark               // event number, dog
	messagePicked             // event number, dog
	messagePenned             // event number, sheep, dog, the dog's score, penned in all
	messageFinal              // event number, winner
	messageJoined             // dog, player
	messageLeft               // player
	messageGate               // gate, open
	messageFlip               // gate
	messageStones             // thing, cells
	messageDenied             // bell request
)

const (
	maxDatagram  = 1200 // bytes; passes every usual path whole
	maxName      = 40
	maxInputs    = 250 // unacknowledged inputs in one packet
	messageRoom  = 900 // bytes of a datagram that messages may take
	leastRoom    = 250
	centimetre   = 0.01
	staminaStep  = 0.5
	speedStep    = 0.05
	headingSteps = 1 << 16
)

// writer appends numbers to a datagram.
type writer struct{ b []byte }

func newWriter(b []byte, kind byte) writer { return writer{append(b[:0], wireVersion, kind)} }

func (w *writer) u8(v uint8)   { w.b = append(w.b, v) }
func (w *writer) u16(v uint16) { w.b = binary.BigEndian.AppendUint16(w.b, v) }
func (w *writer) u32(v uint32) { w.b = binary.BigEndian.AppendUint32(w.b, v) }

func (w *writer) u64(v uint64) { w.b = binary.BigEndian.AppendUint64(w.b, v) }

func (w *writer) place(x, y, step float64) {
	w.u16(uint16(quantise(math.Round(x/step)*step, centimetre)))
	w.u16(uint16(quantise(math.Round(y/step)*step, centimetre)))
}

func (w *writer) text(s string) {
	w.u8(uint8(len(s)))
	w.b = append(w.b, s...)
}

// reader takes a datagram apart. Reading past its end sets bad and gives zeros.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) take(n int) []byte {
	if len(r.b) < n {
		r.bad = true
		r.b = nil
		return make([]byte, n)
	}
	taken := r.b[:n]
	r.b = r.b[n:]
	return taken
}

func (r *reader) u8() uint8   { return r.take(1)[0] }
func (r *reader) u16() uint16 { return binary.BigEndian.Uint16(r.take(2)) }
func (r *reader) u32() uint32 { return binary.BigEndian.Uint32(r.take(4)) }

func (r *reader) u64() uint64 { return binary.BigEndian.Uint64(r.take(8)) }

func (r *reader) place() (x, y float64) {
	return float64(int16(r.u16())) * centimetre, float64(int16(r.u16())) * centimetre
}

func (r *reader) text() string {
	n := int(r.u8())
	if n > maxName {
		r.bad = true
		return ""
	}
	return string(r.take(n))
}

// open checks the first two bytes.
func open(data []byte) (r reader, kind byte) {
	r = reader{b: data}
	if version := r.u8(); version != wireVersion {
		r.bad = true
	}
	return r, r.u8()
}

// quantise rounds to whole steps and keeps the result within 16 signed bits.
func quantise(v, step float64) int16 {
	return int16(max(math.MinInt16, min(math.MaxInt16, math.Round(v/step))))
}

// pose is what a snapshot says of a thing.
type pose struct {
	id             thing
	species        species
	x, y, heading  float64 // a bell has no heading
	speed, stamina float64 // dogs only, like the rest
	gait           uint8
	tired          bool
}

func (w *writer) pose(p *pose, faults Faults) {
	w.u16(uint16(p.id))
	w.u8(uint8(p.species))
	step := centimetre
	if faults.Has(CoarseGrid) {
		step = 1
	}
	w.place(p.x, p.y, step)
	if p.species == bell {
		return
	}
	w.u16(uint16(int(math.Round(p.heading/360*headingSteps)) % headingSteps))
	if p.species != dogs {
		return
	}
	w.u8(uint8(math.Round(p.speed / speedStep)))
	state := p.gait
	if faults.Has(OnlyHere) {
		state = 0
	}
	if p.tired {
		state |= 1 << 4
	}
	w.u8(state)
	w.u8(uint8(math.Round(p.stamina / staminaStep)))
}

func (r *reader) pose(faults Faults) (p pose) {
	p.id = thing(r.u16())
	p.species = species(r.u8())
	x := r.u16()
	p.x = float64(int16(x)) * centimetre
	if faults.Has(NarrowNumbers) {
		p.x = float64(x) * centimetre
	}
	p.y = float64(int16(r.u16())) * centimetre
	if p.species == sheep && faults.Has(SwappedAxes) {
		p.x, p.y = p.y, p.x
	}
	if p.species == bell {
		return p
	}
	p.heading = float64(r.u16()) / headingSteps * 360
	if p.species != dogs {
		return p
	}
	p.speed = float64(r.u8()) * speedStep
	state := r.u8()
	p.gait, p.tired = state&3, state>>4 != 0
	p.stamina = float64(r.u8()) * staminaStep
	if p.gait > 2 {
		r.bad = true
	}
	return p
}

// input packs a frame's input into two bytes.
func (w *writer) input(in Input) {
	w.u8(uint8(int8(math.Round(in.Turn * 127))))
	bits := uint8(math.Round(in.Move*15)) << 2
	if in.Run {
		bits |= 1
	}
	if in.Bark {
		bits |= 2
	}
	w.u8(bits)
}

func (r *reader) input() Input {
	turn, bits := int8(r.u8()), r.u8()
	return Input{Turn: max(-1, float64(turn)/127), Move: min(1, float64(bits>>2)/15), Run: bits&1 != 0, Bark: bits&2 != 0}
}

// asSent is the input as the server will read it. A client predicts with it, so
// that both sides move the dog by the same numbers.
func (in Input) asSent() Input {
	var w writer
	w.input(in)
	r := reader{b: w.b}
	return r.input()
}
