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
