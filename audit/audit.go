// Package audit hands recorded traces to the judge: those of a run folder, or
// files from elsewhere. It reads them side by side in time order, so that a
// recorded match is judged exactly as it was while it was played.
package audit

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

	"zitherwheel/align"
	"zitherwheel/ending"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/measure"
	"zitherwheel/runfolder"
	"zitherwheel/trace"
	"zitherwheel/watch"
)

// Source is the trace of one view.
type Source struct {
	View string
	Path string
}

// Traces is what is judged. The first source is the reference.
type Traces struct {
	Sources   []Source
	Packets   string // a file of fates, or ""
	Rules     watch.Rules
	Align     string          // how clocks are brought together; "" is Shared
	Reference string          // Server or "", a view's name, or Nobody
	Strict    bool            // whatever was to be compared and was not keeps the match from being a pass
	Ending    ending.Ending   // how the match ended; the zero value is complete. Of one that was cut off nothing is judged that not all files reach
	Timing    *measure.Timing // how well a run on the wall clock kept time, or nil
	Entities  int             // how many there may be; 0 means trace.MostEntities
	MayHush   bool            // a client that said nothing at all is remarked on, not an error
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
type Unusable struct {
	Path string
	Why  string
}

func (e *Unusable) Error() string { return e.Path + ": " + e.Why }

// reference is whose trace cannot be done without: "" if nobody's is.
func (t *Traces) reference() string {
	switch t.Reference {
	case "":
		return Server
	case Nobody:
		return ""
	}
	return t.Reference
}

// Result is what came of judging traces.
type Result struct {
	Verdict  *judge.Verdict
	Measures *measure.Measures
	Remarks  []Remark
}

// Judge reads the traces and judges them. Its errors are of type *Unusable
// where a trace is to blame.
func Judge(ctx context.Context, traces Traces) (*Result, error) {
	until := time.Duration(math.MaxInt64)
	how := traces.Ending
	if how.How == "" {
		how.How = ending.Complete
	}
	if how.CutOff() {
		var err error
		if until, err = reach(ctx, traces); err != nil {
			return nil, err
		}
	}
	reference := traces.reference()
	clocks, err := study(ctx, traces)
	if err != nil {
		return nil, err
	}
	views, err := listen(ctx, traces, clocks)
	if err != nil {
		return nil, err
	}
	if how, until, err = quiet(traces, how, views, until); err != nil {
		return nil, err
	}
	rules := traces.Rules
	if traces.Align == Tick {
		rules = byTicks(rules)
	}
	names := trace.NewNames()
	if traces.Entities > 0 {
		names.Most = traces.Entities
	}
	var titles []string
	var inputs []*input
	defer func() {
		for _, in := range inputs {
			in.file.Close()
		}
	}()
	for i, source := range traces.Sources {
		titles = append(titles, source.View)
		file, err := open(source.Path)
		if err != nil {
			return nil, err
		}
		reader := trace.NewReader(file, names)
		inputs = append(inputs, &input{file: file, path: source.Path, next: reader.Next, view: i, reader: reader, clocks: clocks})
	}
	if traces.Packets != "" {
		file, err := open(traces.Packets)
		if err != nil {
			return nil, err
		}
		inputs = append(inputs, &input{file: file, path: traces.Packets, packets: runfolder.NewPacketReader(file), view: len(inputs)})
	}

	bench := NewBench(names, titles, rules, Setting{Reference: traces.Reference, Fates: traces.Packets != "" && clocks == nil, Ticks: traces.Align == Tick, Strict: traces.Strict})
	number := map[string]int{}
	for i, source := range traces.Sources {
		number[source.View] = i
	}
	breaks := slices.Clone(how.Breaks)
	slices.SortStableFunc(breaks, func(a, b ending.Break) int { return cmp.Compare(a.At, b.At) })
	breaks = slices.DeleteFunc(breaks, func(b ending.Break) bool { _, known := number[b.View]; return !known })
	queue := make(inputQueue, 0, len(inputs))
	var remarks []Remark
	for _, in := range inputs {
		ok, err := in.read()
		if err != nil {
			return nil, err
		}
		switch {
		case ok:
			queue.push(in)
		case in.reader == nil: // no packets at all
		case traces.MayHush && traces.Sources[in.view].View != reference && in.silent():
			remarks = append(remarks, Remark{traces.Sources[in.view].View, in.path, "the client said nothing and is not compared"})
		default:
			return nil, in.unusable()
		}
	}
	for steps := 0; len(queue) > 0; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		in := queue[0]
		if in.at > until {
			break
		}
		for len(breaks) > 0 && time.Duration(breaks[0].At) < in.at {
			bench.Broke(number[breaks[0].View], breaks[0])
			breaks = breaks[1:]
		}
		if in.packets != nil {
			if view, ok := number[in.link]; ok && traces.Sources[view].View != Server {
				bench.Packet(view, in.direction, in.fate)
			}
		} else {
			bench.Record(in.view, &in.record)
		}
		ok, err := in.read()
		if err != nil {
			return nil, err
		}
		queue.moved(ok)
	}
	for _, b := range breaks {
		bench.Broke(number[b.View], b)
	}
	for _, in := range inputs {
		remarks = append(remarks, in.remarks(traces.Sources)...)
	}
	if err := overlap(inputs, traces); err != nil {
		return nil, err
	}
	r := &Result{Remarks: remarks}
	r.Verdict, r.Measures = bench.Finish(how)
	r.Measures.Timing = traces.Timing
	if traces.Align != "" {
		r.Verdict.Alignment = traces.Align
	}
	if clocks != nil && clocks.fits != nil {
		r.Verdict.Clocks = map[string]align.Fit{}
		for i, fit := range clocks.fits {
			if fit != nil {
				r.Verdict.Clocks[traces.Sources[i].View] = *fit
			}
		}
	}
	return r, nil
}

// overlap reports a view that has no moment in common with the reference.
func overlap(inputs []*input, traces Traces) error {
	if traces.Reference == Nobody {
		return nil
	}
	reference := inputs[0]
	for _, in := range inputs {
		if in.packets == nil && in.view > 0 && traces.Sources[in.view].View == traces.Reference {
			reference = in
		}
	}
	for _, in := range inputs {
		if in.packets != nil || in == reference || !in.spoke || !reference.spoke {
			continue
		}
		if in.first > reference.latest || in.latest < reference.first {
			return &Unusable{in.path, fmt.Sprintf("it is of %.3f s to %.3f s and the reference of %.3f s to %.3f s, so they have no moment in common; if their clocks differ, try --align estimated",
				in.first.Seconds(), in.latest.Seconds(), reference.first.Seconds(), reference.latest.Seconds())}
		}
	}
	return nil
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
			in = &input{packets: runfolder.NewPacketReader(file)}
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
			out, at = in.record.Left == view && view != "", in.at
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
		return nil, &Unusable{path, "there is no such file"}
	}
	if err != nil {
		return nil, &Unusable{path, err.Error()}
	}
	return file, nil
}

// input is one file that is being read, with what comes next from it.
type input struct {
	file      io.ReadCloser
	path      string
	view      int // its place among the sources; packets come last
	at        time.Duration
	reader    *trace.Reader
	clocks    *clocks
	spoke     bool
	first     time.Duration // the first line's time on the reference's clock
	latest    time.Duration // the last line's
	unplaced  int           // lines that have no time there
	next      func(*trace.Record) error
	record    trace.Record
	packets   *runfolder.PacketReader
	link      string
	direction link.Direction
	fate      link.Fate
	cut       string // why the file ended early
}

// read takes the next line and reports whether there was one. A packed file
// that breaks off has ended there.
func (in *input) read() (bool, error) {
	var err error
	if in.packets != nil {
		in.link, in.direction, in.fate, err = in.packets.Next()
		in.at = in.fate.Sent
	} else {
		for {
			if err = in.next(&in.record); err != nil || in.clocks.bring(in.view, &in.record) {
				break
			}
			in.unplaced++
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
	var tooMany *trace.TooMany
	if errors.As(err, &tooMany) {
		return false, &Unusable{in.path, err.Error()}
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
		return &Unusable{in.path, "not one usable line before it breaks off: " + in.cut}
	case flaws.Malformed > 0:
		bad := flaws.First[0]
		return &Unusable{in.path, fmt.Sprintf("not one usable line; %d are malformed, the first in line %d: %s", flaws.Malformed, bad.Line, bad.Why)}
	case flaws.LogText > 0:
		return &Unusable{in.path, fmt.Sprintf("not one usable line; %d lines are not JSON objects (see docs/trace-lines.md)", flaws.LogText)}
	case flaws.Torn:
		return &Unusable{in.path, "its only line stops in the middle"}
	}
	return &Unusable{in.path, "the file is empty"}
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
	if in.unplaced > 0 {
		add("%d lines have no tick and were skipped", in.unplaced)
	}
	if flaws.Backward > 0 {
		add("time runs backwards in %d lines, by up to %.3f s; they were taken to be of the latest time before", flaws.Backward, flaws.Furthest.Seconds())
	}
	return list
}

// inputQueue is a binary heap of files by the time of what comes next, then by
// their place. There are few of them.
type inputQueue []*input

func (q inputQueue) before(a, b int) bool {
	return cmp.Or(cmp.Compare(q[a].at, q[b].at), cmp.Compare(q[a].view, q[b].view)) < 0
}

func (q *inputQueue) push(in *input) {
	*q = append(*q, in)
	h := *q
	for i := len(h) - 1; i > 0 && h.before(i, (i-1)/2); i = (i - 1) / 2 {
		h[i], h[(i-1)/2] = h[(i-1)/2], h[i]
	}
}

// moved puts the first file in its place after it was read on, or takes it out.
func (q *inputQueue) moved(goesOn bool) {
	h := *q
	if !goesOn {
		h[0] = h[len(h)-1]
		h = h[:len(h)-1]
		*q = h
	}
	for i := 0; ; {
		child := 2*i + 1
		if child >= len(h) {
			return
		}
		if child+1 < len(h) && h.before(child+1, child) {
			child++
		}
		if !h.before(child, i) {
			return
		}
		h[i], h[child] = h[child], h[i]
		i = child
	}
}
