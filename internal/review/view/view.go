// Package view takes from a run folder, in one pass over its files, what a person
// needs to see what happened: how the fields of each finding went on both sides,
// what the links did meanwhile, who was there when, and the ways that entities went.
//
// It knows run folders, plans and verdicts, and nothing of how they are shown.
package view

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"math"
	"os"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/logs"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Review is what there is to see of a run.
type Review struct {
	Run      *run.Run
	Plan     *plan.Plan
	Verdict  *judge.Verdict
	Measures *metrics.Measures
	Logs     *logs.Report  // what the programs' logs tell of errors and warnings
	Length   time.Duration // of what was recorded
	Lanes    []Lane        // by view, the reference's first
	Curves   []*Curve      // of findings, the heads of incidents first
	Left     int           // findings that have no curve, because there are too many
	World    *World        // nil if no watch rule names a place
}

// Lane is what happened to one view in the course of the match.
type Lane struct {
	View        string
	In          []Span          // when it was in the match
	Apart       []Episode       // when it disagreed
	Up          []Traffic       // by second
	Down        []Traffic       //
	Load        []LoadPoint     // of its process, if it is one
	Corrections []time.Duration // when its own entity was set right
	Outages     []Span          // half a second or more in which every packet was lost
}

// Span is a stretch of time.
type Span struct{ From, Until time.Duration }

// Episode is a finding on a lane.
type Episode struct {
	Span
	Finding *judge.Finding
}

// Traffic is what went over one direction of a link within a second.
type Traffic struct{ Packets, Bytes, Lost int }

// LoadPoint is what a process used at a moment.
type LoadPoint struct {
	At       time.Duration
	CPU      float64 // cores
	Resident float64 // bytes
}

// Curve is how the fields of a finding went around it.
type Curve struct {
	Finding *judge.Finding
	Span    // that it covers
	Fields  []Field
	Packets []link.Packet // of the view's link
	Lines   []Line        // that both sides logged
	Within  float64       // the tolerance of its rule, if it is a number
}

// Field is one field of a curve, on both sides.
type Field struct {
	Name      string
	Reference Series
	View      Series
	Predicted Series // what the view predicted before smoothing
	Received  Series // what had come from the server last
}

// Series are the values of a field, each from its time on. A number that is NaN is
// none; values that are no numbers are in Texts, and their numbers are NaN.
type Series struct {
	T     []time.Duration
	V     []float64
	Texts []string // nil if all are numbers
}

// Line is a line of a log.
type Line struct {
	At   time.Duration
	View string
	Text string
}

const (
	mostCurves  = 60
	before      = 2 * time.Second // of a curve, before the finding began
	after       = time.Second     // after it ended
	mostOfCurve = 12 * time.Second
	mostLines   = 12 // of a log on a curve
)

// Read reviews a run folder. A run without a verdict is judged first.
func Read(ctx context.Context, path string) (*Review, error) {
	run, err := run.Open(path)
	if err != nil {
		return nil, err
	}
	r := &Review{Run: run}
	if r.Plan, err = plan.Load(run.PlanPath()); err != nil {
		return nil, err
	}
	said, err := feed.Recorded(ctx, run, r.Plan)
	if err != nil {
		return nil, err
	}
	r.Verdict, r.Measures = said.Verdict, said.Measures
	rules, err := feed.Rules(ctx, run, r.Plan)
	if err != nil {
		return nil, err
	}
	r.lay(rules.Fields)
	names := trace.AnyNames()
	w := newWays(names, run.About.Views, rules)
	felt := metrics.New(names, run.About.Views, run.About.Views[0] == rulebook.Server, rules)
	felt.Corrected = func(view int, t time.Duration, _ float64) {
		r.Lanes[view].Corrections = append(r.Lanes[view].Corrections, t)
	}
	for i, view := range run.About.Views {
		if err := r.view(ctx, names, w, felt, i, view); err != nil {
			return nil, err
		}
	}
	if err := r.packets(ctx); err != nil {
		return nil, err
	}
	for _, view := range run.About.Views {
		if err := r.log(view); err != nil {
			return nil, err
		}
	}
	if r.Logs, err = feed.Logs(run); err != nil {
		return nil, err
	}
	r.World = w.world()
	return r, nil
}

// lay lays out lanes, and curves with the tolerances of the rules.
func (r *Review) lay(rules []rulebook.Rule) {
	for _, view := range r.Run.About.Views {
		lane := Lane{View: view}
		for _, f := range r.Verdict.Findings {
			if f.View == view || f.Invariant && view == r.Verdict.Reference {
				lane.Apart = append(lane.Apart, Episode{Span{time.Duration(f.BeganAt), time.Duration(f.EndedAt)}, f})
			}
		}
		r.Lanes = append(r.Lanes, lane)
	}
	heads := map[string]bool{}
	for _, in := range r.Verdict.Incidents {
		heads[in.Head] = true
	}
	for _, first := range []bool{true, false} {
		for _, f := range r.Verdict.Findings {
			if heads[f.ID] != first {
				continue
			}
			if len(r.Curves) == mostCurves {
				r.Left++
				continue
			}
			from, until := time.Duration(f.BeganAt)-before, time.Duration(f.EndedAt)+after
			c := &Curve{Finding: f, Span: Span{max(0, from), min(until, from+mostOfCurve)}}
			for _, name := range fieldsOf(f) {
				c.Fields = append(c.Fields, Field{Name: name})
			}
			if i := slices.IndexFunc(rules, func(rule rulebook.Rule) bool {
				return f.Subject == (judge.Subject{Name: rule.Label()}) && rule.Fits(f.Entity, f.Own, rule.Fields[0])
			}); i >= 0 && rules[i].Compare != rulebook.Exact {
				c.Within = rules[i].Tolerance
			}
			r.Curves = append(r.Curves, c)
		}
	}
}

// fieldsOf names the fields that a finding is about; none if it is about an event, a
// chain or a player.
func fieldsOf(f *judge.Finding) []string {
	if f.Entity == "" {
		return nil
	}
	switch f.Kind {
	case judge.Ghost, judge.Missing, judge.DuplicateEntity, judge.NotOne:
		return []string{rulebook.Existence}
	}
	return f.Subject.Fields()
}

// view reads the trace of one view.
func (r *Review) view(ctx context.Context, names *trace.Names, w *ways, felt *metrics.Collector, number int, view string) error {
	file, err := trace.Open(r.Run.ViewPath(view))
	if err != nil {
		return err
	}
	defer file.Close()
	lane := &r.Lanes[number]
	wanted := map[trace.Entity][]*Curve{}
	for _, c := range r.Curves {
		if c.Finding.View == view || view == r.Verdict.Reference || r.Verdict.Reference == rulebook.NoReference && number == 0 {
			e := names.Entity(c.Finding.Entity)
			wanted[e] = append(wanted[e], c)
		}
	}
	reader, in := trace.NewReader(file, names), false
	var rec trace.Record
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if err := reader.Next(&rec); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			break // what could be read is shown; the judge has said that it breaks off
		}
		r.Length = max(r.Length, rec.T)
		switch {
		case rec.Joined == view && !in:
			in = true
			lane.In = append(lane.In, Span{rec.T, rec.T})
		case rec.Leaves(view) && in:
			in = false
			lane.In[len(lane.In)-1].Until = rec.T
		case rec.Checkpoint == trace.LoadMark:
			var data struct{ CPU, Resident float64 }
			if json.Unmarshal([]byte(rec.Data), &data) == nil {
				lane.Load = append(lane.Load, LoadPoint{rec.T, data.CPU, data.Resident})
			}
		}
		w.take(number, &rec)
		felt.Record(number, &rec)
		r.follow(names, wanted, view, &rec)
	}
	if in {
		lane.In[len(lane.In)-1].Until = rec.T
	}
	return nil
}

// follow takes what a record says of the entities of curves.
func (r *Review) follow(names *trace.Names, wanted map[trace.Entity][]*Curve, view string, rec *trace.Record) {
	put := func(c *Curve, list []trace.Change, e trace.Entity, of func(*Field) *Series) {
		for i := range c.Fields {
			f := &c.Fields[i]
			for _, change := range list {
				if change.Entity == e && (names.FieldName(change.Field) == f.Name) {
					of(f).add(c, rec.T, names, change.Value)
				}
			}
		}
	}
	if len(wanted) == 0 {
		return
	}
	for e, curves := range wanted {
		there := slices.ContainsFunc(rec.State, func(c trace.Change) bool { return c.Entity == e })
		gone := slices.Contains(rec.Despawned, e) || rec.Full && !there
		if !there && !gone && len(rec.Predicted)+len(rec.Received) == 0 {
			continue
		}
		for _, c := range curves {
			of := func(f *Field) *Series { return &f.View }
			if view != c.Finding.View {
				of = func(f *Field) *Series { return &f.Reference }
			}
			put(c, rec.State, e, of)
			if view == c.Finding.View {
				put(c, rec.Predicted, e, func(f *Field) *Series { return &f.Predicted })
				put(c, rec.Received, e, func(f *Field) *Series { return &f.Received })
			}
			for i := range c.Fields {
				f := &c.Fields[i]
				switch {
				case f.Name == rulebook.Existence && (there || gone):
					of(f).add(c, rec.T, names, names.Text(map[bool]string{true: "present", false: "absent"}[there]))
				case gone:
					of(f).add(c, rec.T, names, trace.Value{})
				}
			}
		}
	}
}

// add puts a value into a series, if it is within the curve or the last before.
func (s *Series) add(c *Curve, t time.Duration, names *trace.Names, v trace.Value) {
	if t > c.Until {
		return
	}
	number, text := v.Float(), ""
	if v.Kind() != trace.KindNumber && v.Kind() != trace.KindNull {
		text = names.Format(v)
		if v.Kind() == trace.KindText {
			text = names.TextOf(v)
		}
	}
	if n := len(s.T); n > 0 {
		if t <= c.From { // only the last before the curve begins counts
			s.T, s.V = s.T[:0], s.V[:0]
			if s.Texts != nil {
				s.Texts = s.Texts[:0]
			}
		} else if same(s.V[n-1], number) && (s.Texts == nil || s.Texts[n-1] == text) && (text == "" || s.Texts != nil) {
			return
		}
	}
	if text != "" && s.Texts == nil {
		s.Texts = make([]string, len(s.T), len(s.T)+8)
	}
	s.T, s.V = append(s.T, max(t, c.From)), append(s.V, number)
	if s.Texts != nil {
		s.Texts = append(s.Texts, text)
	}
}

func same(a, b float64) bool { return a == b || math.IsNaN(a) && math.IsNaN(b) }

// outageAtLeast is how long everything must be lost for it to be told as an outage.
const outageAtLeast = 500 * time.Millisecond

// packets reads the outcomes.
func (r *Review) packets(ctx context.Context) error {
	file, err := trace.Open(r.Run.PacketsPath())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	defer file.Close()
	number := map[string]int{}
	for i, lane := range r.Lanes {
		number[lane.View] = i
	}
	lost := make([][2]*Span, len(r.Lanes)) // the row of losses that is going on
	over := func(i int, d link.Direction) {
		if row := lost[i][d]; row != nil && row.Until-row.From >= outageAtLeast {
			r.Lanes[i].Outages = append(r.Lanes[i].Outages, *row)
		}
		lost[i][d] = nil
	}
	reader := run.NewPacketReader(file)
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		view, p, err := reader.Next()
		if err != nil {
			break // at the end, or where a run was cut off
		}
		i, ok := number[view]
		if !ok {
			continue
		}
		lane := &r.Lanes[i]
		seconds := &lane.Up
		if p.Direction == link.Down {
			seconds = &lane.Down
		}
		for len(*seconds) <= int(p.Sent/time.Second) {
			*seconds = append(*seconds, Traffic{})
		}
		t := &(*seconds)[max(0, int(p.Sent/time.Second))]
		t.Packets, t.Bytes = t.Packets+1, t.Bytes+p.Size
		if p.Copies > 0 {
			over(i, p.Direction)
		} else {
			t.Lost++
			if lost[i][p.Direction] == nil {
				lost[i][p.Direction] = &Span{From: p.Sent}
			}
			lost[i][p.Direction].Until = p.Sent
		}
		for _, c := range r.Curves {
			if c.Finding.View == view && p.Sent >= c.From && p.Sent <= c.Until {
				c.Packets = append(c.Packets, p)
			}
		}
	}
	for i := range r.Lanes { // and those that nothing ended
		over(i, link.Up)
		over(i, link.Down)
		slices.SortStableFunc(r.Lanes[i].Outages, func(a, b Span) int { return int(a.From - b.From) })
	}
	return nil
}

// log reads what a view logged around the beginnings of findings.
func (r *Review) log(view string) error {
	err := r.Run.Log(view, func(at time.Duration, text string) {
		for _, c := range r.Curves {
			if (view == c.Finding.View || view == r.Verdict.Reference) && at >= c.From && at <= c.Until && len(c.Lines) < mostLines {
				c.Lines = append(c.Lines, Line{at, view, text})
			}
		}
	})
	for _, c := range r.Curves {
		slices.SortStableFunc(c.Lines, func(a, b Line) int { return int(a.At - b.At) })
	}
	return err
}
