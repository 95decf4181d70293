package inspect

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// AtTick is how an entity stood at a tick, by the last word of each view on it. Views that
// did not tell that tick are among the silent ones.
func AtTick(ctx context.Context, run *run.Run, rules rulebook.Rules, verdict *judge.Verdict, entity string, tick int64) (Sheet, error) {
	w := newWindow(run, rules, verdict, entity, 0, 0)
	e, some := w.names.Entity(entity), false
	own := make([]bool, len(w.views))
	for view, name := range w.views {
		list, itself, told, err := w.tickOf(ctx, run.ViewPath(name), name, e, tick)
		if err != nil {
			return Sheet{}, err
		}
		own[view], w.said[view], w.stays[view] = itself, list, nil
		if some = some || list != nil; told { // for the one moment that this window has
			w.stays[view] = []judge.Stay{{From: 0, Until: 1}}
		}
	}
	if !some {
		return Sheet{}, fmt.Errorf("no view says anything of %s at tick %d", entity, tick)
	}
	s := w.sheet(0, func(view int) []judge.Sight { return w.atTick(view, own[view]) })
	s.Tick = &tick
	for _, row := range s.Rows {
		for i := range row.Cells {
			row.Cells[i].Since = nil
		}
	}
	return s, nil
}

// atTick says how a view stands to the reference at the tick, by every rule.
func (w *Window) atTick(view int, own bool) (list []judge.Sight) {
	for i := range w.rules.Fields {
		rule := &w.rules.Fields[i]
		fits := slices.ContainsFunc(rule.Fields, func(field string) bool { return rulebook.Find(w.rules.Fields, w.entity, own, field) == i })
		if against := w.against(rule); fits && rule.Judged() && w.in(view, 0) && w.in(against, 0) {
			list = append(list, w.beside(view, against, rule))
		}
	}
	return list
}

// against is the view that the others are held against: the reference, or without one the
// first that agrees with most.
func (w *Window) against(rule *rulebook.Rule) int {
	if w.reference >= 0 {
		return w.reference
	}
	best, most := 0, -1
	for view := range w.views {
		agreeing := 0
		for other := range w.views {
			if w.in(view, 0) && w.in(other, 0) && w.beside(view, other, rule).Standing == judge.Same {
				agreeing++
			}
		}
		if agreeing > most {
			best, most = view, agreeing
		}
	}
	return best
}

// beside is how a view stands to another by a rule.
func (w *Window) beside(view, against int, rule *rulebook.Rule) judge.Sight {
	values := func(view int) (list []trace.Value) {
		for _, name := range rule.Fields {
			field := trace.Exists
			if name != rulebook.Existence {
				field = w.names.Field(name)
			}
			list = append(list, w.cell(view, field, "", 0).value)
		}
		return list
	}
	a, b := w.cell(view, trace.Exists, "", 0).value.IsTrue(), w.cell(against, trace.Exists, "", 0).value.IsTrue()
	if rule.Fields[0] != rulebook.Existence && !(a && b) {
		return judge.Sight{Rule: rule, Standing: judge.Unjudged}
	}
	return judge.Beside(rule, values(view), values(against))
}

// tickOf is what a view had of an entity at a tick, whether it is its own, and whether the
// view told the tick. Going back to an earlier tick takes back what was told of later ones.
func (w *Window) tickOf(ctx context.Context, path, view string, entity trace.Entity, tick int64) (list []said, own, told bool, err error) {
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
		own = own || r.Joined == view && w.names.Entity(r.Entity) == entity
		if r.Full || slices.Contains(r.Despawned, entity) {
			there = false
		}
		for _, c := range r.State {
			if c.Entity != entity {
				continue
			}
			if there = true; c.Field != trace.Exists {
				values[c.Field] = c.Value
				if !slices.Contains(w.fields, c.Field) {
					w.fields = append(w.fields, c.Field)
				}
			}
		}
		if !r.EndsTick() || r.Tick > tick {
			continue
		}
		list, told = nil, r.Tick == tick
		if !told {
			continue
		}
		list = append(list, said{0, trace.Exists, trace.Bool(there), ""})
		if there {
			for _, f := range slices.Sorted(maps.Keys(values)) {
				list = append(list, said{0, f, values[f], ""})
			}
		}
	}
	return list, own, told, nil
}
