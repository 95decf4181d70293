package replay

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

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// record plays a plan and reads what was recorded.
func record(t *testing.T, text string) *Recording {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	run, err := run.Open(folder)
	require.NoError(t, err)
	r, err := Load(context.Background(), run)
	require.NoError(t, err)
	return r
}

// head is the finding that the first incident begins with.
func head(t *testing.T, r *Recording) *judge.Finding {
	t.Helper()
	require.NotEmpty(t, r.Verdict.Incidents, "the plan of this test must show something")
	for _, f := range r.Verdict.Findings {
		if f.ID == r.Verdict.Incidents[0].Head {
			return f
		}
	}
	t.Fatal("no head")
	return nil
}

const lostBark = `
duration: 14s
seed: 102
game: {faults: [once-unreliable]}
links: {moor: {latency: 40ms, jitter: 10ms, loss: 6%}}
bots: [{name: fern, link: moor}, {name: moss, link: moor}, {name: oak, link: moor, steps: [{do: join, at: 2s}, {do: roam}]}]
`

const lateGates = `
duration: 12s
game: {faults: [late-and-blind]}
links: {moor: {latency: 40ms, jitter: 10ms, loss: 6%}}
bots: [{name: fern, link: moor}, {name: moss, link: moor}, {name: oak, link: moor, steps: [{do: join, at: 4s}, {do: roam}]}]
`

func TestARecordedMatchWithAllItsOutcomesGivenIsTheSame(t *testing.T) {
	r := record(t, lostBark)
	lab := &Lab{}
	again, err := lab.play(context.Background(), r.Same(), match.Options{})
	require.NoError(t, err)
	text, err := os.ReadFile(r.Run.FindingsPath())
	require.NoError(t, err)
	assert.Equal(t, string(text), string(again.Findings))
}

func TestWhyNamesThePacketOfALostOneOff(t *testing.T) {
	r := record(t, lostBark)
	f := head(t, r)
	w, err := r.Why(context.Background(), &Lab{}, f)
	require.NoError(t, err)
	require.Len(t, w.Packets, 1)
	p := w.Packets[0]
	assert.Equal(t, []string{f.View, "down", "lost"}, []string{p.Link, p.Direction, p.Outcome})
	assert.Contains(t, p.Carries, "said once: bark")
	assert.InDelta(t, time.Duration(f.BeganAt).Seconds(), p.Sent, 0.5)
	assert.True(t, w.Gone)
	assert.True(t, w.There)
	assert.Less(t, w.Replays, 60)
	assert.Contains(t, w.Proved, fmt.Sprintf("With packet %d down to %s (said once: bark", p.Packet, f.View))
	assert.Contains(t, w.Proved, "delivered, the finding is gone; with only that packet lost")
	assert.Empty(t, w.Needs)
	require.Greater(t, len(w.Each), 1, "the packets beside it")
	for _, e := range w.Each {
		if it := e.Packet == p.Packet && e.Link == p.Link && e.Direction == p.Direction; it {
			assert.Equal(t, []Answer{Gone, There}, []Answer{e.Delivered.Answer, e.Alone.Answer})
			assert.InDelta(t, w.Began, e.Alone.Began, 0.2)
		} else {
			assert.Equal(t, []Answer{There, Gone}, []Answer{e.Delivered.Answer, e.Alone.Answer}, "%d %s", e.Packet, e.Direction)
		}
	}
}

func TestWhySaysWhenNoPacketMattersAndWhatDoes(t *testing.T) {
	r := record(t, lateGates)
	w, err := r.Why(context.Background(), &Lab{}, head(t, r))
	require.NoError(t, err)
	assert.Empty(t, w.Packets)
	assert.Contains(t, w.Proved, "No packet matters")
	assert.Contains(t, w.Proved, "the network plays no part in it")
	assert.Contains(t, w.Proved, "It takes oak joining late.")
	tried := map[string]bool{}
	for _, n := range w.Needs {
		tried[n.What] = n.There
	}
	assert.Equal(t, map[string]bool{"perfect links": true, "nobody else in the match": true, "oak joining at the start": false, "oak doing nothing but joining and leaving": true}, tried)
}

// A packet that only turned the match another way is not taken for the cause: two dogs
// that reach the bell at once need no packet.
func TestWhyDoesNotBlameAPacketThatOnlyChangedTheCourse(t *testing.T) {
	r := record(t, `
duration: 12s
seed: 3
game: {faults: [each-decides]}
links: {moor: {latency: 60ms, jitter: 20ms, loss: 8%}}
bots: [{name: fern, link: moor}, {name: moss, link: moor}]
`)
	f := head(t, r)
	w, err := r.Why(context.Background(), &Lab{}, f)
	require.NoError(t, err)
	if len(w.Packets) > 0 {
		assert.Positive(t, w.Without, w.Proved)
		assert.Contains(t, w.Proved, "But it takes no such packet")
	}
	assert.NotEmpty(t, w.Needs)
}

// Where it takes delay and no loss, it is said how much.
func TestWhySaysHowMuchDelayItTakes(t *testing.T) {
	r := record(t, `
duration: 8s
game: {faults: [told-twice], population: 2}
links: {moor: {latency: 64ms, jitter: 1ms}}
bots: [{name: fern, link: moor}, {name: moss, link: moor, steps: [{do: join}, {do: press, at: 3s, input: bark}]}]
`)
	w, err := r.Why(context.Background(), &Lab{}, head(t, r))
	require.NoError(t, err)
	assert.Empty(t, w.Packets)
	assert.Contains(t, w.Proved, "it takes delay, and no more than that of the network")
	there, gone := 0.0, 0.0
	for _, n := range w.Needs {
		var ms float64
		if _, err := fmt.Sscanf(n.What, "%f ms to", &ms); err == nil && n.There {
			there = ms
		} else if err == nil {
			gone = ms
		}
	}
	assert.Greater(t, there, gone)
	assert.InDelta(t, 0, there-gone, 3, "halved five times")
	assert.Less(t, there, 20.0, "messages are sent again after 25 ms")
}

// Where it takes a client that runs at another rate, or a small reach, it is said.
func TestWhySaysThatItTakesOtherRates(t *testing.T) {
	r := record(t, `
duration: 14s
game: {faults: [frame-paced], rates: {tick: 60, send: 30}}
bots: [{name: fern, fps: 30}, {name: moss}]
`)
	w, err := r.Why(context.Background(), &Lab{}, head(t, r))
	require.NoError(t, err)
	assert.Contains(t, w.Proved, "It takes a client with another frame rate than the game's.")
	assert.NotContains(t, w.Proved, "usual ones", "the rates of the server were other ones too, and do not matter")
	tried := map[string]bool{}
	for _, n := range w.Needs {
		tried[n.What] = n.There
	}
	assert.Equal(t, true, tried["the game's usual rates"])
	assert.Equal(t, false, tried["all clients at the game's frame rate"])
	assert.NotContains(t, tried, "a place for everybody", "there was one already, so that is not tried")
}

func TestWhyOnASignatureThatDoesNotComeAgain(t *testing.T) {
	r := record(t, lateGates)
	f := *head(t, r)
	f.Signature = "ghost: sheep (other player's view)"
	_, err := r.Why(context.Background(), &Lab{}, &f)
	assert.ErrorIs(t, err, ErrNotThere)
}

func TestShrinkLeavesWhatItTakes(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector finds in the other ones what there is")
	}
	for _, row := range []struct {
		what, plan        string
		bots, outcomes    int
		length            time.Duration
		story             string
		matches           int
		mentionsTheFaults bool
	}{
		{"a lost one-off: one packet", lostBark, 2, 1, 7 * time.Second, "said once: bark", 300, true},
		{"what late joiners are not told: no packet", lateGates, 1, 0, 6 * time.Second, "missing", 300, true},
	} {
		t.Run(row.what, func(t *testing.T) {
			r := record(t, row.plan)
			f := head(t, r)
			s, err := r.Shrink(context.Background(), &Lab{}, f, 300)
			require.NoError(t, err)
			assert.False(t, s.Stopped)
			assert.LessOrEqual(t, s.Replays, row.matches)
			assert.LessOrEqual(t, s.After.Bots, row.bots)
			assert.LessOrEqual(t, time.Duration(s.After.Length), row.length)
			assert.Equal(t, row.outcomes, s.After.Outcomes)
			text, err := s.Text("a test", ".")
			require.NoError(t, err)
			assert.Contains(t, string(text), "# The smallest plan found that still shows: "+f.Signature)
			assert.Contains(t, string(text), row.story)
			assert.Less(t, strings.Count(string(text), "\n"), 60, "a person can read it:\n%s", text)
			again, err := plan.Parse("smallest.yaml", text)
			require.NoError(t, err, "%s", text)
			result, err := match.Run(context.Background(), again, match.Options{})
			require.NoError(t, err)
			assert.NotNil(t, Target{Signature: f.Signature}.In(result.Verdict), "%s", text)
			again.Game.Faults = nil
			result, err = match.Run(context.Background(), again, match.Options{})
			require.NoError(t, err)
			assert.Equal(t, judge.InSync, result.Verdict.Outcome, "without the fault it is in sync")
		})
	}
}

func TestShrinkWritesTheSmallestSoFarWhenItMayPlayNoMore(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector finds in the other ones what there is")
	}
	r := record(t, lostBark)
	f := head(t, r)
	s, err := r.Shrink(context.Background(), &Lab{}, f, 20)
	require.NoError(t, err)
	assert.True(t, s.Stopped)
	result, err := match.Run(context.Background(), s.Plan, match.Options{})
	require.NoError(t, err)
	assert.NotNil(t, Target{Signature: f.Signature}.In(result.Verdict))
}

// With hardly any matches to play there is nothing smaller to write, and that is said.
func TestShrinkWithTooFewMatchesSaysSo(t *testing.T) {
	r := record(t, lostBark)
	for _, most := range []int{-1, 0, 1, 2} {
		_, err := r.Shrink(context.Background(), &Lab{}, head(t, r), most)
		assert.ErrorIs(t, err, ErrEnough, "%d", most)
	}
}

// Who interrupts it has the smallest plan until then.
func TestShrinkWritesTheSmallestSoFarWhenItIsInterrupted(t *testing.T) {
	r := record(t, lostBark)
	f := head(t, r)
	ctx, cancel := context.WithCancel(context.Background())
	steps := 0
	s, err := r.Shrink(ctx, &Lab{Tell: func(text string) {
		if strings.Contains(text, "trying") {
			if steps++; steps == 4 {
				cancel()
			}
		}
	}}, f, 300)
	require.NoError(t, err)
	assert.True(t, s.Stopped)
	assert.Less(t, time.Duration(s.After.Length), 14*time.Second)
	result, err := match.Run(context.Background(), s.Plan, match.Options{})
	require.NoError(t, err)
	assert.NotNil(t, Target{Signature: f.Signature}.In(result.Verdict))
}

func TestAgainIsTheSameOrSaysWhereItIsNot(t *testing.T) {
	r := record(t, lostBark)
	followed, _, err := r.Again(context.Background(), &Lab{}, filepath.Join(t.TempDir(), "again"), match.Options{})
	require.NoError(t, err)
	assert.True(t, followed.Same)
	assert.Greater(t, followed.Lines, 1000)

	// A recording of which one value is another.
	path := r.Run.ViewPath("moss")
	file, err := trace.Open(path)
	require.NoError(t, err)
	var text strings.Builder
	buffer := make([]byte, 1<<20)
	for {
		n, err := file.Read(buffer)
		text.Write(buffer[:n])
		if err != nil {
			break
		}
	}
	require.NoError(t, file.Close())
	require.NoError(t, os.Remove(path))
	changed := strings.Replace(text.String(), `"joined":"fern"`, `"joined":"FERN"`, 1)
	require.NotEqual(t, text.String(), changed)
	require.NoError(t, os.WriteFile(strings.TrimSuffix(path, ".zst"), []byte(changed), 0o600))
	followed, _, err = r.Again(context.Background(), &Lab{}, filepath.Join(t.TempDir(), "again"), match.Options{})
	require.NoError(t, err)
	assert.False(t, followed.Same)
	assert.Contains(t, followed.Differs, "what moss said differs from line ")
	assert.Contains(t, followed.Differs, "FERN")
}

func TestTheFirstOfSeveralIsTheFirstHoweverManyPlayAtOnce(t *testing.T) {
	r := record(t, lateGates)
	target := Target{Signature: head(t, r).Signature}
	gone := r.Same()
	p := *gone.Plan
	p.Game.Faults = nil
	gone.Plan = &p
	for _, workers := range []int{1, 2, 5} {
		variants := []played.Variant{gone, gone, r.Same(), gone, r.Same()}
		i, err := (&Lab{Workers: workers}).first(context.Background(), len(variants), func(i int) played.Variant { return variants[i] }, target)
		require.NoError(t, err)
		assert.Equal(t, 2, i, "%d at once", workers)
	}
	i, err := (&Lab{}).first(context.Background(), 2, func(int) played.Variant { return gone }, target)
	require.NoError(t, err)
	assert.Equal(t, -1, i)
}

func TestALabStopsWhenItIsTold(t *testing.T) {
	r := record(t, lateGates)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := r.Why(ctx, &Lab{}, head(t, r))
	assert.ErrorIs(t, err, context.Canceled)
}

func TestWhatABotDidAsSteps(t *testing.T) {
	at := func(ms int, a bot.Action) bot.Moment {
		return bot.Moment{At: time.Duration(ms) * time.Millisecond, Action: a}
	}
	steps := stepsOf([]bot.Moment{
		at(100, bot.Action{Join: true}),
		at(500, bot.Action{Move: 1, Turn: 1}),
		at(900, bot.Action{Move: 1, Turn: -0.25, Run: true, Press: "bark"}),
		at(1200, bot.Action{}),
		at(2000, bot.Action{Leave: true}),
	})
	ms := time.Millisecond
	assert.Equal(t, []bot.Step{
		{Do: bot.Join, At: 100 * ms},
		{Do: bot.Hold, At: 500 * ms, Inputs: []string{"forward", "left"}},
		{Do: bot.Press, At: 900 * ms, Input: "bark"},
		{Do: bot.Hold, At: 900 * ms, Inputs: []string{"forward", "run"}, Turn: -0.25},
		{Do: bot.Idle, At: 1200 * ms},
		{Do: bot.Leave, At: 2000 * ms},
	}, steps)
}

// BenchmarkReplays shows how many matches why and shrink take, and how long, for a
// finding of 8 bots in 60 s.
func BenchmarkReplays(b *testing.B) {
	p, err := plan.Parse("p.yaml", []byte("duration: 60s\ngame: {faults: [once-unreliable]}\nbots: [{name: dog, count: 8, link: hill-farm}]\n"))
	require.NoError(b, err)
	folder := filepath.Join(b.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(b, err)
	run, err := run.Open(folder)
	require.NoError(b, err)
	r, err := Load(context.Background(), run)
	require.NoError(b, err)
	last := r.Verdict.Findings[len(r.Verdict.Findings)-1]
	b.Run("why", func(b *testing.B) {
		replays := 0
		for b.Loop() {
			w, err := r.Why(context.Background(), &Lab{}, last)
			require.NoError(b, err)
			replays += w.Replays
		}
		b.ReportMetric(float64(replays)/float64(b.N), "matches")
	})
	b.Run("shrink", func(b *testing.B) {
		replays := 0
		for b.Loop() {
			s, err := r.Shrink(context.Background(), &Lab{}, last, 300)
			require.NoError(b, err)
			replays += s.Replays
		}
		b.ReportMetric(float64(replays)/float64(b.N), "matches")
	})
}
