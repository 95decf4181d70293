package feed

import (
	"context"
	"fmt"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// A view that numbers its ticks from another beginning differs from the reference at every tick. What it is
// off by shows in the changes that both tell: by as many ticks as most of them are apart.
const (
	shiftChanges = 10     // of a view, at least
	shiftShare   = 0.6    // of them, that are apart by as much
	shiftSame    = 6      // ticks at which one thing came to one value, at most, to tell anything by
	shiftMost    = 200000 // changes of the reference that are kept
)

// change is a field that came to a value.
type change struct {
	entity trace.Entity
	field  trace.Field
	value  trace.Value
}

// tellShifts warns of views with findings that count their ticks from another beginning.
func tellShifts(ctx context.Context, traces Traces, v *judge.Verdict) error {
	if traces.Align != Tick || v.Outcome != judge.OutOfSync {
		return nil
	}
	names := trace.NewNames()
	if traces.Entities > 0 {
		names.Most = traces.Entities
	}
	said := map[change][]int64{}
	reference := traces.reference()
	for _, s := range traces.Sources {
		if s.View == reference {
			kept := 0
			err := changesOf(ctx, s.Path, names, func(c change, tick int64) {
				if kept++; kept <= shiftMost && len(said[c]) <= shiftSame {
					said[c] = append(said[c], tick)
				}
			})
			if err != nil {
				return err
			}
		}
	}
	for _, s := range traces.Sources {
		if s.View == reference || !hasFindings(v, s.View) {
			continue
		}
		changes, by := 0, map[int64]int{}
		err := changesOf(ctx, s.Path, names, func(c change, tick int64) {
			ticks := said[c]
			if len(ticks) == 0 || len(ticks) > shiftSame {
				return
			}
			changes++
			for _, t := range ticks {
				by[t-tick]++
			}
		})
		if err != nil {
			return err
		}
		shift, most := int64(0), by[0]
		for d, n := range by {
			if n > most {
				shift, most = d, n
			}
		}
		if shift == 0 || changes < shiftChanges || float64(most) < shiftShare*float64(changes) {
			continue
		}
		word := "later"
		if shift < 0 {
			word = "earlier"
		}
		v.Warnings = append(v.Warnings, judge.Warning{View: s.View, Text: fmt.Sprintf("%s has at its ticks what %s has %d ticks %s, in %d of %d changes: it counts them from another beginning, or is that far off",
			s.View, reference, max(shift, -shift), word, most, changes)})
	}
	return nil
}

func hasFindings(v *judge.Verdict, view string) bool {
	for _, f := range v.Findings {
		if f.View == view {
			return true
		}
	}
	return false
}

// changesOf hands on what a trace says has changed, after the first it says of each field, with the tick.
func changesOf(ctx context.Context, path string, names *trace.Names, each func(c change, tick int64)) error {
	file, err := open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	type place struct {
		entity trace.Entity
		field  trace.Field
	}
	before := map[place]trace.Value{}
	reader, r := trace.NewReader(file, names), trace.Record{}
	for steps := 0; reader.Next(&r) == nil; steps++ { // where it breaks off, what could be read counts
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if !r.HasTick {
			continue
		}
		for _, c := range r.State {
			at := place{c.Entity, c.Field}
			if was, known := before[at]; known && was != c.Value {
				each(change{c.Entity, c.Field, c.Value}, r.Tick)
			}
			before[at] = c.Value
		}
	}
	return nil
}
