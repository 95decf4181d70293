// Package zwtrace writes trace lines for zwheel: one file without dependencies,
// to be copied into a game. Say everything that a view believes each time; the
// lines have only what has changed, and a full snapshot about once a second.
//
//	trace := zwtrace.New(os.Stdout)
//	trace.Joined(t, "fern", "dog/fern")
//	trace.Begin(t, tick)                 // tick -1: the game has none
//	trace.Number("dog/fern", "x", x)     // the fields of an entity in a row
//	trace.Text("dog/fern", "gait", "run")
//	trace.Flag("dog/fern", "tired", false)
//	trace.Predicted()                    // optional: what follows is what the client predicts,
//	trace.Number("dog/fern", "x", p)     // or after Received what last came for it
//	trace.End()                          // what was not named is despawned
//
// Times are seconds on any clock that does not run backwards. Not safe for
// concurrent use.
package zwtrace

import (
	"fmt"
	"io"
	"math"
	"strings"
)

// Trace writes the trace lines of one view.
type Trace struct {
	out     io.Writer
	t       float64
	tick    int64
	now     []thing                      // what was said since Begin
	beside  [2][]thing                   // likewise, of what was received and predicted
	told    [2]string                    // these, as they were written last
	part    int                          // what is said now: the state, or beside[part-1]
	before  map[string]map[string]string // what was said last
	names   []string                     // of before, in order
	full    float64                      // when a full snapshot is due
	started bool
}

type thing struct {
	entity string
	fields [][2]string // name and value as it is written
}

// New returns a trace that is written to out, one write a line.
func New(out io.Writer) *Trace {
	return &Trace{out: out, tick: -1, before: map[string]map[string]string{}}
}

// Begin begins a snapshot of the world at a time.
func (tr *Trace) Begin(t float64, tick int64) {
	tr.t, tr.tick, tr.now, tr.part = t, tick, tr.now[:0], 0
	tr.beside[0], tr.beside[1] = nil, nil
}

// At says of which tick the events, joins and leaves are that follow, up to the next
// snapshot, which says its own; -1: of none.
func (tr *Trace) At(tick int64) { tr.tick = tick }

// Received says that what is said from here to the end of the snapshot is what last came
// for it.
func (tr *Trace) Received() { tr.part = 1 }

// Predicted says that what is said from here to the end of the snapshot is what the client
// predicts.
func (tr *Trace) Predicted() { tr.part = 2 }

// Number says a field that is a number.
func (tr *Trace) Number(entity, field string, v float64) { tr.say(entity, field, number(v)) }

// Flag says a field that is true or false.
func (tr *Trace) Flag(entity, field string, v bool) { tr.say(entity, field, fmt.Sprint(v)) }

// Text says a field that is text.
func (tr *Trace) Text(entity, field, v string) { tr.say(entity, field, quote(v)) }

func (tr *Trace) say(entity, field, value string) {
	things := &tr.now
	if tr.part > 0 {
		things = &tr.beside[tr.part-1]
	}
	if n := len(*things); n == 0 || (*things)[n-1].entity != entity {
		*things = append(*things, thing{entity: entity})
	}
	last := &(*things)[len(*things)-1]
	last.fields = append(last.fields, [2]string{field, value})
}

// End writes the snapshot: what has changed in it, and its tick if it has one.
func (tr *Trace) End() {
	full := !tr.started || tr.t >= tr.full
	var state, despawned []string
	there := map[string]bool{}
	for _, e := range tr.now {
		there[e.entity] = true
		known := tr.before[e.entity]
		if known == nil {
			known = map[string]string{}
			tr.before[e.entity] = known
			tr.names = append(tr.names, e.entity)
		}
		var fields []string
		for _, f := range e.fields {
			if full || known[f[0]] != f[1] {
				fields = append(fields, quote(f[0])+":"+f[1])
			}
			known[f[0]] = f[1]
		}
		if len(fields) > 0 {
			state = append(state, quote(e.entity)+":{"+strings.Join(fields, ",")+"}")
		}
	}
	kept := tr.names[:0]
	for _, name := range tr.names {
		if there[name] {
			kept = append(kept, name)
			continue
		}
		despawned = append(despawned, quote(name))
		delete(tr.before, name)
	}
	tr.names = kept
	beside := ""
	for i, part := range [...]string{"received", "predicted"} {
		var things []string
		for _, e := range tr.beside[i] {
			var fields []string
			for _, f := range e.fields {
				fields = append(fields, quote(f[0])+":"+f[1])
			}
			things = append(things, quote(e.entity)+":{"+strings.Join(fields, ",")+"}")
		}
		text := strings.Join(things, ",")
		if text != "" && (full || text != tr.told[i]) {
			beside += `,"` + part + `":{` + text + "}"
		}
		tr.told[i] = text
	}
	if tr.tick < 0 && !full && len(state) == 0 && beside == "" && len(despawned) == 0 {
		return
	}
	line := tr.ticked()
	if full {
		tr.started, tr.full = true, tr.t+1
		line += `,"full":true`
	}
	if full || len(state) > 0 {
		line += `,"state":{` + strings.Join(state, ",") + "}"
	}
	line += beside
	if !full && len(despawned) > 0 {
		line += `,"despawned":[` + strings.Join(despawned, ",") + "]"
	}
	tr.line(tr.t, line)
}

// Event says a one-off, with data that is JSON text. What is "" is left out.
func (tr *Trace) Event(t float64, name, id, entity, by, to, data string) {
	tr.line(t, tr.ticked()+key("event", name)+key("id", id)+key("entity", entity)+key("by", by)+key("to", to)+json(data))
}

// Input says what the player does from now on.
func (tr *Trace) Input(t float64, what string, seq int64) {
	tr.line(t, key("input", what)+fmt.Sprintf(`,"seq":%d`, seq))
}

// Checkpoint says that the code has passed a checkpoint. What is "" is left out.
func (tr *Trace) Checkpoint(t float64, name, id, entity, by, data string) {
	tr.line(t, key("checkpoint", name)+key("id", id)+key("entity", entity)+key("by", by)+json(data))
}

// Sent says that a packet was handed to the network: its number, or a hash of it; to whom, where a
// server says it; what is in it, as JSON; and how many bytes it has. What is "" or 0 is left out.
func (tr *Trace) Sent(t float64, packet, to, data string, size int) {
	bytes := ""
	if size > 0 {
		bytes = fmt.Sprintf(`,"bytes":%d`, size)
	}
	tr.line(t, key("sent", packet)+key("to", to)+json(data)+bytes)
}

// Got says that a packet was taken in, and from whom, where a server says it.
func (tr *Trace) Got(t float64, packet, by string) {
	tr.line(t, key("got", packet)+key("by", by))
}

// Clock says a clock exchange: the round trip, and what the server's clock showed
// when it answered, in seconds.
func (tr *Trace) Clock(t, ping, serverT float64) {
	tr.line(t, fmt.Sprintf(`,"ping":%.6f,"server_t":%.6f`, ping, serverT))
}

// Joined says that a player is in, and which entity is theirs.
func (tr *Trace) Joined(t float64, name, entity string) {
	tr.line(t, tr.ticked()+key("joined", name)+key("entity", entity))
}

// Left says that a player has left.
func (tr *Trace) Left(t float64, name string) { tr.line(t, tr.ticked()+key("left", name)) }

// Refused says that a player was not let in.
func (tr *Trace) Refused(t float64, name string) { tr.line(t, tr.ticked()+key("refused", name)) }

func (tr *Trace) ticked() string {
	if tr.tick < 0 {
		return ""
	}
	return fmt.Sprintf(`,"tick":%d`, tr.tick)
}

func (tr *Trace) line(t float64, rest string) {
	fmt.Fprintf(tr.out, "{\"t\":%.6f%s}\n", t, rest) // a trace that cannot be written must not stop the game
}

func key(name, value string) string {
	if value == "" {
		return ""
	}
	return `,"` + name + `":` + quote(value)
}

func json(data string) string {
	if data == "" {
		return ""
	}
	return `,"data":` + data
}

func number(v float64) string {
	switch {
	case math.IsNaN(v):
		return `"NaN"`
	case math.IsInf(v, 1):
		return `"Infinity"`
	case math.IsInf(v, -1):
		return `"-Infinity"`
	}
	return fmt.Sprintf("%.3f", v)
}

func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c < 0x20:
			fmt.Fprintf(&b, `\u%04x`, c)
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}
