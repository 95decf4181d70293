// Package follow judges traces while they are being written: those of a run in
// progress, or of a game that somebody plays by hand. It tells of findings as they
// become certain. The verdict is not its business: what comes too late to be put in
// order while the game goes on is judged afterwards, by package audit.
package follow

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"zitherwheel/audit"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/runfolder"
	"zitherwheel/trace"
	"zitherwheel/watch"
)

// Hold is how long lines are held back to be put in order with those of others.
const Hold = 600 * time.Millisecond

// Traces is what is followed: plain files that grow, the reference's first.
type Traces struct {
	Sources   []audit.Source
	Packets   string // or ""
	Rules     watch.Rules
	Reference string
	Alert     func(judge.Alert)
	Now       func(State) // hears how far the traces are, a few times a second; may be nil
	Ended     func() bool // whether nothing more will come; nil means that ctx says so
}

// State is how far the traces are.
type State struct {
	At       time.Duration // the newest line
	Lines    int
	Findings int
	Views    []ViewState
}

// ViewState is how far one view is.
type ViewState struct {
	Name  string
	Lines int
	In    bool
	Last  time.Duration // its newest line
	Now   audit.Standing
}

const lookEvery = 50 * time.Millisecond

// Run follows traces until they have ended or ctx is done, and returns their state
// then.
func Run(ctx context.Context, t Traces) (State, error) {
	f := &follower{names: trace.NewNames()}
	var views []string
	for _, s := range t.Sources {
		views = append(views, s.View)
		f.tails = append(f.tails, &tail{path: s.Path})
		f.readers = append(f.readers, trace.NewReader(nil, f.names))
		f.state.Views = append(f.state.Views, ViewState{Name: s.View})
	}
	f.bench = audit.NewBench(f.names, views, t.Rules, audit.Setting{Reference: t.Reference, Fates: t.Packets != "", Alert: t.Alert})
	if t.Packets != "" {
		f.packets = &tail{path: t.Packets}
	}
	defer f.close()
	for {
		ended := ctx.Err() != nil || t.Ended != nil && t.Ended()
		if err := f.look(); err != nil {
			return f.state, err
		}
		until := f.state.At - Hold
		if ended {
			until = f.state.At
		}
		f.judge(until)
		f.state.Findings = f.bench.Certain()
		if t.Now != nil {
			told := f.state
			told.Views = slices.Clone(f.state.Views) // what was told is not to change
			for i := range told.Views {
				told.Views[i].Now = f.bench.Standing(i)
			}
			t.Now(told)
		}
		if ended {
			return f.state, nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

type follower struct {
	names   *trace.Names
	bench   *audit.Bench
	tails   []*tail
	readers []*trace.Reader
	packets *tail
	waiting []item // sorted when judged
	judged  time.Duration
	state   State
}

// item is a record of a view or the fate of a packet, that waits to be judged.
type item struct {
	at     time.Duration
	view   int
	record *trace.Record // or nil
	way    link.Direction
	fate   link.Fate
}

// look reads what has been written since the last look.
func (f *follower) look() error {
	for i, t := range f.tails {
		view := &f.state.Views[i]
		err := t.read(func(line []byte) {
			r := &trace.Record{}
			if ok, err := f.readers[i].Parse(line, r); !ok || err != nil {
				return // it is told of when the trace is judged as a whole
			}
			view.Lines++
			f.state.Lines++
			switch view.Name {
			case r.Joined:
				view.In = true
			case r.Left:
				view.In = false
			}
			view.Last = max(view.Last, r.T)
			r.T = view.Last
			f.state.At = max(f.state.At, r.T)
			f.waiting = append(f.waiting, item{at: r.T, view: i, record: r})
		})
		if err != nil {
			return err
		}
	}
	if f.packets == nil {
		return nil
	}
	return f.packets.read(func(line []byte) {
		name, d, fate, err := runfolder.NewPacketReader(bytes.NewReader(line)).Next()
		if err != nil {
			return
		}
		if i := slices.IndexFunc(f.state.Views, func(v ViewState) bool { return v.Name == name }); i >= 0 {
			f.waiting = append(f.waiting, item{at: fate.Sent, view: i, way: d, fate: fate})
		}
	})
}

// judge hands everything up to a moment to the judge, in order. What comes later than
// that is taken to be of the moment up to which was judged.
func (f *follower) judge(until time.Duration) {
	slices.SortStableFunc(f.waiting, func(a, b item) int { return int(a.at - b.at) })
	n := 0
	for ; n < len(f.waiting) && f.waiting[n].at <= until; n++ {
		it := &f.waiting[n]
		it.at = max(it.at, f.judged)
		f.judged = it.at
		if it.record != nil {
			it.record.T = it.at
			f.bench.Record(it.view, it.record)
			continue
		}
		it.fate.Sent = it.at
		f.bench.Packet(it.view, it.way, it.fate)
	}
	f.waiting = append(f.waiting[:0], f.waiting[n:]...)
}

func (f *follower) close() {
	for _, t := range append(f.tails, f.packets) {
		if t != nil && t.file != nil {
			t.file.Close()
		}
	}
}

// tail reads a file that grows.
type tail struct {
	path string
	file *os.File
	rest []byte
	buf  []byte
}

// read hands on the whole lines that have come since the last time.
func (t *tail) read(each func(line []byte)) error {
	if t.file == nil {
		file, err := os.Open(t.path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it may come yet
		}
		if err != nil {
			return err
		}
		t.file, t.buf = file, make([]byte, 256<<10)
	}
	for {
		n, err := t.file.Read(t.buf)
		t.rest = append(t.rest, t.buf[:n]...)
		for {
			i := bytes.IndexByte(t.rest, '\n')
			if i < 0 {
				break
			}
			each(t.rest[:i])
			t.rest = t.rest[i+1:]
		}
		t.rest = append([]byte(nil), t.rest...)
		if errors.Is(err, io.EOF) || n == 0 {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
