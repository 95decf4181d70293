package trace

import (
	"encoding/json"
	"io"
	"math"
	"strconv"
	"time"
	"unicode/utf8"
)

// Writer writes trace lines. Lines collect in a buffer; see [Writer.Flush].
// Not safe for concurrent use.
type Writer struct {
	w      io.Writer
	names  *Names
	buffer []byte
	err    error
}

const writerBuffer = 128 << 10

// NewWriter returns a writer of records whose names come from names.
func NewWriter(w io.Writer, names *Names) *Writer {
	return &Writer{w: w, names: names, buffer: make([]byte, 0, writerBuffer)}
}

// Write appends one line. Numbers are written with [Decimals] decimals; see
// [Record.Round]. An error of the underlying writer is returned by this call or
// a later one, and sticks.
func (w *Writer) Write(r *Record) error {
	w.buffer = appendRecord(w.buffer, r, w.names)
	if len(w.buffer) > writerBuffer-writerBuffer/4 {
		return w.Flush()
	}
	return w.err
}

// Flush hands everything written so far to the underlying writer.
func (w *Writer) Flush() error {
	if w.err == nil && len(w.buffer) > 0 {
		_, w.err = w.w.Write(w.buffer)
	}
	w.buffer = w.buffer[:0]
	return w.err
}

func appendRecord(b []byte, r *Record, names *Names) []byte {
	b = append(b, `{"t":`...)
	b = AppendSeconds(b, r.T)
	if r.HasTick {
		b = append(b, `,"tick":`...)
		b = strconv.AppendInt(b, r.Tick, 10)
	}
	if r.Full {
		b = append(b, `,"full":true`...)
	}
	if len(r.State) > 0 || r.Full {
		b = appendState(append(b, `,"state":{`...), r.State, names)
	}
	if len(r.Received) > 0 {
		b = appendState(append(b, `,"received":{`...), r.Received, names)
	}
	if len(r.Predicted) > 0 {
		b = appendState(append(b, `,"predicted":{`...), r.Predicted, names)
	}
	if len(r.Despawned) > 0 {
		b = append(b, `,"despawned":[`...)
		for i, e := range r.Despawned {
			if i > 0 {
				b = append(b, ',')
			}
			b = AppendString(b, names.EntityID(e))
		}
		b = append(b, ']')
	}
	for _, key := range [...]struct{ name, text string }{
		{`,"event":`, r.Event}, {`,"id":`, r.ID}, {`,"entity":`, r.Entity}, {`,"by":`, r.By}, {`,"to":`, r.To},
		{`,"input":`, r.Input}, {`,"checkpoint":`, r.Checkpoint}, {`,"joined":`, r.Joined}, {`,"left":`, r.Left}, {`,"refused":`, r.Refused},
		{`,"sent":`, r.Sent}, {`,"got":`, r.Got},
	} {
		if key.text != "" {
			b = AppendString(append(b, key.name...), key.text)
		}
	}
	if r.Data != "" {
		b = append(append(b, `,"data":`...), r.Data...)
	}
	if r.Bytes != 0 {
		b = strconv.AppendInt(append(b, `,"bytes":`...), r.Bytes, 10)
	}
	if r.Seq != 0 {
		b = strconv.AppendUint(append(b, `,"seq":`...), r.Seq, 10)
	}
	if r.HasPing {
		b = AppendSeconds(append(b, `,"ping":`...), r.Ping)
		b = AppendSeconds(append(b, `,"server_t":`...), r.ServerTime)
	}
	return append(b, '}', '\n')
}

// appendState writes changes, those of one entity in a row under one name, and
// the brace that closes the object.
func appendState(b []byte, changes []Change, names *Names) []byte {
	for i := 0; i < len(changes); {
		if i > 0 {
			b = append(b, ',')
		}
		entity := changes[i].Entity
		b = AppendString(b, names.EntityID(entity))
		b = append(b, ':', '{')
		first := true
		for ; i < len(changes) && changes[i].Entity == entity; i++ {
			c := &changes[i]
			if c.Field == Exists {
				continue
			}
			if !first {
				b = append(b, ',')
			}
			first = false
			b = AppendString(b, names.FieldName(c.Field))
			b = append(b, ':')
			switch c.Value.kind {
			case KindNumber:
				b = appendNumber(b, math.Float64frombits(c.Value.bits))
			case KindBool:
				b = strconv.AppendBool(b, c.Value.bits == 1)
			case KindText:
				b = AppendString(b, names.TextOf(c.Value))
			default:
				b = append(b, "null"...)
			}
		}
		b = append(b, '}')
	}
	return append(b, '}')
}

// appendNumber writes a number with a fixed number of decimals, or none if it
// is whole. Numbers too large for that keep all the digits they need, and what
// JSON has no number for is written as the text the reader knows it by.
func appendNumber(b []byte, f float64) []byte {
	scaled := f * numberScale
	if !(math.Abs(scaled) < 1<<52) {
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return AppendString(b, textOfNonNumber(f))
		}
		return strconv.AppendFloat(b, f, 'g', -1, 64)
	}
	n := int64(math.RoundToEven(scaled))
	if n < 0 {
		b = append(b, '-')
		n = -n
	}
	whole, rest := uint64(n)/1e3, uint64(n)%1e3
	b = appendUint(b, whole)
	if rest != 0 {
		b = append(b, '.', byte('0'+rest/100), byte('0'+rest/10%10), byte('0'+rest%10))
	}
	return b
}

func appendUint(b []byte, n uint64) []byte {
	switch {
	case n < 10:
		return append(b, byte('0'+n))
	case n < 100:
		return append(b, byte('0'+n/10), byte('0'+n%10))
	case n < 1000:
		return append(b, byte('0'+n/100), byte('0'+n/10%10), byte('0'+n%10))
	}
	return strconv.AppendUint(b, n, 10)
}

// AppendSeconds writes a time in seconds with six decimals.
func AppendSeconds(b []byte, d time.Duration) []byte {
	us := d.Round(time.Microsecond).Microseconds()
	if us < 0 {
		b = append(b, '-')
		us = -us
	}
	b = appendUint(b, uint64(us)/1e6)
	b = append(b, '.')
	rest := uint64(us) % 1e6
	high, low := rest/1e3, rest%1e3
	return append(b, byte('0'+high/100), byte('0'+high/10%10), byte('0'+high%10),
		byte('0'+low/100), byte('0'+low/10%10), byte('0'+low%10))
}

// AppendString writes s as a JSON string.
func AppendString(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			quoted, err := json.Marshal(s)
			if err != nil { // a string always marshals
				panic(err)
			}
			return append(b, quoted...)
		}
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}

// textOfNonNumber names what JSON has no number for.
func textOfNonNumber(f float64) string {
	switch {
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	}
	return "NaN"
}
