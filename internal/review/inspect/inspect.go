// Package inspect looks into a run folder at one moment: how one entity stood then,
// as the server and each client believed it, side by side. It reads no more of the
// traces than it needs.
//
// It knows run folders and watch rules, and nothing of how they are shown.
package inspect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Sheet is one entity at one moment, a row for each field and a column for each view.
type Sheet struct {
	Entity string        `json:"entity"`
	At     judge.Seconds `json:"t_s"`
	Tick   *int64        `json:"tick,omitempty"` // instead of a moment
	Views  []string      `json:"views"`

	Reference string   `json:"reference"` // the view that the others are held against, or "none": then each is held against most of them
	Left      []string `json:"left"`      // views that had left the match by then, and are not judged
	Silent    []string `json:"silent"`    // views that had told nothing lately: not in yet, say; likewise
	Rows      []Row    `json:"fields"`
}

// Row is one field.
type Row struct {
	Field string `json:"field"`
	Of    string `json:"of,omitempty"` // Received or Predicted, of what is not shown and not judged
	Cells []Cell `json:"cells"`        // by view
}

// What a row is of, beside what is shown.
const (
	Received  = "received"  // what had come from the server last
	Predicted = "predicted" // what the view predicted before smoothing
)

// Cell is what one view believed of one field.
type Cell struct {
	Value string         `json:"value"`             // "-" if the view does not have it
	Since *judge.Seconds `json:"since_s,omitempty"` // from when on; absent if that was longer ago than was looked back
	Mark  judge.Stands   `json:"mark"`              // how it stands to the reference's by the rule that judges it, like in the verdict
	Age   *judge.Seconds `json:"age_s,omitempty"`   // how old the reference's value is that explains it, or how far ahead of the reference it is
	Gap   *float64       `json:"gap,omitempty"`     // how far it was from all that could explain it
	value trace.Value
	known bool
}

// theOne is the mark of the reference's own.
const theOne judge.Stands = "reference"

// LookBack is how far before a moment the traces are read at least: far enough for a whole
// snapshot, and for what a view may show late.
const LookBack = 5 * time.Second

// Window is what was said of one entity in a stretch of time, by all views.
type Window struct {
	From, Until time.Duration
	began       time.Duration // what was read begins there
	views       []string
	reference   int // the view's number; -1 if there is none
	rules       rulebook.Rules
	outcomes    bool
	entity      string
	names       *trace.Names
	said        [][]said       // by view, in order of time
	stays       [][]judge.Stay // by view
	fields      []trace.Field
	heard       []heard // what there is to judge by, in order of time
}

// said is a value that a view gave a field; of Exists it is whether the entity is
// there.
type said struct {
	t     time.Duration
	field trace.Field
	value trace.Value
	of    string // "" for what is shown
}

// heard is a record of a view, or a packet on its link.
type heard struct {
	at     time.Duration
	view   int
	record *trace.Record // nil of a packet
	packet link.Packet
}

// Open reads what was said of an entity from LookBack before from until until, and what is needed
// to say how that stood by the rules and the verdict of the run.
func Open(ctx context.Context, run *run.Run, rules rulebook.Rules, verdict *judge.Verdict, entity string, from, until time.Duration) (*Window, error) {
	for back := LookBack; ; back *= 4 {
		w := newWindow(run, rules, verdict, entity, from, until)
		w.began = from - back
		if err := w.read(ctx, run, verdict); err != nil {
			return nil, err
		}
		// Who tells only what changes may have spoken of it long ago.
		if w.began > 0 && !w.reaches() {
			continue
		}
		if w.fields == nil {
			return nil, fmt.Errorf("no view says anything of %s around %.3f s", entity, from.Seconds())
		}
		return w, nil
	}
}

func newWindow(run *run.Run, rules rulebook.Rules, verdict *judge.Verdict, entity string, from, until time.Duration) *Window {
	w := &Window{From: from, Until: until, entity: entity, views: run.About.Views, names: trace.AnyNames(),
		reference: slices.Index(run.About.Views, verdict.Reference), rules: rulebook.Rules{Fields: rules.Fields, News: rules.News},
		said: make([][]said, len(run.About.Views)), stays: make([][]judge.Stay, len(run.About.Views))}
	for _, r := range verdict.Views {
		if i := slices.Index(w.views, r.Name); i >= 0 {
			w.stays[i] = r.Stays
		}
	}
	return w
}

// reaches reports whether every view that was in at From had said something of the entity.
func (w *Window) reaches() bool {
	for view, list := range w.said {
		if (view == w.reference || w.in(view, w.From)) && (len(list) == 0 || list[0].t > w.From) {
			return false
		}
	}
	return true
}

// in reports whether a view was in the match then.
func (w *Window) in(view int, t time.Duration) bool {
	return slices.ContainsFunc(w.stays[view], func(s judge.Stay) bool { return time.Duration(s.From) <= t && t < time.Duration(s.Until) })
}

// read reads what the views said from began on.
func (w *Window) read(ctx context.Context, run *run.Run, verdict *judge.Verdict) error {
	until := w.Until + w.bench().Behind()
	wanted := []trace.Entity{w.names.Entity(w.entity)} // and, for what is seen from near, whoever looks
	for view, stays := range w.stays {
		for _, s := range stays {
			wanted = append(wanted, w.names.Entity(s.Entity))
			if at := time.Duration(s.From); at < w.began && time.Duration(s.Until) > w.began {
				w.heard = append(w.heard, heard{at: at, view: view, record: &trace.Record{T: at, Joined: w.views[view], Entity: s.Entity}})
			}
		}
	}
	var paths []string
	for _, view := range w.views {
		paths = append(paths, run.ViewPath(view))
	}
	clock := func(view int, t time.Duration) time.Duration {
		if fit, ok := verdict.Clocks[w.views[view]]; ok {
			return fit.Shared(t)
		}
		return t
	}
	all, err := gather(ctx, paths, func(view int) (time.Duration, time.Duration) { // in the view's own time
		return w.began - (clock(view, w.began) - w.began), until - (clock(view, until) - until)
	})
	if err != nil {
		return err
	}
	for view := range w.views {
		last := time.Duration(math.MinInt64)
		all[view].each(w.names, func(r *trace.Record) {
			last = max(last, clock(view, r.T))
			w.take(view, last, r, wanted)
		})
	}
	if len(verdict.Clocks) == 0 {
		if err := w.readPackets(ctx, run.PacketsPath(), until); err != nil {
			return err
		}
	}
	slices.SortStableFunc(w.heard, func(a, b heard) int { return cmp.Compare(a.at, b.at) })
	return nil
}

// take keeps what a record says of the entity, and of those who look at it.
func (w *Window) take(view int, t time.Duration, r *trace.Record, wanted []trace.Entity) {
	entity := wanted[0]
	own := &trace.Record{T: t, Full: r.Full}
	switch name := w.views[view]; { // of others' joining there is nothing to say here
	case r.Joined == name:
		own.Joined, own.Entity = r.Joined, r.Entity
	case r.Leaves(name):
		own.Left, own.Checkpoint = r.Left, r.Checkpoint
	}
	there := false
	for _, c := range r.State {
		if slices.Contains(wanted, c.Entity) {
			own.State = append(own.State, c)
		}
		if c.Entity != entity {
			continue
		}
		there = true
		if c.Field != trace.Exists {
			w.said[view] = append(w.said[view], said{t, c.Field, c.Value, ""})
			if !slices.Contains(w.fields, c.Field) {
				w.fields = append(w.fields, c.Field)
			}
		}
	}
	for of, list := range map[string][]trace.Change{Received: r.Received, Predicted: r.Predicted} {
		for _, c := range list {
			if c.Entity == entity {
				w.said[view] = append(w.said[view], said{t, c.Field, c.Value, of})
			}
		}
	}
	if there {
		w.said[view] = append(w.said[view], said{t, trace.Exists, trace.Bool(true), ""})
	} else if r.Full || slices.Contains(r.Despawned, entity) {
		w.said[view] = append(w.said[view], said{t, trace.Exists, trace.Bool(false), ""})
	}
	for _, e := range r.Despawned {
		if slices.Contains(wanted, e) {
			own.Despawned = append(own.Despawned, e)
		}
	}
	if len(r.State)+len(r.Despawned) > 0 || r.Full || own.Joined != "" || own.Left != "" || own.Checkpoint != "" {
		w.heard = append(w.heard, heard{at: t, view: view, record: own})
	}
}

// readPackets reads what the links did, if that is known.
func (w *Window) readPackets(ctx context.Context, path string, until time.Duration) error {
	file, err := trace.OpenFrom(path, w.began, run.SentAt)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer file.Close()
	w.outcomes = true
	reader := run.NewPacketReader(file)
	reader.From = w.began
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		name, p, err := reader.Next()
		if err != nil || p.Sent > until { // at the end, or where a file breaks off: what could be read was
			return nil
		}
		if view := slices.Index(w.views, name); view > 0 {
			w.heard = append(w.heard, heard{at: p.Sent, view: view, packet: p})
		}
	}
}

// bench is a judge of the window.
func (w *Window) bench() *feed.Bench {
	reference := rulebook.NoReference
	if w.reference >= 0 {
		reference = w.views[w.reference]
	}
	return feed.NewBench(w.names, w.views, w.rules, feed.Setting{Reference: reference, Outcomes: w.outcomes})
}

// At is how the entity stood at a moment of the window.
func (w *Window) At(t time.Duration) Sheet {
	bench := w.bench()
	for _, h := range w.heard {
		if h.at > t+bench.Behind() {
			break
		}
		if h.record != nil {
			bench.Record(h.view, h.record)
		} else {
			bench.Packet(h.view, h.packet)
		}
	}
	// A moment after it, so that what ends or begins then has.
	return w.sheet(t, func(view int) []judge.Sight {
		return bench.Sights(view, w.names.Entity(w.entity), t+time.Microsecond)
	})
}

// sheet lays out what the views had, with how that stood.
func (w *Window) sheet(t time.Duration, sights func(view int) []judge.Sight) Sheet {
	s := Sheet{Entity: w.entity, At: judge.Seconds(t), Views: w.views, Left: []string{}, Silent: []string{}, Reference: rulebook.NoReference}
	if w.reference >= 0 {
		s.Reference = w.views[w.reference]
	}
	stands := make([][]judge.Sight, len(w.views))
	for view, name := range w.views {
		if view == w.reference {
			continue
		}
		stands[view] = sights(view)
		switch {
		case w.in(view, t):
		case len(w.stays[view]) > 0 && time.Duration(w.stays[view][0].From) < t:
			s.Left = append(s.Left, name)
		default:
			s.Silent = append(s.Silent, name)
		}
	}
	for _, field := range append([]trace.Field{trace.Exists}, w.fields...) {
		row := Row{Field: w.names.FieldName(field)}
		if field == trace.Exists {
			row.Field = rulebook.Existence
		}
		for view := range w.views {
			c := w.cell(view, field, "", t)
			if c.Mark = judge.Unjudged; view == w.reference {
				c.Mark = theOne
			}
			for _, sight := range stands[view] {
				if slices.Contains(sight.Rule.Fields, row.Field) {
					c.stand(sight)
				}
			}
			row.Cells = append(row.Cells, c)
		}
		s.Rows = append(s.Rows, row)
		for _, of := range []string{Received, Predicted} {
			if more, some := w.beneath(field, of, t); some {
				s.Rows = append(s.Rows, more)
			}
		}
	}
	if w.reference >= 0 {
		for view, list := range stands {
			for _, sight := range list {
				s.acquit(view, w.reference, sight)
			}
		}
	}
	return s
}

// beneath is a row of what the views had of a field beneath what they show; some is false if none
// tells it.
func (w *Window) beneath(field trace.Field, of string, t time.Duration) (row Row, some bool) {
	row = Row{Field: w.names.FieldName(field), Of: of}
	for view := range w.views {
		c := w.cell(view, field, of, t)
		c.Mark = judge.Unjudged
		some = some || c.known
		row.Cells = append(row.Cells, c)
	}
	return row, some
}

// acquit marks those of several fields that are compared together which agree with what the
// reference has, where others do not: of a place, say, the coordinate that is right.
func (s *Sheet) acquit(view, reference int, sight judge.Sight) {
	if sight.Standing != judge.Differs || len(sight.Rule.Fields) < 2 {
		return
	}
	var right, all []*Cell
	for _, row := range s.Rows {
		if row.Of != "" || !slices.Contains(sight.Rule.Fields, row.Field) {
			continue
		}
		c, r := &row.Cells[view], row.Cells[reference]
		all = append(all, c)
		if c.known && r.known && math.Abs(c.value.Float()-r.value.Float()) <= sight.Rule.Tolerance {
			right = append(right, c)
		}
	}
	if len(right) < len(all) {
		for _, c := range right {
			c.Mark, c.Gap = judge.Same, nil
		}
	}
}

// stand takes over how the value stands.
func (c *Cell) stand(s judge.Sight) {
	c.Mark = s.Standing
	switch s.Standing {
	case judge.Delayed, judge.Ahead:
		age := judge.Seconds(s.Age)
		c.Age = &age
	case judge.Differs:
		if !math.IsInf(s.Gap, 0) {
			c.Gap = &s.Gap
		}
	}
}

// cell is what a view believes of a field at a moment.
func (w *Window) cell(view int, field trace.Field, of string, t time.Duration) (c Cell) {
	c.Value = "-"
	var since time.Duration
	gone := false
	for _, s := range w.said[view] {
		switch {
		case s.t > t:
		case s.field == trace.Exists && field != trace.Exists && !s.value.IsTrue():
			c.known, gone = false, true
		case s.of != of:
		case s.field == field && (!c.known || s.value != c.value):
			c.value, c.known, since, gone = s.value, true, s.t, false
		}
	}
	if !c.known || gone {
		return c
	}
	if c.Value = w.names.Format(c.value); field == trace.Exists {
		c.Value = map[bool]string{true: "present", false: "absent"}[c.value.IsTrue()]
	}
	if since > w.began+time.Second { // later than the first full snapshot
		at := judge.Seconds(since)
		c.Since = &at
	}
	return c
}
