package hillfold

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/trace"
)

// thing numbers an entity on the wire. Numbers are never used again.
type thing uint16

// species is the kind of an entity.
type species uint8

const (
	dogs species = iota
	sheep
	bell
	round
	gate
	mill
	stones
)

var speciesNames = [...]string{"dog", "sheep", "bell", "round", "gate", "mill", "stones"}

func (s species) String() string { return speciesNames[s] }

// global reports whether everyone knows of it, however far away.
func (s species) global() bool { return s == bell || s == round || s == mill || s == stones }

// teller turns what a machine believes into trace records: only what changed
// since it last spoke, and a whole picture about once a second.
type teller struct {
	say     func(*trace.Record)
	names   *trace.Names
	fields  [fieldCount]trace.Field
	gaits   [3]trace.Value
	record  trace.Record
	nextAll time.Duration
	gone    []trace.Entity
	traffic []traffic
}

// traffic is what was sent of one kind since it was last told.
type traffic struct {
	kind           string
	packets, bytes int
}

// sent counts what goes out, to be told once a second.
func (t *teller) sent(kind string, bytes int) {
	for i := range t.traffic {
		if s := &t.traffic[i]; s.kind == kind {
			s.packets, s.bytes = s.packets+1, s.bytes+bytes
			return
		}
	}
	t.traffic = append(t.traffic, traffic{kind, 1, bytes})
}

func (t *teller) tellTraffic(now time.Duration) {
	for _, s := range t.traffic {
		t.happened(now, func(r *trace.Record) {
			r.Checkpoint, r.ID, r.Data = "sent", s.kind, fmt.Sprintf(`{"packets":%d,"bytes":%d}`, s.packets, s.bytes)
		})
	}
	t.traffic = t.traffic[:0]
}

// The fields of all species.
const (
	fieldX = iota
	fieldY
	fieldHeading
	fieldSpeed
	fieldGait
	fieldStamina
	fieldScore
	fieldWearer
	fieldPhase
	fieldPenned
	fieldPlayer
	fieldOpen
	fieldAngle
	fieldCells
	fieldWinner
	fieldCount
)

var fieldNames = [fieldCount]string{"x", "y", "heading", "speed", "gait", "stamina", "score", "wearer", "phase", "penned",
	"player", "open", "angle", "cells", "winner"}

func newTeller(names *trace.Names, say func(*trace.Record)) teller {
	t := teller{say: say, names: names}
	for i, name := range fieldNames {
		t.fields[i] = names.Field(name)
	}
	for i, gait := range gaits {
		t.gaits[i] = names.Text(gait)
	}
	return t
}

var gaits = [3]string{"stand", "trot", "run"}

// told is what was last said of an entity.
type told struct {
	entity trace.Entity
	values [fieldCount]trace.Value
}

// begin starts a picture and reports whether it is to be a whole one.
func (t *teller) begin(now time.Duration) {
	whole := now >= t.nextAll
	if whole {
		t.tellTraffic(now)
	}
	t.record.Reset()
	t.record.T = now
	if whole {
		t.record.Full = true
		t.nextAll = now + time.Second
	}
}

// tell adds a field to the picture if it is news.
func (t *teller) tell(of *told, field int, v trace.Value) {
	if of.values[field] != v || t.record.Full {
		of.values[field] = v
		t.record.State = append(t.record.State, trace.Change{Entity: of.entity, Field: t.fields[field], Value: v})
	}
}

func (t *teller) number(of *told, field int, v float64) { t.tell(of, field, trace.Number(v)) }
func (t *teller) flag(of *told, field int, b bool)      { t.tell(of, field, trace.Bool(b)) }

func (t *teller) text(of *told, field int, s string) {
	v := of.values[field]
	if v.Kind() != trace.KindText || t.names.TextOf(v) != s { // which is seldom, and needs no looking up
		v = t.names.Text(s)
	}
	t.tell(of, field, v)
}

// end says the picture, if there is anything to say.
func (t *teller) end() {
	// What left and came again under the same name was gone in between.
	for _, e := range t.gone {
		if slices.ContainsFunc(t.record.State, func(c trace.Change) bool { return c.Entity == e }) {
			t.say(&trace.Record{T: t.record.T, Despawned: t.gone})
			t.gone = t.gone[:0]
			break
		}
	}
	if !t.record.Full {
		t.record.Despawned = append(t.record.Despawned, t.gone...)
	}
	t.gone = t.gone[:0]
	if t.record.Full || len(t.record.State) > 0 || len(t.record.Despawned) > 0 {
		t.say(&t.record)
	}
}

// happened says a single thing between pictures.
func (t *teller) happened(now time.Duration, fill func(*trace.Record)) {
	var r trace.Record
	r.T = now
	fill(&r)
	t.say(&r)
}
