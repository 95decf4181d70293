package view

import (
	"context"
	"fmt"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/cost"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Cost is what the state of a recorded run costs on the wire, from what its server told and from
// the traffic that was measured.
func Cost(ctx context.Context, path string) (*cost.Report, error) {
	folder, err := run.Open(path)
	if err != nil {
		return nil, err
	}
	p, err := plan.Load(folder.PlanPath())
	if err != nil {
		return nil, err
	}
	views := folder.About.Views
	if len(views) == 0 || views[0] != rulebook.Server {
		return nil, fmt.Errorf("%s has no trace of a server, which tells the state that is sent", path)
	}
	said, err := feed.Recorded(ctx, folder, p)
	if err != nil {
		return nil, err
	}
	rules, err := feed.Rules(ctx, folder, p)
	if err != nil {
		return nil, err
	}
	file, err := trace.Open(folder.ViewPath(rulebook.Server))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	names := trace.AnyNames()
	c := cost.New(names, rules.Fields)
	reader := trace.NewReader(file, names)
	var rec trace.Record
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if reader.Next(&rec) != nil {
			break // its end, or where it breaks off, as the verdict has said
		}
		c.Record(&rec)
	}
	return c.Finish(len(views)-1, measured(said.Measures)), nil
}

// measured is what went over all links, while clients were in.
func measured(m *metrics.Measures) (t cost.Traffic) {
	if m == nil {
		return t
	}
	for _, v := range m.Views {
		t.Egress, t.Ingress = t.Egress+v.Down.BytesPerSecond, t.Ingress+v.Up.BytesPerSecond
	}
	t.PerPlayer = t.Egress / float64(max(1, len(m.Views)))
	t.PerHour = (t.Egress + t.Ingress) * 3600 / 1e9
	return t
}
