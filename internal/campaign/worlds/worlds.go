package worlds

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/random"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/learn"
	"zitherwheel/internal/verdict/rulebook"
)

// Row is what came of one mistake, or of worlds without one.
type Row struct {
	Mistake   string         `json:"mistake"`
	Accepted  []judge.Kind   `json:"accepted"` // names that are right
	Worlds    int            `json:"worlds"`
	Showed    int            `json:"showed"` // worlds in which the view was wrong beyond doubt for two seconds
	Found     int            `json:"found"`
	First     int            `json:"first"`     // with a right name at the head of the first incident
	Blamed    int            `json:"blamed"`    // with findings in the guilty view alone
	Incidents int            `json:"incidents"` // of those that were found, in all
	Alarms    int            `json:"false_alarms"`
	Others    map[string]int `json:"others,omitempty"` // other names at the head, by how often
}

// Healthy is the name of worlds without a mistake.
const Healthy = "healthy"

// Options say which worlds are drawn.
type Options struct {
	Each     int  // of each mistake
	Healthy  int  // without one
	Ticks    bool // they number their steps, and are judged by ticks
	Learned  bool // they are judged by rules that were learned from a match of the same world without a mistake
	Progress func(done, all int)
}

// Run draws and judges worlds.
func Run(ctx context.Context, o Options) ([]Row, error) {
	type cell struct {
		row  int
		seed uint64
	}
	rows := []Row{{Mistake: Healthy}}
	var cells []cell
	for n := range o.Healthy {
		cells = append(cells, cell{0, uint64(n)})
	}
	for i, m := range mistakes {
		rows = append(rows, Row{Mistake: m.name, Accepted: m.accepted})
		for n := range o.Each {
			cells = append(cells, cell{i + 1, uint64(n)})
		}
	}
	var lock sync.Mutex
	done := 0
	err := campaign.Each(ctx, campaign.AtOnce(0, false), slices.Values(cells), func(c cell) error {
		var m *mistake
		if c.row > 0 {
			m = &mistakes[c.row-1]
		}
		showed, guilty, v := play(c.seed, m, o)
		lock.Lock()
		defer lock.Unlock()
		rows[c.row].add(m, showed, guilty, v)
		if done++; o.Progress != nil {
			o.Progress(done, len(cells))
		}
		return ctx.Err()
	})
	return rows, err
}

func (row *Row) add(m *mistake, showed bool, guilty string, v *judge.Verdict) {
	row.Worlds++
	if m == nil {
		if len(v.Findings) > 0 {
			row.Alarms++
			row.other(v.Findings[0])
		}
		return
	}
	if !showed {
		return
	}
	row.Showed++
	if len(v.Findings) == 0 {
		return
	}
	row.Found++
	row.Incidents += len(v.Incidents)
	if slices.Contains(m.accepted, v.Incidents[0].Kind) {
		row.First++
	} else {
		head := v.Findings[slices.IndexFunc(v.Findings, func(f *judge.Finding) bool { return f.ID == v.Incidents[0].Head })]
		row.other(head)
	}
	if !slices.ContainsFunc(v.Findings, func(f *judge.Finding) bool { return f.View != guilty }) {
		row.Blamed++
	}
}

func (row *Row) other(f *judge.Finding) {
	if row.Others == nil {
		row.Others = map[string]int{}
	}
	row.Others[fmt.Sprintf("%s (%s)", f.Kind, f.Subject)]++
}

// line is a line of a trace to come.
type line struct {
	view   int
	at     float64
	signal int     // its number from 1 on; 0: it is a record of the state
	moment float64 // of the world that it tells of
	tick   int64   // of that moment, where steps have numbers
	guess  int     // how many ticks ago the last was that it knew; 0: it is no guess
}

// play draws a world, makes a mistake in it, and judges it: by the rules of somebody who knows the
// game, or by what was learned from another match of it in which nothing was wrong.
func play(seed uint64, m *mistake, o Options) (showed bool, guilty string, v *judge.Verdict) {
	name := Healthy
	if m != nil {
		name = m.name
	}
	r := &draw{random.Stream(seed, "world/"+name)}
	w := build(r, o.Ticks)
	s := scene{world: w, mistake: m, victim: w.views[r.IntN(len(w.views))], wrongs: map[*thing]wrong{}}
	about := w.things[r.IntN(len(w.things))]
	s.from = r.between(4, 20)
	if m != nil && m.make != nil {
		for _, g := range w.things {
			if m.all || g == about {
				s.wrongs[g] = m.make(r, w, s.victim, g, s.from)
			}
		}
	}
	titles := []string{rulebook.Server}
	for _, v := range w.views {
		titles = append(titles, v.name)
	}
	rules := w.rules()
	if o.Learned {
		names := trace.NewNames()
		lesson := learn.NewMatch(names, titles)
		if o.Ticks {
			lesson.ByTicks()
		}
		right := scene{world: w, victim: s.victim, from: s.from}
		right.perform(&draw{random.Stream(seed, "lesson/"+name)}, names, lesson.Record)
		rules = learn.Learn([]*learn.Match{lesson}).Watched()
	}
	names := trace.NewNames()
	j := judge.New(judge.Config{Names: names, Rules: rules, Views: titles, Ticks: o.Ticks})
	apart := s.perform(r, names, j.Record)
	return apart > 2, s.victim.name, j.Finish()
}

// scene is a world, with what is wrong in it.
type scene struct {
	*world
	mistake *mistake // or nil
	victim  *view
	wrongs  map[*thing]wrong
	from    float64 // when it begins
}

// perform lets the world happen and hands on what everybody tells, in order of time. It returns for how
// long the victim was wrong beyond doubt, in seconds.
func (s *scene) perform(r *draw, names *trace.Names, hear func(view int, r *trace.Record)) (apart float64) {
	w, m, victim, wrongs, from := s.world, s.mistake, s.victim, s.wrongs, s.from
	lines := w.lines(r)
	for i, at := range w.signals.times {
		lines = append(lines, line{view: 0, at: at, signal: i + 1})
	}
	for i, v := range w.views {
		for n, list := range v.arrive(r, w.signals) {
			if m != nil && m.signals != nil && v == victim && list[0] >= from {
				right := len(list)
				if list = m.signals(r, list); len(list) != right || m.name == "signals late" && list[0]-w.signals.times[n] > 1 {
					apart = 3
				}
			}
			for _, at := range list {
				lines = append(lines, line{view: i + 1, at: at, signal: n + 1})
			}
		}
	}
	slices.SortStableFunc(lines, func(a, b line) int {
		switch {
		case a.at < b.at:
			return -1
		case a.at > b.at:
			return 1
		}
		return a.view - b.view
	})
	told := make([]memory, 1+len(w.views))
	for _, n := range lines {
		if n.signal > 0 {
			record := w.signals.record(n.signal-1, n.at)
			record.Round()
			hear(n.view, &record)
			continue
		}
		record := trace.Record{T: time.Duration(n.at * 1e9), Full: !w.changes, HasTick: w.ticks, Tick: n.tick}
		for _, g := range w.things {
			s := g.at(n.moment)
			if n.view > 0 {
				v := w.views[n.view-1]
				s = v.seen(g, n.moment)
				if wrong := wrongs[g]; wrong != nil && v == victim && n.moment >= from {
					right := s
					s = wrong(s, n.moment)
					if n.guess == 0 && w.differ(right, s) {
						apart += 1 / v.fps
					}
				}
				if n.guess > 0 && g == w.things[0] { // as it would go if nothing had happened since
					s.place, s.level = v.seen(g, n.moment-float64(n.guess)/w.rate).place, s.level+w.tolerance*2
				}
			}
			w.record(names, &record, g.name, s)
		}
		record.Round()
		if w.changes {
			record = told[n.view].changes(record)
		}
		hear(n.view, &record)
	}
	return apart
}

// memory is what a view has told so far.
type memory map[[2]int32]trace.Value

// changes leaves of a whole record what has not been told.
func (m *memory) changes(r trace.Record) trace.Record {
	now := memory{}
	for _, c := range r.State {
		now[[2]int32{int32(c.Entity), int32(c.Field)}] = c.Value
	}
	gone := map[trace.Entity]bool{}
	for key := range *m {
		if _, still := now[key]; !still {
			gone[trace.Entity(key[0])] = true
		}
	}
	r.State = slices.DeleteFunc(r.State, func(c trace.Change) bool {
		before, told := (*m)[[2]int32{int32(c.Entity), int32(c.Field)}]
		return told && before == c.Value
	})
	r.Despawned = slices.Sorted(maps.Keys(gone))
	*m = now
	return r
}

// differ reports whether two looks at a thing are not the same beyond doubt.
func (w *world) differ(a, b shown) bool {
	d := 0.0
	for k := range a.place {
		d += (a.place[k] - b.place[k]) * (a.place[k] - b.place[k])
	}
	return a.there != b.there || a.as != b.as || a.and != b.and || a.there && (math.Sqrt(d) > 4*w.tolerance || math.Abs(a.level-b.level) > 4*w.tolerance || a.count != b.count || a.flag != b.flag || a.mood != b.mood)
}
