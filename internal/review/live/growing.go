// Package live judges a match while it goes on, and tells of findings as they become
// certain: [Live] what is handed to it, [Run] traces that are being written, those of a run
// in progress or of a game that somebody plays by hand. The verdict is not its business:
// what comes too late to be put in order while the game goes on is judged afterwards, by
// package feed.
package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"zitherwheel/internal/lines"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Traces is what is followed: plain files that grow, the reference's first.
type Traces struct {
	Names     *trace.Names // that the observer knows too; nil if nobody asks
	Sources   []feed.Source
	Packets   string // or ""
	Rules     rulebook.Rules
	Reference string
	Ticks     bool // equal ticks are compared
	Entities  int  // how many there may be; 0 means trace.MostEntities
	Alert     func(judge.Alert)
	Now       func(State) // hears how far the traces are, a few times a second; may be nil
	Observer  Observer    // hears all that is judged, in order of time; may be nil
	Ended     func() bool // whether nothing more will come; nil means that ctx says so
}

// Setting is how the traces are judged.
func (t *Traces) Setting() feed.Setting {
	return feed.Setting{Reference: t.Reference, Ticks: t.Ticks, Outcomes: t.Packets != "", Alert: t.Alert}
}

// Observer hears what is judged. It is locked while the traces are read and judged, because the names
// in them are shared.
type Observer interface {
	sync.Locker
	Record(view int, r *trace.Record)
	Packet(view int, p link.Packet)
}

const lookEvery = 50 * time.Millisecond

// Run follows traces until they have ended or ctx is done, and returns their state
// then.
func Run(ctx context.Context, t Traces) (State, error) {
	f := &follower{}
	names := cmp.Or(t.Names, trace.NewNames())
	if t.Entities > 0 {
		names.Most = t.Entities
	}
	var views []string
	for _, s := range t.Sources {
		views = append(views, s.View)
		f.tails = append(f.tails, lines.Follow(s.Path))
		f.paths = append(f.paths, s.Path)
		f.readers = append(f.readers, trace.NewReader(nil, names))
	}
	f.lock = t.Observer
	f.live = NewLive(names, views, t.Rules, t.Setting())
	f.live.observer = t.Observer
	if t.Packets != "" {
		f.packets = lines.Follow(t.Packets)
	}
	defer f.close()
	for {
		ended := ctx.Err() != nil || t.Ended != nil && t.Ended()
		if err := f.judge(ended); err != nil {
			return f.live.State(), err
		}
		if t.Now != nil {
			t.Now(f.live.State())
		}
		if ended {
			return f.live.State(), nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

type follower struct {
	live    *Live
	lock    sync.Locker // or nil
	tails   []*lines.Tail
	paths   []string
	readers []*trace.Reader
	packets *lines.Tail
}

// judge reads what has been written since the last look, and judges what can be put in order of it;
// at the end, all.
func (f *follower) judge(all bool) error {
	if f.lock != nil {
		f.lock.Lock()
		defer f.lock.Unlock()
	}
	if err := f.look(); err != nil {
		return err
	}
	until := f.live.state.At - Hold
	if all {
		until = f.live.state.At
	}
	f.live.Judge(until)
	return nil
}

// look reads what has been written since the last look.
func (f *follower) look() error {
	for i, t := range f.tails {
		var r trace.Record
		var tooMany *trace.TooManyError
		err := t.ReadAll(func(line []byte, _ bool) {
			ok, err := f.readers[i].Parse(line, &r)
			if errors.As(err, &tooMany) || !ok || err != nil {
				return // what is wrong with a line is told when the trace is judged as a whole
			}
			f.live.Record(i, &r)
		})
		if err == nil && tooMany != nil {
			err = fmt.Errorf("%s: %w", f.paths[i], tooMany)
		}
		if err != nil {
			return err
		}
	}
	if f.packets == nil {
		return nil
	}
	return f.packets.ReadAll(func(line []byte, _ bool) {
		name, p, err := run.ParsePacket(line)
		if err != nil {
			return
		}
		if i := slices.IndexFunc(f.live.state.Views, func(v ViewState) bool { return v.Name == name }); i >= 0 {
			f.live.Packet(i, p)
		}
	})
}

func (f *follower) close() {
	for _, t := range f.tails {
		t.Close()
	}
	if f.packets != nil {
		f.packets.Close()
	}
}
