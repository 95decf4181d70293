package trace

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"
)

// maxLine is the longest line a reader takes; a longer one counts as malformed.
const maxLine = 64 << 20

// Reader reads trace lines. Most lines look like the one before them, so a
// scanner made for that shape reads them, and hands anything unusual to a
// strict general parser. Not safe for concurrent use.
//
// Lines that are not JSON objects are log text and are skipped. Malformed lines
// are counted and skipped. A line whose time is before that of an earlier line
// is taken to be of that earlier time. See [Reader.Flaws].
type Reader struct {
	source   io.Reader
	names    *Names
	limit    int // MaxLine
	buffer   []byte
	start    int // of what is not yet read in buffer
	end      int
	line     int
	latest   time.Duration
	ended    bool
	skipping bool // inside a line that is too long
	flaws    Flaws

	lastEntity, lastField int32 // where the guess of the next name starts
}

// Flaws is what was wrong with the lines read so far.
type Flaws struct {
	Lines     int       // usable lines
	LogText   int       // lines that are not JSON objects
	Malformed int       // lines that were skipped
	First     []BadLine // the first few of them
	Torn      bool      // the last line stops in the middle: its writer was cut off
	Backward  int       // lines with a time before an earlier line's
	Furthest  time.Duration
}

// BadLine is a malformed line.
type BadLine struct {
	Line int
	Why  string
}

const badLinesKept = 5

// NewReader returns a reader of lines whose names are added to names.
func NewReader(source io.Reader, names *Names) *Reader {
	return &Reader{source: source, names: names, limit: maxLine}
}

// Parse reads one line that came some other way than from the reader's source. It
// returns an error if the line is malformed; ok is false too if it is log text.
// Times are as the line has them.
func (r *Reader) Parse(line []byte, rec *Record) (ok bool, err error) {
	text := bytes.TrimRight(line, " \r\t")
	if len(text) == 0 || text[0] != '{' {
		return false, nil
	}
	rec.Reset()
	if r.scan(text, rec) {
		return true, r.names.full()
	}
	rec.Reset()
	if err := parseStrict(text, rec, r.names); err != nil {
		return false, err
	}
	return true, r.names.full()
}

// Flaws tells what was wrong with the lines read so far.
func (r *Reader) Flaws() Flaws { return r.flaws }

// Line is the number of the line that Next read last, counted from 1.
func (r *Reader) Line() int { return r.line }

// Next reads the next usable line into rec. It returns io.EOF at the end, a *TooMany
// when more is named than may be, and otherwise only errors of the underlying reader.
func (r *Reader) Next(rec *Record) error {
	for {
		line, whole, err := r.nextLine()
		if err != nil {
			return err
		}
		text := bytes.TrimRight(line, " \r\t")
		if r.line == 1 {
			text = bytes.TrimPrefix(text, []byte("\ufeff"))
		}
		if len(text) == 0 {
			continue
		}
		ok, err := r.Parse(text, rec)
		var tooMany *TooManyError
		switch {
		case errors.As(err, &tooMany):
			return err
		case err != nil && !whole:
			r.flaws.Torn = true
			continue
		case err != nil:
			r.bad(err.Error())
			continue
		case !ok:
			r.flaws.LogText++
			continue
		}
		r.flaws.Lines++
		if r.flaws.Lines > 1 && rec.T < r.latest {
			r.flaws.Backward++
			r.flaws.Furthest = max(r.flaws.Furthest, r.latest-rec.T)
			rec.T = r.latest
		}
		r.latest = rec.T
		return nil
	}
}

func (r *Reader) bad(why string) {
	r.flaws.Malformed++
	if len(r.flaws.First) < badLinesKept {
		r.flaws.First = append(r.flaws.First, BadLine{r.line, why})
	}
}

// nextLine returns the next line without its end; whole is false for a last
// line that has none.
func (r *Reader) nextLine() (line []byte, whole bool, err error) {
	if r.buffer == nil {
		r.buffer = make([]byte, 256<<10)
	}
	searched := r.start
	for {
		if i := bytes.IndexByte(r.buffer[searched:r.end], '\n'); i >= 0 {
			line = r.buffer[r.start : searched+i]
			r.start = searched + i + 1
			r.line++
			if r.skipping || len(line) > r.limit {
				r.skipping = false
				r.bad(fmt.Sprintf("longer than %d bytes", r.limit))
				searched = r.start
				continue
			}
			return line, true, nil
		}
		if r.ended {
			line = r.buffer[r.start:r.end]
			r.start = r.end
			if len(line) == 0 || r.skipping {
				return nil, false, io.EOF
			}
			r.line++
			return line, false, nil
		}
		if r.end-r.start > r.limit {
			r.skipping = true
		}
		if r.skipping {
			r.start = r.end
		}
		copy(r.buffer, r.buffer[r.start:r.end])
		r.start, r.end = 0, r.end-r.start
		if r.end == len(r.buffer) {
			r.buffer = append(r.buffer, make([]byte, len(r.buffer))...)
		}
		searched = r.end
		n, err := r.source.Read(r.buffer[r.end:])
		r.end += n
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, false, err
		}
		r.ended = err != nil
	}
}

// scan reads a line of the usual shape: no escapes in names, no unknown keys,
// nothing nested where it does not belong. It returns false for any other line,
// well-formed or not.
func (r *Reader) scan(line []byte, rec *Record) bool {
	s := scanner{b: line}
	if !s.literal(`{"t":`) {
		return false
	}
	s.space()
	mantissa, decimals, negative, ok := s.decimal()
	if !ok || decimals > 9 || mantissa > math.MaxInt64/uint64(powersOfTen[9-decimals]) {
		return false
	}
	ns := int64(mantissa) * int64(powersOfTen[9-decimals])
	if negative {
		ns = -ns
	}
	rec.T = time.Duration(ns)
	for {
		s.space()
		switch s.next() {
		case '}':
			return s.i == len(line)
		case ',':
		default:
			return false
		}
		s.space()
		switch {
		case s.literal(`"state":`):
			rec.State, ok = r.scanState(&s, rec.State)
		case s.literal(`"tick":`):
			s.space()
			mantissa, decimals, negative, ok = s.decimal()
			if decimals != 0 || negative || mantissa > math.MaxInt64 {
				return false
			}
			rec.Tick, rec.HasTick = int64(mantissa), true
		case s.literal(`"full":`):
			s.space()
			if rec.Full = s.literal(`true`); !rec.Full {
				return false
			}
		case s.literal(`"received":`):
			rec.Received, ok = r.scanState(&s, rec.Received)
		case s.literal(`"predicted":`):
			rec.Predicted, ok = r.scanState(&s, rec.Predicted)
		default:
			return false
		}
		if !ok {
			return false
		}
	}
}

// scanState reads {entity: {field: value}} onto the end of list.
func (r *Reader) scanState(s *scanner, list []Change) ([]Change, bool) {
	s.space()
	if s.next() != '{' {
		return list, false
	}
	s.space()
	if s.peek() == '}' {
		s.i++
		return list, true
	}
	for {
		entity, ok := s.name(&r.names.entities, &r.lastEntity)
		if !ok {
			return list, false
		}
		s.space()
		if s.next() != '{' {
			return list, false
		}
		s.space()
		if s.peek() == '}' {
			s.i++
			list = append(list, Change{Entity: Entity(entity)})
		} else if list, ok = r.scanFields(s, Entity(entity), list); !ok {
			return list, false
		}
		s.space()
		switch s.next() {
		case '}':
			return list, true
		case ',':
			s.space()
		default:
			return list, false
		}
	}
}

func (r *Reader) scanFields(s *scanner, entity Entity, list []Change) ([]Change, bool) {
	for {
		field, ok := s.name(&r.names.fields, &r.lastField)
		if !ok {
			return list, false
		}
		s.space()
		var v Value
		switch c := s.peek(); {
		case c == '-' || c-'0' <= 9:
			start := s.i
			mantissa, decimals, negative, ok := s.decimal()
			if !ok {
				return list, false
			}
			if next := s.peek(); next == 'e' || next == 'E' || mantissa >= 1<<53 || decimals > 22 {
				if v, ok = s.longNumber(start, r.names); !ok {
					return list, false
				}
				break
			}
			f := float64(mantissa)
			if decimals > 0 {
				f /= powersOfTen[decimals] // both exact: the quotient is rightly rounded
			}
			if negative {
				f = -f
			}
			v = Number(f + 0)
		case c == '"':
			end := s.plainString()
			if end < 0 {
				return list, false
			}
			text := s.b[s.i+1 : end]
			s.i = end + 1
			v = textOrNonNumber(r.names, string(text))
		case s.literal("true"):
			v = Bool(true)
		case s.literal("false"):
			v = Bool(false)
		case s.literal("null"):
		default:
			return list, false
		}
		list = append(list, Change{entity, Field(field), v})
		s.space()
		switch s.next() {
		case '}':
			return list, true
		case ',':
			s.space()
		default:
			return list, false
		}
	}
}

var powersOfTen = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11,
	1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// scanner is a cursor in a line.
type scanner struct {
	b []byte
	i int
}

func (s *scanner) peek() byte {
	if s.i < len(s.b) {
		return s.b[s.i]
	}
	return 0
}

func (s *scanner) next() byte {
	c := s.peek()
	s.i++
	return c
}

// space skips the single space that some emitters write; more is unusual.
func (s *scanner) space() {
	if s.i < len(s.b) && s.b[s.i] == ' ' {
		s.i++
	}
}

func (s *scanner) literal(text string) bool {
	if len(s.b)-s.i >= len(text) && string(s.b[s.i:s.i+len(text)]) == text {
		s.i += len(text)
		return true
	}
	return false
}

// decimal reads -?digits(.digits)? with at most 19 digits.
func (s *scanner) decimal() (mantissa uint64, decimals int, negative, ok bool) {
	b, i := s.b, s.i
	if i < len(b) && b[i] == '-' {
		negative = true
		i++
	}
	start := i
	for i < len(b) && b[i]-'0' <= 9 {
		mantissa = mantissa*10 + uint64(b[i]-'0')
		i++
	}
	digits := i - start
	if digits == 0 || digits > 1 && b[start] == '0' {
		return 0, 0, false, false
	}
	if i < len(b) && b[i] == '.' {
		i++
		point := i
		for i < len(b) && b[i]-'0' <= 9 {
			mantissa = mantissa*10 + uint64(b[i]-'0')
			i++
		}
		decimals = i - point
		digits += decimals
		if decimals == 0 {
			return 0, 0, false, false
		}
	}
	s.i = i
	if digits > 19 {
		mantissa = math.MaxUint64 // overflowed: tell the caller that it is long
	}
	return mantissa, decimals, negative, true
}

// longNumber reads the number at start, which has an exponent or many digits.
func (s *scanner) longNumber(start int, names *Names) (Value, bool) {
	end := start
	for end < len(s.b) {
		if c := s.b[end]; c-'0' > 9 && c != '-' && c != '+' && c != '.' && c != 'e' && c != 'E' {
			break
		}
		end++
	}
	s.i = end
	return numberOrText(string(s.b[start:end]), names)
}

// numberOrText turns the digits of a JSON number into a value. A whole number
// that a float64 cannot hold is kept as the text of its digits, so that 64-bit
// identifiers stay what they are.
func numberOrText(digits string, names *Names) (Value, bool) {
	f, err := strconv.ParseFloat(digits, 64)
	if err != nil && !math.IsInf(f, 0) {
		return Value{}, false
	}
	if math.Abs(f) >= 1<<53 {
		if _, err := strconv.ParseInt(digits, 10, 64); err == nil {
			return names.Text(digits), true
		}
		if _, err := strconv.ParseUint(digits, 10, 64); err == nil {
			return names.Text(digits), true
		}
	}
	return Number(f + 0), true
}

// textOrNonNumber turns a string into a value; NaN and the infinities, for which
// JSON has no number, come as strings or bare words.
func textOrNonNumber(names *Names, s string) Value {
	switch s {
	case "NaN":
		return Number(math.NaN())
	case "Infinity":
		return Number(math.Inf(1))
	case "-Infinity":
		return Number(math.Inf(-1))
	}
	return names.Text(s)
}

// plainString returns where the string that starts at the cursor ends, or -1 if
// it has escapes or is unusual in another way.
func (s *scanner) plainString() int {
	if s.peek() != '"' {
		return -1
	}
	for i := s.i + 1; i < len(s.b); i++ {
		switch c := s.b[i]; {
		case c == '"':
			return i
		case c == '\\' || c < 0x20 || c >= 0x80:
			return -1
		}
	}
	return -1
}

// name reads "name": and returns its number, guessing it from the name that
// last followed the previous one.
func (s *scanner) name(t *table, previous *int32) (int32, bool) {
	guess := t.after(*previous)
	text := t.all()[guess]
	if end := s.i + 1 + len(text); end+1 < len(s.b) && s.b[s.i] == '"' && s.b[end] == '"' &&
		s.b[end+1] == ':' && len(text) > 0 && string(s.b[s.i+1:end]) == text {
		s.i = end + 2
		*previous = guess
		return guess, true
	}
	end := s.plainString()
	if end < 0 {
		return 0, false
	}
	n := t.numberAfter(*previous, s.b[s.i+1:end])
	s.i = end + 1
	s.space()
	if s.next() != ':' {
		return 0, false
	}
	*previous = n
	return n, true
}
