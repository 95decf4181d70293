// Package trace reads and writes trace lines: what one view of a match (the
// server, or a bot's client) said, in order, as JSON Lines. docs/trace-lines.md
// specifies them.
//
// It knows nothing of rules or verdicts. Games written in Go do not import it: they copy
// emitters/go.
package trace

import (
	"math"
	"strconv"
	"time"
)

// Kind is the type of a value.
type Kind uint8

const (
	KindNull   Kind = iota // the field is gone
	KindNumber             // a float64
	KindBool
	KindText
)

// Value is one value of a field. The zero value is null.
type Value struct {
	kind Kind
	bits uint64
}

// Number returns a numeric value.
func Number(f float64) Value { return Value{KindNumber, math.Float64bits(f)} }

// Bool returns a boolean value.
func Bool(b bool) Value {
	if b {
		return Value{KindBool, 1}
	}
	return Value{KindBool, 0}
}

func (v Value) Kind() Kind { return v.kind }

// Float returns the number, or NaN if the value is not a number.
func (v Value) Float() float64 {
	if v.kind != KindNumber {
		return math.NaN()
	}
	return math.Float64frombits(v.bits)
}

// Code is a number that tells values of the same kind apart.
func (v Value) Code() uint64 { return v.bits }

// Restore returns the value of that kind that has that code.
func Restore(kind Kind, code uint64) Value { return Value{kind, code} }

// IsTrue reports whether the value is the boolean true.
func (v Value) IsTrue() bool { return v.kind == KindBool && v.bits == 1 }

// Format writes a value the way people read it.
func (n *Names) Format(v Value) string {
	switch v.kind {
	case KindNumber:
		return strconv.FormatFloat(v.Float(), 'f', -1, 64)
	case KindBool:
		return strconv.FormatBool(v.bits == 1)
	case KindText:
		return strconv.Quote(n.TextOf(v))
	}
	return "null"
}

// Change says that a field of an entity has a value from now on.
type Change struct {
	Entity Entity
	Field  Field
	Value  Value
}

// Record is one trace line. The keys of a line that are absent leave their
// fields at the zero value.
type Record struct {
	T         time.Duration // on the view's own monotonic clock
	Said      time.Duration // likewise, where T was brought onto another clock; else 0
	Tick      int64         // simulation tick; meaningful if HasTick
	HasTick   bool
	Full      bool     // State is the complete state: entities not named in it are gone
	State     []Change // what changed
	Received  []Change // what last came from the server
	Predicted []Change // what the client predicted before smoothing
	Despawned []Entity

	Event      string // name of a one-off
	ID         string // of the event or mark
	Entity     string // that the event, mark or membership concerns
	By, To     string
	Data       string // the event's data as compact JSON
	Input      string // what the bot did
	Seq        uint64 // number of the input
	Checkpoint string // a checkpoint the code passed
	Ping       time.Duration
	ServerTime time.Duration // this view's estimate of the server's clock
	HasPing    bool
	Joined     string // membership as this view believes it: a player's name
	Left       string
	Refused    string
	Sent, Got  string // a packet that was handed to the network, or taken in: the game's own number or hash of it
	Bytes      int64  // how large it is; 0 where that is not said
	View       string // whose line it is, where one program speaks for several views
}

// SetInput begins an input that tells of a value which a player set behind the game's back, like
// "set place", with {"to":[3,4]} as its data where it went to a place.
const SetInput = "set "

// Checkpoints that whoever plays a match puts into a view's trace: the view did not tell them itself.
const (
	AskMark  = "asks to join"      // its client was asked to
	LoadMark = "load"              // what its process uses of the machine
	EndMark  = "its program ended" // while its player was in the match; ID says how
)

// Told reports whether a view told its record itself: what whoever plays the match puts into its trace is its bot's
// inputs, what its process uses, that it was asked to join, and that its program ended.
func (r *Record) Told() bool {
	return r.Pictures() || r.Joined != "" || r.Left != "" || r.Refused != "" || r.Event != "" || r.HasPing || r.Sent != "" || r.Got != "" ||
		r.HasTick || len(r.Received) > 0 || len(r.Predicted) > 0 || r.OwnCheckpoint() != ""
}

// OwnCheckpoint is the checkpoint that a view told itself, or "".
func (r *Record) OwnCheckpoint() string {
	if r.Checkpoint == AskMark || r.Checkpoint == LoadMark || r.Checkpoint == EndMark {
		return ""
	}
	return r.Checkpoint
}

// Leaves reports whether a view is out of the match from this record of its own on: it says that it left, or its
// program ended.
func (r *Record) Leaves(view string) bool { return r.Left == view || r.Checkpoint == EndMark }

// Pictures reports whether a record says what is there.
func (r *Record) Pictures() bool { return len(r.State) > 0 || r.Full || len(r.Despawned) > 0 }

// EndsTick reports whether a record says that a tick is over, with or without a change, and not that
// something happened in it.
func (r *Record) EndsTick() bool {
	return r.HasTick && (r.Pictures() || r.Event == "" && r.Joined == "" && r.Left == "" && r.Refused == "" && r.Sent == "" && r.Got == "")
}

// Reset clears a record for reuse and keeps the memory of its lists.
func (r *Record) Reset() {
	*r = Record{State: r.State[:0], Received: r.Received[:0], Predicted: r.Predicted[:0], Despawned: r.Despawned[:0]}
}

// CopyFrom makes r an independent copy of other, reusing the memory of r.
func (r *Record) CopyFrom(other *Record) {
	state, received, predicted, gone := r.State, r.Received, r.Predicted, r.Despawned
	*r = *other
	r.State = append(state[:0], other.State...)
	r.Received = append(received[:0], other.Received...)
	r.Predicted = append(predicted[:0], other.Predicted...)
	r.Despawned = append(gone[:0], other.Despawned...)
}

// Round makes every number of the record, and its time, one that a written
// trace can hold, with three digits after the point and six for times, so that
// what is judged live is exactly what is read back later.
func (r *Record) Round() {
	r.T = r.T.Round(time.Microsecond)
	r.Ping = r.Ping.Round(time.Microsecond)
	r.ServerTime = r.ServerTime.Round(time.Microsecond)
	for _, list := range [...][]Change{r.State, r.Received, r.Predicted} {
		for i := range list {
			if v := &list[i].Value; v.kind == KindNumber {
				v.bits = math.Float64bits(roundNumber(math.Float64frombits(v.bits)))
			}
		}
	}
}

const numberScale = 1e3 // 10^Decimals

func roundNumber(f float64) float64 {
	scaled := f * numberScale
	if !(math.Abs(scaled) < 1<<52) {
		return f
	}
	// Both operands are exact, so this is the float64 nearest to the decimal
	// number, the same one that a reader gets from its digits. Adding zero
	// turns a negative zero into a plain one.
	return math.RoundToEven(scaled)/numberScale + 0
}
