package judge

import (
	"fmt"
	"math"
	"testing"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// BenchmarkJudge measures the cost of a sample: one position of one entity in a
// client's record, held against the server's path, everything included.
func BenchmarkJudge(b *testing.B) {
	const entities, clients, records = 28, 8, 200
	m := newMatch()
	m.views = []string{"server"}
	for i := range clients {
		m.views = append(m.views, fmt.Sprint("client", i))
	}
	x, y := m.names.Field("x"), m.names.Field("y")
	snapshot := func(t float64) (list []trace.Change) {
		for e := range entities {
			sin, cos := math.Sincos(t/3 + float64(e))
			entity := m.names.Entity(fmt.Sprintf("sheep/s%d", e))
			list = append(list, trace.Change{Entity: entity, Field: x, Value: trace.Number(20 * cos)}, trace.Change{Entity: entity, Field: y, Value: trace.Number(20 * sin)})
		}
		return list
	}
	var lines []line
	for i := range records {
		t := float64(i) * 0.05
		lines = append(lines, line{view: 0, record: trace.Record{T: time.Duration(t * 1e9), State: snapshot(t)}})
		for c := range clients {
			if t < 0.5 { // what they show must have been said
				continue
			}
			lines = append(lines, line{view: c + 1, record: trace.Record{T: time.Duration(t * 1e9), State: snapshot(t - 0.2)}})
		}
	}
	samples := 0
	for b.Loop() {
		j := New(Config{Names: m.names, Rules: rulebook.Rules{Fields: m.rules}, Views: m.views})
		for i := range lines {
			j.Record(lines[i].view, &lines[i].record)
		}
		samples = j.Finish().Comparisons
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(samples), "ns/sample")
}

// BenchmarkQuestion is what the geometry alone costs of a sample: when was the path, about 26
// stretches of which may be asked, last within the tolerance of a place? It is asked as the judge
// asks, at the age at which the last one was found, and for the latest moment.
func BenchmarkQuestion(b *testing.B) {
	p := newPath(&rulebook.Rule{Compare: rulebook.Distance}, nil)
	const records = 200
	place := func(t float64) point {
		sin, cos := math.Sincos(t / 3)
		return point{20 * cos, 20 * sin}
	}
	for i := range records {
		t := time.Duration(i) * 50 * ms
		p.add(t, t-50*ms, place(t.Seconds()))
	}
	for name, ask := range map[string]func(v point, t time.Duration) bool{
		"as before": func(v point, t time.Duration) bool {
			i := p.seek(t - 200*ms)
			from, to := p.segment(i, t-1300*ms, t)
			_, _, d := p.near(i, v, 0.5, from, to)
			return d <= 0.5
		},
		"latest": func(v point, t time.Duration) bool {
			_, ok := p.latest(v, 0.5, t-1300*ms, t)
			return ok
		},
	} {
		b.Run(name, func(b *testing.B) {
			i := 30
			for b.Loop() {
				t := time.Duration(i)*50*ms - 10*ms
				if !ask(place((t - 200*ms).Seconds()), t) {
					b.Fatal("it was there")
				}
				if i++; i == records {
					i = 30
				}
			}
		})
	}
}
