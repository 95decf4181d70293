// Package inspect looks into a run folder at one moment: how one thing stood then,
// as the server and each client believed it, side by side. It reads no more of the
// traces than it needs.
//
// It knows run folders and watch rules, and nothing of how they are shown.
package inspect

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Sheet is one thing at one moment, a row for each field and a column for each view.
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
	Cells []Cell `json:"cells"` // by view
}

// Cell is what one view believed of one field.
type Cell struct {
	Value string         `json:"value"`             // "-" if the view does not have it
	Since *judge.Seconds `json:"since_s,omitempty"` // from when on; absent if that was longer ago than is looked back
	Mark  Mark           `json:"mark"`
	Late  *judge.Seconds `json:"late_s,omitempty"` // how old the reference's value is that it agrees with
	value trace.Value
	known bool
}

// Mark tells how a view's value stands to the reference's.
type Mark string

const (
	Same     Mark = "same"      // within the rule's tolerance
	Late     Mark = "late"      // as the reference had it shortly before
	Ahead    Mark = "ahead"     // as the reference had it soon after: predicted
	Differs  Mark = "differs"   //
	Unjudged Mark = "unjudged"  // no rule judges it
	theOne   Mark = "reference" // it is the reference's own
)

// LookBack is how far before a moment the traces are read: far enough for a whole
// snapshot, and for what a view may show late.
const LookBack = 5 * time.Second

// lookAhead is how far after a moment the reference is read, for what a view shows
// before it.
const lookAhead = time.Second

// Window is what was said of one thing in a stretch of time, by all views.
type Window struct {
	From, Until time.Duration
	reference   int // the view's number; -1 if there is none
	entity      string
	views       []string
	rules       []rulebook.Rule
	names       *trace.Names
	said        [][]said // by view, in order of time
	own         []bool   // whether it is the view's own
	members     [][]member
	begins      []time.Duration // when a view tells something first in what was read
	fields      []trace.Field
}

// member is that a view joined or left.
type member struct {
	t  time.Duration
	in bool
}

const never = time.Duration(math.MaxInt64)

// silent reports whether a view had told nothing by then.
func (w *Window) silent(view int, t time.Duration) bool { return w.begins[view] > t }

// out reports whether a view had left by then, or told nothing.
func (w *Window) out(view int, t time.Duration) bool {
	out := w.silent(view, t)
	for _, m := range w.members[view] {
		if m.t <= t {
			out = !m.in
		}
	}
	return out
}

// said is a value that a view gave a field; of Exists it is whether the thing is
// there.
type said struct {
	t     time.Duration
	field trace.Field
	value trace.Value
}

// Open reads what was said of a thing from LookBack before from until until. reference is
// what views are compared with, as verdicts have it.
func Open(ctx context.Context, run *run.Run, rules rulebook.Rules, reference, entity string, from, until time.Duration) (*Window, error) {
	w := &Window{From: from, Until: until, reference: slices.Index(run.About.Views, reference), entity: entity, views: run.About.Views, rules: rules.Fields, names: trace.AnyNames()}
	thing := w.names.Entity(entity)
	var paths []string
	for _, view := range w.views {
		paths = append(paths, run.ViewPath(view))
	}
	all, err := gather(ctx, paths, from-LookBack, until+lookAhead)
	if err != nil {
		return nil, err
	}
	some := false
	for i, view := range w.views {
		var list []said
		own, begins := false, never
		var members []member
		all[i].each(w.names, func(r *trace.Record) {
			if begins == never && (len(r.State) > 0 || r.Full || len(r.Despawned) > 0 || r.Joined == view) {
				begins = r.T
			}
			own = own || r.Joined == view && r.Entity == entity
			if r.Joined == view || r.Left == view {
				members = append(members, member{r.T, r.Joined == view})
			}
			there := false
			for _, c := range r.State {
				if c.Entity != thing {
					continue
				}
				there = true
				if c.Field != trace.Exists {
					list = append(list, said{r.T, c.Field, c.Value})
					if !slices.Contains(w.fields, c.Field) {
						w.fields = append(w.fields, c.Field)
					}
				}
			}
			if there {
				list = append(list, said{r.T, trace.Exists, trace.Bool(true)})
			} else if r.Full || slices.Contains(r.Despawned, thing) {
				list = append(list, said{r.T, trace.Exists, trace.Bool(false)})
			}
		})
		some = some || len(list) > 0
		w.said, w.own = append(w.said, list), append(w.own, own || strings.HasSuffix(entity, "/"+view))
		w.members, w.begins = append(w.members, members), append(w.begins, begins)
	}
	if !some || w.fields == nil {
		return nil, fmt.Errorf("no view says anything of %s around %.3f s", entity, from.Seconds())
	}
	return w, nil
}

// At is how the thing stood at a moment of the window.
func (w *Window) At(t time.Duration) Sheet {
	s := Sheet{Entity: w.entity, At: judge.Seconds(t), Views: w.views, Left: []string{}, Silent: []string{}, Reference: rulebook.NoReference}
	if w.reference >= 0 {
		s.Reference = w.views[w.reference]
	}
	for view, name := range w.views {
		switch {
		case w.silent(view, t):
			s.Silent = append(s.Silent, name)
		case w.out(view, t):
			s.Left = append(s.Left, name)
		}
	}
	for _, field := range append([]trace.Field{trace.Exists}, w.fields...) {
		row := Row{Field: w.names.FieldName(field)}
		if field == trace.Exists {
			row.Field = rulebook.Existence
		}
		against := w.against(field, t)
		for view := range w.views {
			c := w.cell(view, field, t)
			switch {
			case view == w.reference:
				c.Mark = theOne
			case w.out(view, t):
				c.Mark = Unjudged
			default:
				w.mark(&c, view, against, field, t)
			}
			row.Cells = append(row.Cells, c)
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// cell is what a view believes of a field at a moment.
func (w *Window) cell(view int, field trace.Field, t time.Duration) (c Cell) {
	c.Value = "-"
	var since time.Duration
	gone := false
	for _, s := range w.said[view] {
		switch {
		case s.t > t:
		case s.field == trace.Exists && field != trace.Exists && !s.value.IsTrue():
			c.known, gone = false, true
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
	if since > w.From-LookBack+time.Second { // later than the first full snapshot
		at := judge.Seconds(since)
		c.Since = &at
	}
	return c
}

// ruleOf is the rule by which a view's field is judged, or nil.
func (w *Window) ruleOf(view int, field trace.Field) *rulebook.Rule {
	name := w.names.FieldName(field)
	if field == trace.Exists {
		name = rulebook.Existence
	}
	i := rulebook.Find(w.rules, w.entity, w.own[view], name)
	if i < 0 || !w.rules[i].Judged() {
		return nil
	}
	return &w.rules[i]
}

// against is the view that the others are held against: the reference, or without one the
// first that agrees with most.
func (w *Window) against(field trace.Field, t time.Duration) int {
	if w.reference >= 0 {
		return w.reference
	}
	best, most := 0, -1
	for view := range w.views {
		rule, agreeing := w.ruleOf(view, field), 0
		if rule == nil || w.out(view, t) {
			continue
		}
		for other := range w.views {
			if other != view && !w.out(other, t) && agree(rule, w.cell(other, field, t), w.cell(view, field, t)) {
				agreeing++
			}
		}
		if agreeing > most {
			best, most = view, agreeing
		}
	}
	return best
}

// mark says how a view's value stands to that of another.
func (w *Window) mark(c *Cell, view, against int, field trace.Field, t time.Duration) {
	rule := w.ruleOf(view, field)
	if rule == nil {
		c.Mark = Unjudged
		return
	}
	reference := w.cell(against, field, t)
	if agree(rule, *c, reference) {
		c.Mark = Same
		return
	}
	c.Mark = Differs
	for _, s := range slices.Backward(w.said[against]) {
		if s.t > t || s.field != field {
			continue
		}
		if agree(rule, *c, w.cell(against, field, s.t)) {
			// It held until the next thing that was said of it.
			until := t
			for _, next := range w.said[against] {
				if next.field == field && next.t > s.t && next.t <= t && next.value != s.value {
					until = next.t
					break
				}
			}
			if late := t - until; late <= rule.MaxDelay+time.Second {
				age := judge.Seconds(late)
				c.Mark, c.Late = Late, &age
				return
			}
			break
		}
	}
	for _, s := range w.said[against] {
		if s.field == field && s.t > t && s.t <= t+rule.MaxAhead && agree(rule, *c, w.cell(against, field, s.t)) {
			c.Mark = Ahead
			return
		}
	}
}

// agree reports whether two values are the same to a rule. Of several fields
// together each is held against the whole tolerance.
func agree(rule *rulebook.Rule, a, b Cell) bool {
	if a.known != b.known || (a.Value == "-") != (b.Value == "-") {
		return false
	}
	if rule.Compare == rulebook.Exact || a.value.Kind() != trace.KindNumber || b.value.Kind() != trace.KindNumber {
		return a.value == b.value
	}
	off := math.Abs(a.value.Float() - b.value.Float())
	if rule.Compare == rulebook.Angle && rule.Circle > 0 {
		off = math.Abs(math.Remainder(a.value.Float()-b.value.Float(), rule.Circle))
	}
	return off <= rule.Tolerance
}

// lines are the records of a trace from about from until until. What lies before is
// skipped by its time, without being understood.
type lines [][]byte

// gather reads the lines of several traces at once: unpacking them takes longest.
func gather(ctx context.Context, paths []string, from, until time.Duration) ([]lines, error) {
	all, failures := make([]lines, len(paths)), make([]error, len(paths))
	var readers sync.WaitGroup
	for i, path := range paths {
		readers.Go(func() { all[i], failures[i] = linesOf(ctx, path, from, until) })
	}
	readers.Wait()
	return all, errors.Join(failures...)
}

func linesOf(ctx context.Context, path string, from, until time.Duration) (list lines, err error) {
	file, err := trace.OpenFrom(path, from, timeOf)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<20)
	for steps := 0; ; steps++ {
		if steps%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		text, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			begun := slices.Clone(text)
			text, err = in.ReadBytes('\n')
			text = append(begun, text...)
		}
		t, timed := timeOf(text)
		if timed && t > until {
			return list, nil
		}
		if len(text) > 0 && (!timed || t >= from || saysWho(text)) {
			list = append(list, slices.Clone(text))
		}
		if err != nil { // at the end, or where a file breaks off: what could be read was
			return list, nil
		}
	}
}

// each hands on the records that the lines hold.
func (l lines) each(names *trace.Names, take func(*trace.Record)) {
	reader := trace.NewReader(nil, names)
	var r trace.Record
	for _, text := range l {
		if ok, err := reader.Parse(text, &r); ok && err == nil {
			take(&r)
		}
	}
}

// timeOf reads the time that a line begins with.
func timeOf(line []byte) (time.Duration, bool) {
	const before = `{"t":`
	if len(line) < len(before) || string(line[:len(before)]) != before {
		return 0, false
	}
	rest := line[len(before):]
	end := 0
	for end < len(rest) && end < 32 && rest[end] != ',' && rest[end] != '}' {
		end++
	}
	seconds, err := strconv.ParseFloat(string(rest[:end]), 64)
	return time.Duration(seconds * float64(time.Second)), err == nil
}

// saysWho reports whether a line may tell whose a thing is, or who is there.
func saysWho(line []byte) bool {
	return len(line) < 300 && (bytes.Contains(line, []byte(`"joined"`)) || bytes.Contains(line, []byte(`"left"`)))
}
