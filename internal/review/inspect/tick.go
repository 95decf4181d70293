package inspect

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// AtTick is how a thing stood at a tick, by the last word of each view on it. Views that
// did not tell that tick are among the silent ones.
func AtTick(ctx context.Context, run *run.Run, rules rulebook.Rules, reference, entity string, tick int64) (Sheet, error) {
	w := &Window{reference: slices.Index(run.About.Views, reference), entity: entity, views: run.About.Views, rules: rules.Fields, names: trace.AnyNames()}
	thing := w.names.Entity(entity)
	for _, view := range w.views {
		list, own, told, err := w.tickOf(ctx, run.ViewPath(view), view, thing, tick)
		if err != nil {
			return Sheet{}, err
		}
		begins := never
		if told {
			begins = 0
		}
		w.said, w.own, w.members, w.begins = append(w.said, list), append(w.own, own), append(w.members, nil), append(w.begins, begins)
	}
	if !slices.ContainsFunc(w.said, func(list []said) bool { return list != nil }) {
		return Sheet{}, fmt.Errorf("no view says anything of %s at tick %d", entity, tick)
	}
	s := w.At(0)
	s.Tick = &tick
	for _, row := range s.Rows {
		for i := range row.Cells {
			row.Cells[i].Since = nil
		}
	}
	return s, nil
}

// tickOf is what a view had of a thing at a tick, whether it is its own, and whether the
// view told the tick. Going back to an earlier tick takes back what was told of later ones.
func (w *Window) tickOf(ctx context.Context, path, view string, thing trace.Entity, tick int64) (list []said, own, told bool, err error) {
	file, err := trace.Open(path)
	if err != nil {
		return nil, false, false, err
	}
	defer file.Close()
	reader, r := trace.NewReader(file, w.names), trace.Record{}
	there, values := false, map[trace.Field]trace.Value{}
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return nil, false, false, ctx.Err()
		}
		if reader.Next(&r) != nil {
			break // at the end, or where a file breaks off: what could be read counts
		}
		own = own || r.Joined == view && w.names.Entity(r.Entity) == thing
		picture := len(r.State) > 0 || r.Full || len(r.Despawned) > 0
		if r.Full || slices.Contains(r.Despawned, thing) {
			there = false
		}
		for _, c := range r.State {
			if c.Entity != thing {
				continue
			}
			if there = true; c.Field != trace.Exists {
				values[c.Field] = c.Value
				if !slices.Contains(w.fields, c.Field) {
					w.fields = append(w.fields, c.Field)
				}
			}
		}
		if !r.HasTick || !picture && (r.Event != "" || r.Joined != "" || r.Left != "") || r.Tick > tick {
			continue
		}
		list, told = nil, r.Tick == tick
		if !told {
			continue
		}
		list = append(list, said{0, trace.Exists, trace.Bool(there)})
		if there {
			for _, f := range slices.Sorted(maps.Keys(values)) {
				list = append(list, said{0, f, values[f]})
			}
		}
	}
	return list, own, told, nil
}
