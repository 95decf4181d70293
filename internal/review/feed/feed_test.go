package feed

import (
	"context"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

const ms = time.Millisecond

var rules = rulebook.Rules{Fields: []rulebook.Rule{
	{Entities: "cart/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.3, MaxDelay: 300 * ms, MinDuration: 400 * ms},
	{Entities: "cart/*", Fields: []string{"loaded"}, MaxDelay: 300 * ms, MinDuration: 400 * ms},
}}

// way is where the cart is.
func way(t float64) (x, y float64) { return 10*math.Sin(t/2) + t, 6 * math.Cos(t/1.7) }

// tell writes a view that shows the cart so much late, by a clock that is ahead.
func tell(late, ahead, until float64) string {
	var b strings.Builder
	for i := 0; float64(i)/10 < until; i++ {
		t := float64(i) / 10
		x, y := way(max(0, t-late))
		fmt.Fprintf(&b, "{\"t\":%.3f,\"state\":{\"cart/1\":{\"x\":%.3f,\"y\":%.3f}}}\n", t+ahead, x, y)
	}
	return b.String()
}

// files writes traces into a folder and names them as sources.
func files(t *testing.T, texts ...string) (traces Traces) {
	dir := t.TempDir()
	for i, text := range texts {
		name := [...]string{rulebook.Server, "fern", "moss", "ash"}[i]
		path := filepath.Join(dir, name+".jsonl")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		traces.Sources = append(traces.Sources, Source{name, path})
	}
	traces.Rules = rules
	return traces
}

func TestTracesFromElsewhere(t *testing.T) {
	server := tell(0, 0, 10)
	for _, c := range []struct {
		name  string
		texts []string
		set   func(*Traces)
		want  judge.Outcome
		fault string // part of the error
		says  string // part of a remark
	}{
		{"a view a little late", []string{server, tell(0.2, 0, 10)}, nil, judge.InSync, "", ""},
		{"a view too late", []string{server, tell(1, 0, 10)}, nil, judge.OutOfSync, "", ""},
		{"a view whose clock is ahead, taken for late", []string{server, tell(0.1, 1.5, 10)}, nil, judge.OutOfSync, "", ""},
		{"the same, with its clock estimated", []string{server, tell(0.1, 1.5, 10)}, func(t *Traces) { t.Align = Estimated }, judge.InSync, "", ""},
		{"a view of another day", []string{server, tell(0, 5000, 10)}, nil, "", "they have no moment in common; if their clocks differ, try --align estimated", ""},
		{"a view that was gone before the reference began, on one clock", []string{tell(0, 5, 10), "{\"t\":0.002,\"checkpoint\":\"asks to join\"}\n"},
			func(t *Traces) { t.OneClock = true }, judge.NothingCompared, "", ""},
		{"a view that tells milliseconds", []string{server, regexp.MustCompile(`"t":([0-9.]+)`).ReplaceAllString(tell(0, 1, 10), `"t":${1}e3`)}, nil, "",
			"its times look like milliseconds where the reference's are seconds: t is in seconds", ""},
		{"a view without a line", []string{server, ""}, nil, "", "the file is empty", ""},
		{"a view with a torn line only", []string{server, `{"t":1,"sta`}, nil, "", "its only line stops in the middle", ""},
		{"a view with nothing but malformed lines", []string{server, "{\"t\":}\n{\"x\":1}\n"}, nil, "", "not one usable line; 2 are malformed, the first in line 1", ""},
		{"a view with nothing but log text", []string{server, "hello\n"}, nil, "", "1 lines are not JSON objects", ""},
		{"a server without a line", []string{"", server}, nil, "", "the file is empty", ""},
		{"a field that changes its type", []string{server, tell(0, 0, 5) + `{"t":5,"state":{"cart/1":{"x":"far"}}}` + "\n{\"t\":9.9,\"mark\":\"end\"}\n"}, nil, judge.OutOfSync, "", ""},
		{"lines that go back in time", []string{server, tell(0, 0, 10) + `{"t":3,"checkpoint":"late"}` + "\n"}, nil, judge.InSync, "", "time runs backwards in 1 lines, by up to 6.900 s"},
		{"a unit that differs", []string{server, strings.NewReplacer(`"x":`, `"x":1`).Replace(server)}, nil, judge.OutOfSync, "", ""},
		{"no rule that fits", []string{server, server}, func(t *Traces) { t.Rules.Fields = t.Rules.Fields[1:] }, judge.NothingCompared, "", ""},
		{"no ticks", []string{server, server}, func(t *Traces) { t.Align = Tick }, "", "no line has a tick", ""},
		{"three peers, one of whom is odd", []string{"", server, server, tell(2, 0, 10)}, func(t *Traces) {
			t.Reference, t.Sources = rulebook.NoReference, t.Sources[1:]
		}, judge.OutOfSync, "", ""},
		{"peers who agree", []string{"", server, tell(0.1, 0, 10), tell(0.2, 0, 10)}, func(t *Traces) {
			t.Reference, t.Sources = rulebook.NoReference, t.Sources[1:]
		}, judge.InSync, "", ""},
		{"a client as the reference", []string{tell(5, 0, 10), server, tell(0.2, 0, 10)}, func(t *Traces) { t.Reference = "fern" }, judge.InSync, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			traces := files(t, c.texts...)
			if c.set != nil {
				c.set(&traces)
			}
			r, err := Judge(context.Background(), traces)
			if c.fault != "" {
				require.ErrorContains(t, err, c.fault)
				var unusable *UnusableError
				assert.ErrorAs(t, err, &unusable)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, r.Verdict.Outcome)
			var said []string
			for _, remark := range r.Remarks {
				said = append(said, remark.Text)
			}
			assert.Contains(t, strings.Join(said, "\n"), c.says)
		})
	}
}

func TestTheOddOneOutIsNamedOnce(t *testing.T) {
	traces := files(t, "", tell(0, 0, 10), tell(0.1, 0, 10), tell(2.5, 0, 10))
	traces.Reference, traces.Sources = rulebook.NoReference, traces.Sources[1:]
	r, err := Judge(context.Background(), traces)
	require.NoError(t, err)
	for _, f := range r.Verdict.Findings {
		assert.Equal(t, "ash", f.View)
		assert.Contains(t, f.Why, "2 of the 2 other views disagree with it")
	}
	require.Len(t, r.Verdict.Views, 3)
	assert.Zero(t, r.Verdict.Views[0].Findings)
	assert.Equal(t, len(r.Verdict.Findings), r.Verdict.Views[2].Findings)
	require.Len(t, r.Measures.Views, 3, "what can be measured without a server is")
	assert.Equal(t, "fern", r.Measures.Views[0].Name)
}

func TestHowWellAClockFitsIsSaid(t *testing.T) {
	view := tell(0, 40, 30)
	var b strings.Builder
	for i, line := range strings.SplitAfter(view, "\n") {
		b.WriteString(line)
		if i%10 == 5 {
			at := float64(i) / 10
			fmt.Fprintf(&b, "{\"t\":%.3f,\"ping\":0.060,\"server_t\":%.3f}\n", at+40+0.001, at+0.001-0.03)
		}
	}
	traces := files(t, tell(0, 0, 30), b.String())
	traces.Align = Estimated
	r, err := Judge(context.Background(), traces)
	require.NoError(t, err)
	assert.Equal(t, judge.InSync, r.Verdict.Outcome)
	assert.Equal(t, Estimated, r.Verdict.Alignment)
	fit := r.Verdict.Clocks["fern"]
	assert.Equal(t, "exchanges", fit.Method)
	assert.InDelta(t, -40, fit.Offset, 0.002)
	assert.InDelta(t, 0, fit.Residual, 1)
}

// recorded writes a small run folder, which is left as it is when ended is Running.
func recorded(t *testing.T, ended ending.How) string {
	dir := filepath.Join(t.TempDir(), "run")
	names := trace.NewNames()
	f, err := run.Create(dir, run.About{Title: "t", Views: []string{rulebook.Server, "fern", "moss"}}, []byte("bots: [{name: fern}, {name: moss}]\n"), names)
	require.NoError(t, err)
	entity, x, y := names.Entity("cart/1"), names.Field("x"), names.Field("y")
	for i := range 4000 {
		at := time.Duration(i) * 50 * ms
		px, py := way(at.Seconds())
		r := trace.Record{T: at, State: []trace.Change{{Entity: entity, Field: x, Value: trace.Number(px)}, {Entity: entity, Field: y, Value: trace.Number(py)}}}
		r.Round()
		for view := range 2 { // moss says nothing
			require.NoError(t, f.Record(view, &r))
		}
		require.NoError(t, f.Packet(1, link.Packet{Direction: link.Down, Outcome: link.Outcome{Number: uint64(i + 1), Sent: at, Size: 90, Copies: 1, Arrives: [2]time.Duration{at + 20*ms}}}))
	}
	if ended != ending.Running {
		require.NoError(t, f.Finish(ending.Ending{How: ended}, []byte("{}"), nil))
	}
	return dir
}

func TestARunWithASilentClientIsJudgedWithoutIt(t *testing.T) {
	folder, err := run.Open(recorded(t, ending.Complete))
	require.NoError(t, err)
	r, err := Judge(context.Background(), Run(folder, &plan.Plan{Rules: rules}))
	require.NoError(t, err)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome, "a client that said nothing agreed with nobody")
	require.Len(t, r.Verdict.Warnings, 2, "and one rule met nothing")
	assert.Equal(t, judge.Warning{View: "moss", Text: "moss was never in the match, so nothing of it was compared", Grave: true}, r.Verdict.Warnings[0])
	require.Len(t, r.Remarks, 1)
	assert.Equal(t, "moss", r.Remarks[0].View)
	assert.True(t, r.Verdict.Packets)
}

func TestARunThatWasKilledIsJudgedAsFarAsAllFilesReach(t *testing.T) {
	folder, err := run.Open(recorded(t, ending.Running)) // what was in the buffers is lost
	require.NoError(t, err)
	r, err := Judge(context.Background(), Run(folder, &plan.Plan{Rules: rules}))
	require.NoError(t, err)
	assert.Empty(t, r.Verdict.Findings, "that one file reaches farther than another is no finding")
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Contains(t, r.Verdict.NotWell(), "the recording was cut off; it is judged up to")
}

// A record of packets that is damaged would excuse what the link has nothing to do with.
func TestByABrokenRecordOfPacketsNothingIsExcused(t *testing.T) {
	dir := recorded(t, ending.Running)
	path := filepath.Join(dir, "packets.jsonl")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append([]byte("{\"link\":3}\nnoise\n"), text...), 0o600))
	folder, err := run.Open(dir)
	require.NoError(t, err)
	r, err := Judge(context.Background(), Run(folder, &plan.Plan{Rules: rules}))
	require.NoError(t, err)
	assert.False(t, r.Verdict.Packets)
	require.NotEmpty(t, r.Verdict.Warnings)
	assert.Equal(t, "packets unknown, so nothing is excused by what the links did: 2 lines of their record cannot be read", r.Verdict.Warnings[0].Text)
}

func TestJudgingCanBeStopped(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := Judge(ctx, files(t, tell(0, 0, 10), tell(0, 0, 10)))
	assert.ErrorIs(t, err, context.Canceled)
}

func TestAMissingFileIsNamed(t *testing.T) {
	traces := files(t, tell(0, 0, 1), tell(0, 0, 1))
	traces.Sources[1].Path += ".gone"
	_, err := Judge(context.Background(), traces)
	assert.ErrorContains(t, err, "fern.jsonl.gone")
}

// Many entities are a matter of time and memory, not of correctness.
func TestManyEntities(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"t":0,"full":true,"state":{`)
	for i := range 60_000 {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `"cart/%d":{"x":%d,"y":0}`, i, i)
	}
	b.WriteString("}}\n{\"t\":3,\"mark\":\"end\"}\n")
	r, err := Judge(context.Background(), files(t, b.String(), b.String()))
	require.NoError(t, err)
	assert.Equal(t, judge.InSync, r.Verdict.Outcome)
	assert.Equal(t, 60_000, r.Verdict.Views[0].Entities)
}

func TestMoreEntitiesThanAreAllowedAreSaidSoon(t *testing.T) {
	var b strings.Builder
	for i := range 300 {
		fmt.Fprintf(&b, "{\"t\":%d,\"state\":{\"cart/%d\":{\"x\":1,\"y\":1}}}\n", i, i)
	}
	traces := files(t, b.String(), b.String())
	traces.Entities = 200
	_, err := Judge(context.Background(), traces)
	assert.ErrorContains(t, err, "server.jsonl: more than 200 entities are named")
	traces.Entities = 300
	_, err = Judge(context.Background(), traces)
	assert.NoError(t, err)
}

// Tick by tick views are compared at ticks that both told, and whoever agrees with the
// server is not the odd one out.
func TestPeersAreComparedTickByTick(t *testing.T) {
	rules := rulebook.Rules{Fields: []rulebook.Rule{{Entities: "unit/*", Fields: []string{"x"}, Compare: rulebook.Distance}}}
	trace := func(clock float64, every, wrongFrom int) string {
		var b strings.Builder
		for tick := 0; tick < 200; tick += every {
			x := tick * tick
			if tick >= wrongFrom {
				x++
			}
			fmt.Fprintf(&b, `{"t":%.3f,"tick":%d,"state":{"unit/a":{"x":%d}}}`+"\n", clock+float64(tick)/20, tick, x)
		}
		return b.String()
	}
	for _, row := range []struct {
		name   string
		server string // "" is none
		views  map[string]string
		odd    []string
	}{
		{"one of three", "", map[string]string{"ash": trace(0, 1, 999), "fir": trace(7, 1, 120), "oak": trace(-3, 1, 999)}, []string{"fir"}},
		{"one that tells every fifth tick is right", "", map[string]string{"ash": trace(0, 1, 999), "fir": trace(0, 1, 999), "oak": trace(0, 5, 999)}, nil},
		{"one that tells every fifth tick is wrong", "", map[string]string{"ash": trace(0, 1, 999), "fir": trace(0, 1, 999), "oak": trace(0, 5, 100)}, []string{"oak"}},
		{"of two, nobody knows", "", map[string]string{"ash": trace(0, 1, 999), "fir": trace(0, 1, 120)}, []string{"ash", "fir"}},
		{"of two, the server knows", trace(0, 1, 999), map[string]string{"ash": trace(0, 1, 999), "fir": trace(0, 1, 120)}, []string{"fir"}},
		{"two are wrong alike, and the server knows", trace(0, 1, 999), map[string]string{"ash": trace(0, 1, 999), "fir": trace(0, 1, 120), "oak": trace(0, 1, 120)}, []string{"fir", "oak"}},
	} {
		t.Run(row.name, func(t *testing.T) {
			dir := t.TempDir()
			traces := Traces{Rules: rules, Align: Tick, Reference: rulebook.NoReference}
			add := func(view, text string) {
				path := filepath.Join(dir, view+".jsonl")
				require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
				traces.Sources = append(traces.Sources, Source{view, path})
			}
			if row.server != "" {
				add(rulebook.Server, row.server)
			}
			for _, view := range slices.Sorted(maps.Keys(row.views)) {
				add(view, row.views[view])
			}
			r, err := Judge(context.Background(), traces)
			require.NoError(t, err)
			var odd []string
			for _, f := range r.Verdict.Findings {
				odd = append(odd, f.View)
			}
			assert.Equal(t, row.odd, odd)
			assert.Len(t, r.Verdict.Views, len(row.views))
			assert.Equal(t, Tick, r.Verdict.Alignment)
		})
	}
}
