package feed

import (
	"bufio"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/clocksync"
	"zitherwheel/internal/verdict/rulebook"
)

// How the clocks of the views are brought together.
const (
	Shared    = "shared"    // they are one clock
	Tick      = plan.Tick   // equal ticks are compared
	Estimated = "estimated" // fitted, for each view
)

// Alignments lists them.
var Alignments = []string{Shared, Tick, Estimated}

// clocks turns the times of the views into those of the reference.
type clocks struct {
	fits  []*clocksync.Fit // by source; nil needs nothing
	ticks *tickTimes
}

// bring sets a record's time on the reference's clock.
func (k *clocks) bring(source int, r *trace.Record) {
	if k == nil {
		return
	}
	said := r.T
	switch {
	case k.ticks != nil:
		r.T = k.ticks.place(source, r)
	case k.fits[source] != nil:
		r.T = k.fits[source].Shared(r.T)
	}
	r.Said = said
}

// rewind is to be called before the lines of a source are brought, each time anew.
func (k *clocks) rewind(source int) {
	if k != nil && k.ticks != nil {
		k.ticks.latest[source] = k.ticks.began[source]
	}
}

// study reads the traces once to learn how their clocks relate.
func study(ctx context.Context, traces Traces) (*clocks, error) {
	switch {
	case traces.Align == Tick && !traces.OneClock:
		return studyTicks(ctx, traces)
	case traces.Align == Estimated:
		return studyClocks(ctx, traces)
	}
	return nil, nil
}

// tickTimes maps ticks to the time at which the reference said them.
type tickTimes struct {
	first, last     int64
	firstAt, lastAt time.Duration
	began, latest   []tickLine // by source: the first line with a tick, and the last so far
}

// tickLine is a line that told a tick.
type tickLine struct {
	tick int64
	said time.Duration
	any  bool
}

// place is the time of a record: of its tick, or as long after the last line with a tick
// as it was said.
func (k *tickTimes) place(source int, r *trace.Record) time.Duration {
	line := &k.latest[source]
	if r.HasTick {
		*line = tickLine{r.Tick, r.T, true}
		return k.at(r.Tick)
	}
	if !line.any {
		return k.firstAt
	}
	return k.at(line.tick) + r.T - line.said
}

func (k *tickTimes) at(tick int64) time.Duration {
	if k.last == k.first {
		return k.firstAt + time.Duration(tick-k.first)*time.Millisecond
	}
	return k.firstAt + time.Duration(math.Round(float64(tick-k.first)*float64(k.lastAt-k.firstAt)/float64(k.last-k.first)/1e3))*time.Microsecond
}

func studyTicks(ctx context.Context, traces Traces) (*clocks, error) {
	k := &tickTimes{began: make([]tickLine, len(traces.Sources)), latest: make([]tickLine, len(traces.Sources))}
	for i, s := range traces.Sources {
		err := walk(ctx, s.Path, func(r *trace.Record, _ *trace.Names) {
			if !r.HasTick {
				return
			}
			if !k.began[i].any {
				k.began[i] = tickLine{r.Tick, r.T, true}
			}
			switch {
			case i > 0:
			case k.lastAt == 0 && k.firstAt == 0:
				k.first, k.firstAt, k.last, k.lastAt = r.Tick, r.T, r.Tick, r.T
			case r.Tick > k.last:
				k.last, k.lastAt = r.Tick, r.T
			}
		})
		if err != nil {
			return nil, err
		}
	}
	if !k.began[0].any {
		return nil, &UnusableError{traces.Sources[0].Path, "no line has a tick, so ticks cannot be compared"}
	}
	return &clocks{ticks: k}, nil
}

func studyClocks(ctx context.Context, traces Traces) (*clocks, error) {
	k := &clocks{fits: make([]*clocksync.Fit, len(traces.Sources))}
	var reference map[string]*clocksync.Track
	for i, s := range traces.Sources {
		if i == 0 {
			continue
		}
		var exchanges []clocksync.Exchange
		if err := walk(ctx, s.Path, func(r *trace.Record, _ *trace.Names) {
			if r.HasPing {
				exchanges = append(exchanges, clocksync.Exchange{T: r.T, Ping: r.Ping, Server: r.ServerTime})
			}
		}); err != nil {
			return nil, err
		}
		fit, ok := clocksync.ByExchanges(exchanges)
		if !ok {
			var err error
			if reference == nil {
				if reference, err = tracks(ctx, traces.Sources[0].Path, traces.Rules); err != nil {
					return nil, err
				}
			}
			view, err := tracks(ctx, s.Path, traces.Rules)
			if err != nil {
				return nil, err
			}
			if fit, ok = clocksync.ByTrajectories(reference, view); !ok {
				return nil, &UnusableError{s.Path, "its clock cannot be estimated: fewer than three lines with ping and server_t, and nothing that both sides saw moving at matching times"}
			}
		}
		k.fits[i] = &fit
	}
	return k, nil
}

// mostPlaces bounds the memory of a look at trajectories.
const mostPlaces = 400_000

// tracks reads the ways of entities whose places the rules name.
func tracks(ctx context.Context, path string, rules rulebook.Rules) (map[string]*clocksync.Track, error) {
	list, places, count := map[string]*clocksync.Track{}, map[string][3]float64{}, 0
	err := walk(ctx, path, func(r *trace.Record, names *trace.Names) {
		moved := map[string]bool{}
		for _, c := range r.State {
			id, field := names.EntityID(c.Entity), names.FieldName(c.Field)
			at := rulebook.Find(rules.Fields, id, false, field)
			if at < 0 || rules.Fields[at].Compare != rulebook.Distance || math.IsNaN(c.Value.Float()) {
				continue
			}
			key := id + "." + rules.Fields[at].Label()
			p := places[key]
			p[slices.Index(rules.Fields[at].Fields, field)] = c.Value.Float()
			places[key], moved[key] = p, true
		}
		for key := range moved {
			if count++; count > mostPlaces {
				return
			}
			if list[key] == nil {
				list[key] = &clocksync.Track{}
			}
			k := list[key]
			if n := len(k.T); n > 0 && k.T[n-1] == r.T.Seconds() {
				k.Place[n-1] = places[key]
				continue
			}
			k.T, k.Place = append(k.T, r.T.Seconds()), append(k.Place, places[key])
		}
	})
	return list, err
}

// overlap reports a view that has no moment in common with the reference, so that their clocks may differ.
func overlap(inputs []*input, traces Traces) error {
	switch {
	case traces.Reference == rulebook.NoReference, traces.Align == Tick: // of ticks the judge says it
		return nil
	case traces.OneClock && traces.Align != Estimated: // it was gone before the other began
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
			text := fmt.Sprintf("it is of %.3f s to %.3f s and the reference of %.3f s to %.3f s, so they have no moment in common",
				in.first.Seconds(), in.latest.Seconds(), reference.first.Seconds(), reference.latest.Seconds())
			if unit := unitOf(in, reference); unit != "" {
				return &UnusableError{in.path, text + "; its times look like " + unit + " where the reference's are seconds: t is in seconds"}
			}
			return &UnusableError{in.path, text + "; if their clocks differ, try --align estimated"}
		}
	}
	return nil
}

// unitOf is the unit that the times of a view seem to be in, if those of the reference are seconds: both are
// about as long, in units that differ. It is "" if that is not so.
func unitOf(view, reference *input) string {
	share := float64(view.latest-view.first) / float64(reference.latest-reference.first)
	switch {
	case share > 500 && share < 2000:
		return "milliseconds"
	case share > 500e3 && share < 2e6:
		return "microseconds"
	}
	return ""
}

// walk reads every usable line of a trace.
func walk(ctx context.Context, path string, each func(*trace.Record, *trace.Names)) error {
	file, err := open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	names := trace.AnyNames()
	reader, record := trace.NewReader(file, names), trace.Record{}
	for steps := 0; reader.Next(&record) == nil; steps++ { // what is wrong with it shows when it is judged
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		each(&record, names)
	}
	return nil
}

// walkPackets reads when every packet was sent, and on which way.
func walkPackets(ctx context.Context, path string, each func(view []byte, d link.Direction, at time.Duration)) error {
	file, err := open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	lines := bufio.NewScanner(file) // what is wrong with them shows when it is judged
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for steps := 0; lines.Scan(); steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if view, d, at, ok := run.Sending(lines.Bytes()); ok {
			each(view, d, at)
		}
	}
	return nil
}
