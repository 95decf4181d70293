package feed

import (
	"context"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/learn"
)

// Learned reads what a match has to teach.
func Learned(ctx context.Context, traces Traces) (*learn.Match, error) {
	clocks, err := study(ctx, traces)
	if err != nil {
		return nil, err
	}
	var views []string
	for _, s := range traces.Sources {
		views = append(views, s.View)
	}
	names := trace.NewNames()
	if traces.Entities > 0 {
		names.Most = traces.Entities
	}
	m := learn.NewMatch(names, views)
	if traces.Align == Tick {
		m.ByTicks()
	}
	for i, s := range traces.Sources {
		if err := teach(ctx, m, names, clocks, i, s.Path); err != nil {
			return nil, err
		}
	}
	return m, tellLosses(ctx, m, traces)
}

// tellLosses says which packets to the views were lost, where that is known and their times are those
// of the traces.
func tellLosses(ctx context.Context, m *learn.Match, traces Traces) error {
	if traces.Packets == "" || traces.Align != "" && traces.Align != Shared {
		return nil
	}
	file, err := open(traces.Packets)
	if err != nil {
		return err
	}
	defer file.Close()
	number := map[string]int{}
	for i, s := range traces.Sources {
		number[s.View] = i
	}
	reader := run.NewPacketReader(file)
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		name, p, err := reader.Next()
		if err != nil { // its end; and where it breaks off, what could be read counts
			return nil
		}
		if view, known := number[name]; known && view > 0 && p.Direction == link.Down && p.Spoiled() {
			m.Lost(view, p.Sent)
		}
	}
}

// learn draws the rules for traces without any from themselves.
func (t *Traces) learn(ctx context.Context) error {
	m, err := Learned(ctx, *t)
	if err != nil {
		return err
	}
	rules := learn.Learn([]*learn.Match{m}).Watched()
	t.Rules.Fields = rules.Fields
	if len(t.Rules.Events) == 0 {
		t.Rules.Events = rules.Events
	}
	if len(t.Rules.Invariants) == 0 {
		t.Rules.Invariants = rules.Invariants
	}
	return nil
}

func teach(ctx context.Context, m *learn.Match, names *trace.Names, clocks *clocks, view int, path string) error {
	file, err := open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	clocks.rewind(view)
	reader, r := trace.NewReader(file, names), trace.Record{}
	latest := r.T
	for steps := 0; reader.Next(&r) == nil; steps++ { // where it breaks off, what could be read counts
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		clocks.bring(view, &r)
		r.T = max(r.T, latest)
		latest = r.T
		m.Record(view, &r)
	}
	return nil
}
