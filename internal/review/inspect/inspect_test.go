package inspect

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

const ms = time.Millisecond

// recorded is a run of ten seconds in which a dog walks one unit a second; fern shows
// it late, moss stopped at three seconds, and fern's own counter is ahead by a step.
func recorded(t *testing.T) *run.Run {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(folder, run.About{Title: "x", Clock: "virtual", Views: []string{"server", "fern", "moss"}}, []byte("bots: [{name: fern}]"), names)
	require.NoError(t, err)
	dog, x, name, wool := names.Entity("dog/oak"), names.Field("x"), names.Field("name"), names.Field("wool")
	counter, n := names.Entity("count/er"), names.Field("n")
	for i := range 200 {
		at := time.Duration(i) * 50 * ms
		for view, late := range []time.Duration{0, 200 * ms, 0} {
			shown := max(0, at-late)
			if view == 2 {
				shown = min(shown, 3*time.Second)
			}
			step := 0.0
			if view == 1 {
				step = 1
			}
			require.NoError(t, f.Record(view, &trace.Record{T: at, Full: i%20 == 0, State: []trace.Change{
				{Entity: dog, Field: x, Value: trace.Number(shown.Seconds())}, {Entity: dog, Field: name, Value: names.Text("oak")}, {Entity: dog, Field: wool, Value: trace.Number(float64(view))},
				{Entity: counter, Field: n, Value: trace.Number(float64(i) + step)}}}))
		}
		require.NoError(t, f.Log(0, at, fmt.Sprintf("tick %d", i)))
		outcome := link.Outcome{Number: uint64(i + 1), Sent: at, Size: 100, Copies: 1, Arrives: [2]time.Duration{at + 20*ms}}
		switch i {
		case 62:
			require.NoError(t, f.Record(0, &trace.Record{T: at, Event: "bark", ID: "7", By: "oak"}))
			require.NoError(t, f.Record(2, &trace.Record{T: at, Input: "run", Seq: 4}))
			outcome.Copies, outcome.Dropped = 0, link.Lost
		case 63:
			outcome.Arrives[0] = at + 300*ms
		}
		require.NoError(t, f.Packet(2, link.Packet{Direction: link.Down, Outcome: outcome}))
	}
	require.NoError(t, f.Record(0, &trace.Record{T: 10 * time.Second, Despawned: []trace.Entity{dog}}))
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	run, err := run.Open(folder)
	require.NoError(t, err)
	return run
}

var rules = rulebook.Rules{Fields: []rulebook.Rule{
	{Entities: "dog/*", Fields: []string{"x"}, Compare: rulebook.Distance, Tolerance: 0.06, MaxDelay: 400 * ms},
	{Entities: "dog/*", Fields: []string{"name"}, MaxDelay: 400 * ms},
	{Entities: "count/*", Fields: []string{"n"}, MaxDelay: 400 * ms, MaxAhead: 400 * ms},
	{Entities: "*/*", Fields: []string{rulebook.Existence}, MaxDelay: 400 * ms},
}}

// verdictOf is what the judge says of a run.
func verdictOf(t testing.TB, run *run.Run, reference string) *judge.Verdict {
	t.Helper()
	traces := feed.Traces{Rules: rules, Reference: reference, MayHush: true}
	if _, err := os.Stat(run.PacketsPath()); err == nil {
		traces.Packets = run.PacketsPath()
	}
	for _, view := range run.About.Views {
		traces.Sources = append(traces.Sources, feed.Source{View: view, Path: run.ViewPath(view)})
	}
	said, err := feed.Judge(context.Background(), traces)
	require.NoError(t, err)
	return said.Verdict
}

func marks(s Sheet, field string) (list []judge.Stands) {
	for _, row := range s.Rows {
		if row.Field == field {
			for _, c := range row.Cells {
				list = append(list, c.Mark)
			}
		}
	}
	return list
}

func TestASheetSaysWhoBelievedWhat(t *testing.T) {
	run := recorded(t)
	w, err := Open(context.Background(), run, rules, verdictOf(t, run, "server"), "dog/oak", 5*time.Second, 8*time.Second)
	require.NoError(t, err)
	s := w.At(6 * time.Second)
	assert.Equal(t, []string{"server", "fern", "moss"}, s.Views)
	assert.Equal(t, []judge.Stands{theOne, judge.Delayed, judge.Differs}, marks(s, "x"))
	assert.Equal(t, []judge.Stands{theOne, judge.Same, judge.Same}, marks(s, "name"))
	assert.Equal(t, []judge.Stands{theOne, judge.Unjudged, judge.Unjudged}, marks(s, "wool"))
	assert.Equal(t, []judge.Stands{theOne, judge.Same, judge.Same}, marks(s, rulebook.Existence))
	x := s.Rows[1].Cells
	assert.InDelta(t, 3, *x[2].Gap, 0.5)
	assert.Equal(t, "6", x[0].Value)
	assert.Equal(t, "5.8", x[1].Value)
	assert.InDelta(t, 0.15, time.Duration(*x[1].Age).Seconds(), 0.06)
	assert.Equal(t, "3", x[2].Value)
	assert.InDelta(t, 3, time.Duration(*x[2].Since).Seconds(), 0.01, "from when on it shows that")
	assert.Nil(t, s.Rows[2].Cells[0].Since, "its name it has had for longer than is looked back")

	w, err = Open(context.Background(), run, rules, verdictOf(t, run, "server"), "count/er", 5*time.Second, 8*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []judge.Stands{theOne, judge.Ahead, judge.Same}, marks(w.At(6*time.Second), "n"))

	w, err = Open(context.Background(), run, rules, verdictOf(t, run, "server"), "dog/oak", 9*time.Second, 11*time.Second)
	require.NoError(t, err)
	s = w.At(10 * time.Second)
	assert.Equal(t, []string{"absent", "present"}, []string{s.Rows[0].Cells[0].Value, s.Rows[0].Cells[1].Value})
	assert.Equal(t, "-", s.Rows[1].Cells[0].Value)

	_, err = Open(context.Background(), run, rules, verdictOf(t, run, "server"), "dog/nobody", 5*time.Second, 8*time.Second)
	assert.EqualError(t, err, "no view says anything of dog/nobody around 5.000 s")
}

func TestAStoryIsToldInOrder(t *testing.T) {
	f := &judge.Finding{ID: "F1", Kind: judge.Frozen, View: "moss", Entity: "dog/oak", Subject: judge.ParseSubject("x"), BeganAt: judge.Seconds(3400 * ms)}
	chapters, err := Story(context.Background(), recorded(t), nil, f, "server", 2900*ms, 3500*ms)
	require.NoError(t, err)
	var told []string
	last := judge.Seconds(0)
	for _, c := range chapters {
		assert.GreaterOrEqual(t, c.At, last)
		last = c.At
		told = append(told, c.Who+" "+c.What+": "+c.Text)
	}
	text := strings.Join(told, "\n")
	for _, has := range []string{"server event: bark oak 7", "moss input: run (4)", "server log: tick 60", "link of moss packet: down 63, 100 bytes: lost",
		"link of moss packet: down 64, 100 bytes: late, 300 ms on the way, usually 20", "server state: dog/oak: x 3.05", "moss state: dog/oak: x 2.95"} {
		assert.Contains(t, text, has)
	}
	assert.NotContains(t, text, "moss state: dog/oak: x 3.05", "it stopped at 3")
	assert.NotContains(t, text, "fern")
}

func BenchmarkOpen(b *testing.B) {
	folder := filepath.Join(b.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(folder, run.About{Title: "x", Clock: "virtual", Views: []string{"server", "fern"}}, []byte("bots: [{name: fern}]"), names)
	require.NoError(b, err)
	x := names.Field("x")
	for i := range 20 * 600 { // ten minutes of thirty entities
		r := trace.Record{T: time.Duration(i) * 50 * ms}
		for n := range 30 {
			r.State = append(r.State, trace.Change{Entity: names.Entity(fmt.Sprintf("sheep/%d", n)), Field: x, Value: trace.Number(float64(i * n))})
		}
		for view := range 2 {
			require.NoError(b, f.Record(view, &r))
		}
	}
	require.NoError(b, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	run, err := run.Open(folder)
	require.NoError(b, err)
	verdict := verdictOf(b, run, "server")
	for b.Loop() {
		_, err := Open(context.Background(), run, rules, verdict, "sheep/7", 590*time.Second, 595*time.Second)
		require.NoError(b, err)
	}
}

func TestWhoHasLeftIsNotJudged(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(folder, run.About{Title: "x", Clock: "virtual", Views: []string{"server", "fern"}}, []byte("bots: [{name: fern}]"), names)
	require.NoError(t, err)
	state := []trace.Change{{Entity: names.Entity("dog/oak"), Field: names.Field("x"), Value: trace.Number(1)}}
	require.NoError(t, f.Record(1, &trace.Record{T: 0, Joined: "fern", Entity: "dog/fern"}))
	require.NoError(t, f.Record(1, &trace.Record{T: 1, Full: true, State: state}))
	require.NoError(t, f.Record(1, &trace.Record{T: 2 * time.Second, Left: "fern"}))
	for i := range 100 {
		state[0].Value = trace.Number(float64(i))
		at := time.Duration(i) * 100 * ms
		require.NoError(t, f.Record(0, &trace.Record{T: at, State: state}))
		require.NoError(t, f.Packet(1, link.Packet{Direction: link.Down, Outcome: link.Outcome{Number: uint64(i + 1), Sent: at, Size: 100, Copies: 1, Arrives: [2]time.Duration{at + 20*ms}}}))
	}
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	run, err := run.Open(folder)
	require.NoError(t, err)
	w, err := Open(context.Background(), run, rules, verdictOf(t, run, "server"), "dog/oak", 0, 10*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []judge.Stands{theOne, judge.Differs}, marks(w.At(1900*ms), "x"))
	assert.Empty(t, w.At(1900*ms).Left)
	assert.Equal(t, []judge.Stands{theOne, judge.Unjudged}, marks(w.At(3*time.Second), "x"))
	assert.Equal(t, []string{"fern"}, w.At(3*time.Second).Left)
}

func TestWhoHasToldNothingYetIsNotJudged(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(folder, run.About{Title: "x", Clock: "virtual", Views: []string{"server", "late"}}, []byte("bots: [{name: late}]"), names)
	require.NoError(t, err)
	state := []trace.Change{{Entity: names.Entity("dog/oak"), Field: names.Field("x"), Value: trace.Number(1)}}
	require.NoError(t, f.Record(0, &trace.Record{T: 0, Full: true, State: state}))
	require.NoError(t, f.Record(1, &trace.Record{T: time.Second, Input: "join"})) // of its player, not its own
	require.NoError(t, f.Record(1, &trace.Record{T: 2 * time.Second, Joined: "late", Entity: "dog/late"}))
	require.NoError(t, f.Record(1, &trace.Record{T: 3 * time.Second, Full: true, State: state}))
	require.NoError(t, f.Record(0, &trace.Record{T: 4 * time.Second, Full: true, State: state}))
	for i, at := range []time.Duration{0, time.Second, 2 * time.Second, 3 * time.Second} {
		require.NoError(t, f.Packet(1, link.Packet{Direction: link.Down, Outcome: link.Outcome{Number: uint64(i + 1), Sent: at, Size: 100, Copies: 1, Arrives: [2]time.Duration{at + 20*ms}}}))
	}
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	run, err := run.Open(folder)
	require.NoError(t, err)
	w, err := Open(context.Background(), run, rules, verdictOf(t, run, "server"), "dog/oak", 0, 4*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []judge.Stands{theOne, judge.Unjudged}, marks(w.At(1500*ms), "x"))
	assert.Equal(t, []string{"late"}, w.At(1500*ms).Silent)
	assert.Equal(t, []judge.Stands{theOne, judge.Differs}, marks(w.At(2700*ms), rulebook.Existence), "it is in, and lacks it")
	assert.Empty(t, w.At(2500*ms).Silent)
	assert.Equal(t, []judge.Stands{theOne, judge.Same}, marks(w.At(3*time.Second), "x"))
}

// Without a reference nobody is called one: each view is compared with most.
func TestAmongPeersTheOddOneOutIsMarked(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(dir, run.About{Views: []string{"ash", "fern", "oak"}}, []byte("x"), names)
	require.NoError(t, err)
	entity, x := names.Entity("dog/oak"), names.Field("x")
	for i := range 40 {
		for view := range 3 {
			value := float64(i)
			if view == 0 {
				value = 1
			}
			require.NoError(t, f.Record(view, &trace.Record{T: time.Duration(i) * 100 * ms, State: []trace.Change{{Entity: entity, Field: x, Value: trace.Number(value)}}}))
		}
	}
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	run, err := run.Open(dir)
	require.NoError(t, err)
	w, err := Open(context.Background(), run, rules, verdictOf(t, run, "none"), "dog/oak", time.Second, 3*time.Second)
	require.NoError(t, err)
	s := w.At(3 * time.Second)
	assert.Equal(t, "none", s.Reference)
	assert.Equal(t, []judge.Stands{judge.Differs, judge.Same, judge.Same}, marks(s, "x"))
}
