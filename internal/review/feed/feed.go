// Package feed hands recorded traces to the judge: those of a run folder, or
// files from elsewhere. It reads them side by side in time order, so that a
// recorded match is judged exactly as it was while it was played.
package feed

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/schedule"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/clocksync"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Source is the trace of one view.
type Source struct {
	View string
	Path string
}

// Traces is what is judged. The first source is the reference.
type Traces struct {
	Sources   []Source
	Packets   string   // a file of outcomes, or ""
	Linked    []string // views whose packets go over links, if these are known
	Rules     rulebook.Rules
	Align     string                                                            // how clocks are brought together; "" is Shared
	OneClock  bool                                                              // the views have one clock, whatever they are compared by
	Reference string                                                            // rulebook.Server or "", a view's name, or rulebook.NoReference
	Strict    bool                                                              // a match is no pass if anything that should have been compared was not
	Untraced  bool                                                              // no program tells a trace; what stands in for it tells who was there
	Unruled   bool                                                              // what is compared is learned from the traces themselves, unless there are rules all the same
	Frozen    bool                                                              // the rules were learned so before: from these traces, or those of the match that this is another play of
	Ending    ending.Ending                                                     // how the match ended; the zero value is complete. Of one that was cut off nothing is judged that not all files reach
	Timing    *metrics.Timing                                                   // how well a run on the wall clock kept time, or nil
	Entities  int                                                               // how many there may be; 0 means trace.MostEntities
	Logs      func(each func(view string, at time.Duration, text string)) error // hands on what programs logged; may be nil
	MayHush   bool                                                              // a client that said nothing at all is remarked on, not an error
}

// Remark is something about the traces that a reader of the verdict should know.
type Remark struct {
	View string
	Path string
	Text string
}

func (r Remark) String() string {
	if r.Path == "" {
		return r.Text
	}
	return r.Path + ": " + r.Text
}

// Unusable is the error of a trace that cannot be judged.
type UnusableError struct {
	Path string
	Why  string
}

func (e *UnusableError) Error() string { return e.Path + ": " + e.Why }

// reference is whose trace cannot be done without: "" if nobody's is.
func (t *Traces) reference() string {
	switch t.Reference {
	case "":
		return rulebook.Server
	case rulebook.NoReference:
		return ""
	}
	return t.Reference
}

// Result is what came of judging traces.
type Result struct {
	Verdict  *judge.Verdict
	Measures *metrics.Measures
	Remarks  []Remark
	Learned  *rulebook.Rules // from the traces themselves, where no others were given; or nil
}

// Judge reads the traces and judges them. Its errors are of type *UnusableError
// where a trace is to blame.
func Judge(ctx context.Context, traces Traces) (*Result, error) {
	how, until, err := ended(ctx, traces)
	if err != nil {
		return nil, err
	}
	if traces.Unruled = traces.Unruled && len(traces.Rules.Fields) == 0; traces.Unruled {
		if err := traces.learn(ctx); err != nil {
			return nil, err
		}
	}
	learned := traces.Rules
	traces.Rules = allowing(traces.Rules, traces.Timing)
	clocks, err := study(ctx, traces)
	if err != nil {
		return nil, err
	}
	wire, err := traces.wire(ctx)
	if err != nil {
		return nil, err
	}
	notes := traces.distrust(wire)
	cargo := &Cargo{}
	views, err := listen(ctx, traces, clocks, cargo)
	if err != nil {
		return nil, err
	}
	if how, until, err = quiet(traces, how, views, until); err != nil {
		return nil, err
	}
	how.Breaks = append(how.Breaks, wire.bypassed(&traces, views)...)
	r := newReading(traces, clocks, how.Breaks)
	defer r.close()
	for _, step := range []func() error{r.open, r.begin, func() error { return r.drain(ctx, until) }} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	result, err := r.finish(how)
	if err == nil && traces.Unruled && len(traces.Rules.Fields) > 0 {
		result.Learned = &learned
	}
	if err == nil {
		result.Verdict.Warnings = append(notes, result.Verdict.Warnings...)
		err = tellShifts(ctx, traces, result.Verdict)
	}
	if err != nil || clocks != nil { // packets have their times by another clock
		return result, err
	}
	if err := cargo.load(ctx, traces); err != nil {
		return nil, err
	}
	cargo.tell(result.Verdict)
	result.Remarks = append(result.Remarks, cargo.remarks()...)
	return result, nil
}

// ended says how the match ended, and up to when its traces are judged.
func ended(ctx context.Context, traces Traces) (how ending.Ending, until time.Duration, err error) {
	how, until = traces.Ending, math.MaxInt64
	if how.How == "" {
		how.How = ending.Complete
	}
	if how.CutOff() {
		until, err = reach(ctx, traces)
	}
	return how, until, err
}

// reading is traces being read side by side, in the order of time.
type reading struct {
	traces  Traces
	clocks  *clocks
	names   *trace.Names
	bench   *Bench
	to      Listener // the bench, or hands that have it hear
	hands   *Hands   // or nil
	inputs  []*input
	queue   schedule.Queue[*input] // by the time of what comes next, then by place
	number  map[string]int         // of a view among the sources
	breaks  []ending.Break         // still to come, in order of time
	remarks []Remark
}

func newReading(traces Traces, clocks *clocks, breaks []ending.Break) *reading {
	r := &reading{traces: traces, clocks: clocks, names: trace.NewNames(), number: map[string]int{}, breaks: slices.Clone(breaks)}
	if traces.Entities > 0 {
		r.names.Most = traces.Entities
	}
	var titles []string
	for i, source := range traces.Sources {
		titles = append(titles, source.View)
		r.number[source.View] = i
	}
	slices.SortStableFunc(r.breaks, func(a, b ending.Break) int { return cmp.Compare(a.At, b.At) })
	r.breaks = slices.DeleteFunc(r.breaks, func(b ending.Break) bool { _, known := r.number[b.View]; return !known || b.Kind == ending.Bypassed })
	r.bench = NewBench(r.names, titles, traces.Rules, Setting{Reference: traces.Reference, Outcomes: traces.Packets != "" && clocks == nil,
		Ticks: traces.Align == Tick, Timeless: clocks != nil && clocks.ticks != nil, Strict: traces.Strict, Untraced: traces.Untraced})
	r.to = r.bench
	if r.hands = Beside(r.bench.Parts()...); r.hands != nil {
		r.to = r.hands
	}
	return r
}

// open opens all files.
func (r *reading) open() error {
	for i, source := range r.traces.Sources {
		file, err := open(source.Path)
		if err != nil {
			return err
		}
		r.clocks.rewind(i)
		reader := trace.NewReader(file, r.names)
		r.inputs = append(r.inputs, &input{file: file, path: source.Path, next: reader.Next, view: i, reader: reader, clocks: r.clocks})
	}
	if r.traces.Packets == "" {
		return nil
	}
	file, err := open(r.traces.Packets)
	if err != nil {
		return err
	}
	r.inputs = append(r.inputs, &input{file: file, path: r.traces.Packets, packets: run.NewPacketReader(file), view: len(r.inputs)})
	return nil
}

func (r *reading) close() {
	r.hands.End()
	for _, in := range r.inputs {
		in.file.Close()
	}
}

// begin reads the first line of each file.
func (r *reading) begin() error {
	for _, in := range r.inputs {
		ok, err := in.read()
		if err != nil {
			return err
		}
		switch {
		case ok:
			r.wait(in)
		case in.reader == nil: // no packets at all
		case r.traces.MayHush && r.traces.Sources[in.view].View != r.traces.reference() && in.silent():
			r.remarks = append(r.remarks, Remark{r.traces.Sources[in.view].View, in.path, "the client said nothing and is not compared"})
		default:
			return in.unusable()
		}
	}
	return nil
}

func (r *reading) wait(in *input) { r.queue.Push(in.at, uint64(in.view), in) }

// drain hands everything to the bench, in the order of time.
func (r *reading) drain(ctx context.Context, until time.Duration) error {
	for steps := 0; r.queue.Due(until); steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		_, in := r.queue.Pop()
		for len(r.breaks) > 0 && time.Duration(r.breaks[0].At) < in.at {
			r.broke()
		}
		r.hand(in)
		ok, err := in.read()
		if err != nil {
			return err
		}
		if ok {
			r.wait(in)
		}
	}
	for len(r.breaks) > 0 {
		r.broke()
	}
	return nil
}

// hand gives the bench what an input has read.
func (r *reading) hand(in *input) {
	if in.packets == nil {
		r.to.Record(in.view, &in.record)
	} else if view, ok := r.number[in.link]; ok && r.traces.Sources[view].View != rulebook.Server {
		r.to.Packet(view, in.packet)
	}
}

func (r *reading) broke() {
	r.hands.Wait()
	r.bench.Broke(r.number[r.breaks[0].View], r.breaks[0])
	r.breaks = r.breaks[1:]
}

// finish sums up.
func (r *reading) finish(how ending.Ending) (*Result, error) {
	r.hands.Wait()
	for _, in := range r.inputs {
		r.remarks = append(r.remarks, in.remarks(r.traces.Sources)...)
	}
	if err := overlap(r.inputs, r.traces); err != nil {
		return nil, err
	}
	if r.traces.Logs != nil && len(r.traces.Rules.Logs) > 0 {
		if err := r.traces.Logs(r.bench.Log); err != nil {
			return nil, err
		}
	}
	result := &Result{Remarks: r.remarks}
	result.Verdict, result.Measures = r.bench.Finish(how)
	if r.traces.Logs != nil {
		if err := tellAround(result.Verdict, r.traces.Logs); err != nil {
			return nil, err
		}
	}
	result.Measures.Timing = r.traces.Timing
	result.Verdict.SetAside(r.traces.Timing, &r.traces.Rules)
	tellClocks(result.Verdict, r.traces.Timing)
	if r.traces.Unruled || r.traces.Frozen {
		result.Verdict.Provisional = true
		text := "provisional: the plan says nothing of what is compared, and nothing could be learned from this match itself"
		if n := len(r.traces.Rules.Fields); n > 0 {
			text = fmt.Sprintf("provisional: the plan says nothing of what is compared, so %d watch rules were learned from this match itself; zwheel learn RUNFOLDER writes them down, to read, edit and keep", n)
		}
		result.Verdict.Warnings = append(result.Verdict.Warnings, judge.Warning{Text: text})
	}
	if r.traces.Align != "" {
		result.Verdict.Alignment = r.traces.Align
	}
	if r.clocks != nil && r.clocks.fits != nil {
		result.Verdict.Clocks = map[string]clocksync.Fit{}
		for i, fit := range r.clocks.fits {
			if fit != nil {
				result.Verdict.Clocks[r.traces.Sources[i].View] = *fit
			}
		}
	}
	return result, nil
}

// reach is the time up to which everybody's records were written before the run
// was cut off. Views that had left do not count.
func reach(ctx context.Context, traces Traces) (time.Duration, error) {
	until := time.Duration(math.MaxInt64)
	last := func(path, view string) error {
		file, err := open(path)
		if err != nil {
			return err
		}
		defer file.Close()
		in := &input{reader: trace.NewReader(file, trace.AnyNames())}
		if view == "" {
			in = &input{packets: run.NewPacketReader(file)}
		} else {
			in.next = in.reader.Next
		}
		out, at := true, time.Duration(0)
		for steps := 0; ; steps++ {
			if ok, err := in.read(); err != nil || !ok {
				break
			}
			if steps%1024 == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			out, at = in.record.Leaves(view) && view != "", in.at
		}
		if !out {
			until = min(until, at)
		}
		return nil
	}
	for _, s := range traces.Sources {
		if err := last(s.Path, s.View); err != nil {
			return 0, err
		}
	}
	return until, last(traces.Packets, "")
}

func open(path string) (io.ReadCloser, error) {
	file, err := trace.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &UnusableError{path, "there is no such file"}
	}
	if err != nil {
		return nil, &UnusableError{path, err.Error()}
	}
	return file, nil
}

// input is one file that is being read, with what comes next from it.
type input struct {
	file    io.ReadCloser
	path    string
	view    int // its place among the sources; packets come last
	at      time.Duration
	reader  *trace.Reader
	clocks  *clocks
	spoke   bool
	first   time.Duration // the first line's time on the reference's clock
	latest  time.Duration // the last line's
	next    func(*trace.Record) error
	record  trace.Record
	packets *run.PacketReader
	link    string
	packet  link.Packet
	cut     string // why the file ended early
}

// read takes the next line and reports whether there was one. A packed file
// that breaks off has ended there.
func (in *input) read() (bool, error) {
	var err error
	if in.packets != nil {
		in.link, in.packet, err = in.packets.Next()
		in.at = in.packet.Sent
	} else {
		if err = in.next(&in.record); err == nil {
			in.clocks.bring(in.view, &in.record)
		}
		// A fitted clock and a tick that is said again must not go back.
		if err == nil && !in.spoke {
			in.spoke, in.first, in.latest = true, in.record.T, in.record.T
		}
		in.record.T = max(in.record.T, in.latest)
		in.at, in.latest = in.record.T, in.record.T
	}
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF):
		return false, nil
	}
	var tooMany *trace.TooManyError
	if errors.As(err, &tooMany) {
		return false, &UnusableError{in.path, err.Error()}
	}
	in.cut = err.Error()
	return false, nil
}

// silent reports whether there was not even a bad line.
func (in *input) silent() bool {
	flaws := in.reader.Flaws()
	return in.cut == "" && flaws.Malformed == 0 && flaws.LogText == 0
}

// unusable says why not one line of a trace could be used.
func (in *input) unusable() error {
	flaws := in.reader.Flaws()
	switch {
	case in.cut != "":
		return &UnusableError{in.path, "not one usable line before it breaks off: " + in.cut}
	case flaws.Malformed > 0:
		bad := flaws.First[0]
		return &UnusableError{in.path, fmt.Sprintf("not one usable line; %d are malformed, the first in line %d: %s", flaws.Malformed, bad.Line, bad.Why)}
	case flaws.LogText > 0:
		return &UnusableError{in.path, fmt.Sprintf("not one usable line; %d lines are not JSON objects (see docs/trace-lines.md)", flaws.LogText)}
	case flaws.Torn:
		return &UnusableError{in.path, "its only line stops in the middle"}
	}
	return &UnusableError{in.path, "the file is empty"}
}

// remarks tells what was odd about a file.
func (in *input) remarks(sources []Source) (list []Remark) {
	if in.packets != nil {
		if in.packets.Bad > 0 {
			list = append(list, Remark{Path: in.path, Text: fmt.Sprintf("%d packet lines could not be read and were skipped", in.packets.Bad)})
		}
		if in.cut != "" {
			list = append(list, Remark{Path: in.path, Text: "breaks off: " + in.cut})
		}
		return list
	}
	view, flaws := sources[in.view].View, in.reader.Flaws()
	add := func(format string, args ...any) {
		list = append(list, Remark{View: view, Path: in.path, Text: fmt.Sprintf(format, args...)})
	}
	for _, bad := range flaws.First {
		add("line %d is malformed and was skipped: %s", bad.Line, bad.Why)
	}
	if more := flaws.Malformed - len(flaws.First); more > 0 {
		add("%d more malformed lines were skipped", more)
	}
	if flaws.Torn {
		add("the last line stops in the middle and was skipped")
	}
	if in.cut != "" {
		add("breaks off: %s", in.cut)
	}
	if flaws.Backward > 0 {
		add("time runs backwards in %d lines, by up to %.3f s; they were taken to be of the latest time before", flaws.Backward, flaws.Furthest.Seconds())
	}
	return list
}
