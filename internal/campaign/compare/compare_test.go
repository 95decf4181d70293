package compare

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// side makes n matches from a seed on, in which a signature shows where it is said to.
func side(first uint64, n int, shows map[string]func(i int) bool, measures func(i int) map[string]float64) *Side {
	s := &Side{Version: sideVersion, What: "hunt", Title: "made up"}
	for i := range n {
		m := played.Match{Seed: first + uint64(i), Verdict: string(judge.InSync)}
		for signature, does := range shows {
			if does(i) {
				m.Verdict = string(judge.OutOfSync)
				m.Found = append(m.Found, played.Found{Signature: signature})
			}
		}
		if measures != nil {
			m.Measures = measures(i)
		}
		s.Matches = append(s.Matches, m)
	}
	return s
}

func every(n int) func(int) bool { return func(i int) bool { return i%n == 0 } }
func never(int) bool             { return false }

// Lines that programs log of errors are compared like signatures.
func TestLogLinesThatOnlyOneSideHas(t *testing.T) {
	before, after := side(1, 60, nil, nil), side(1, 60, nil, nil)
	for i := range after.Matches {
		before.Matches[i].Logs = []string{"warning logged by a client: slow"}
		after.Matches[i].Logs = []string{"error logged by the server: no entity #", "warning logged by a client: slow"}
	}
	r := Sides(before, after, ErrorRate)
	require.Len(t, r.Signatures, 2)
	assert.Equal(t, "error logged by the server: no entity #", r.Signatures[0].Signature)
	assert.Equal(t, []State{New, Still}, []State{r.Signatures[0].State, r.Signatures[1].State})
	assert.True(t, r.Worse())
}

func TestWhatBecomesOfASignature(t *testing.T) {
	for _, row := range []struct {
		what          string
		matches       int
		before, after func(int) bool
		state         State
		worse         bool
	}{
		{"one in twelve, then none of many", 240, every(12), never, Gone, false},
		{"one in twelve of 24, then none: that may be chance", 24, every(12), never, PerhapsGone, false},
		{"never, then once in 24: that may be chance", 24, never, every(24), PerhapsNew, false},
		{"never, then one in four", 60, never, every(4), New, true},
		{"one in twelve, then every other", 240, every(12), every(2), More, true},
		{"every other, then one in twelve", 240, every(2), every(12), Less, false},
		{"one in twelve, then one in ten", 240, every(12), every(10), Still, false},
	} {
		r := Sides(side(1, row.matches, map[string]func(int) bool{"ghost": row.before}, nil), side(1, row.matches, map[string]func(int) bool{"ghost": row.after}, nil), ErrorRate)
		require.Len(t, r.Signatures, 1, row.what)
		s := r.Signatures[0]
		assert.Equal(t, row.state, s.State, row.what)
		assert.Equal(t, row.worse, r.Worse(), row.what)
		assert.Equal(t, row.matches, r.SameSeeds, row.what)
		if row.state == PerhapsGone || row.state == PerhapsNew {
			assert.Positive(t, s.MoreMatches, row.what)
		}
	}
}

func TestWhatIsWorseStandsFirst(t *testing.T) {
	r := Sides(side(1, 200, map[string]func(int) bool{"a": every(3), "b": every(4), "c": never}, nil), side(900, 200, map[string]func(int) bool{"a": every(3), "b": never, "c": every(9)}, nil), ErrorRate)
	var order []string
	for _, s := range r.Signatures {
		order = append(order, s.Signature+" "+string(s.State))
	}
	assert.Equal(t, []string{"c new", "a still there", "b fixed"}, order)
	assert.Zero(t, r.SameSeeds)
	assert.Empty(t, r.Measures, "without the same seeds there is nothing to pair")
}

func TestSeedsThatShowItOnOneSideAloneAreNamed(t *testing.T) {
	r := Sides(side(1, 90, map[string]func(int) bool{"a": every(3)}, nil), side(1, 90, map[string]func(int) bool{"a": every(30)}, nil), ErrorRate)
	s := r.Signatures[0]
	assert.Equal(t, []int{27, 0}, []int{s.OnlyA, s.OnlyB})
	assert.Len(t, s.SeedsOnlyA, 20, "the first of them")
	assert.Equal(t, []uint64{4, 7, 10}, s.SeedsOnlyA[:3], "with the same seed, and in order")
	assert.Empty(t, s.SeedsOnlyB)
}

func TestMatchesThatCouldNotBePlayedDoNotCount(t *testing.T) {
	a := side(1, 10, map[string]func(int) bool{"a": every(2)}, nil)
	b := side(1, 10, map[string]func(int) bool{"a": every(2)}, nil)
	for i := range 5 {
		b.Matches[i] = played.Match{Seed: b.Matches[i].Seed, Verdict: played.Failed}
	}
	r := Sides(a, b, ErrorRate)
	assert.Equal(t, Summary{What: "hunt", Title: "made up", Matches: 5, InSync: 3, Failed: 5}, r.After)
	assert.Equal(t, 5, r.SameSeeds)
}

func TestMeasuresAreWorseOnlyIfThatIsNoChanceAndNoTrifle(t *testing.T) {
	before := func(i int) map[string]float64 {
		return map[string]float64{"same": 5, "noise": float64(i % 7), "slower": 100 + float64(i%5), "trifle": 1000, "faster": 50}
	}
	after := func(i int) map[string]float64 {
		return map[string]float64{"same": 5, "noise": float64((i + 3) % 7), "slower": 130 + float64(i%3), "trifle": 1001, "faster": 40}
	}
	r := Sides(side(1, 70, nil, before), side(1, 70, nil, after), ErrorRate)
	got := map[string][2]bool{}
	for _, m := range r.Measures {
		got[m.Name] = [2]bool{m.Worse, m.Better}
		assert.LessOrEqual(t, m.Low, m.Change)
		assert.GreaterOrEqual(t, m.High, m.Change)
	}
	assert.Equal(t, map[string][2]bool{"same": {}, "noise": {}, "slower": {true, false}, "trifle": {}, "faster": {false, true}}, got)
	assert.True(t, r.Worse())
	assert.Equal(t, "seed", r.PairedBy)
}

func recorded(t *testing.T, text string, seed uint64) string {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	p.Seed = seed
	folder := filepath.Join(t.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	return folder
}

const broken = "duration: 8s\ngame: {faults: [coarse-grid]}\nbots: [{name: fern}, {name: moss}]\n"
const fixed = "duration: 8s\nbots: [{name: fern}, {name: moss}]\n"

func TestTwoRunsAreComparedByView(t *testing.T) {
	a, err := Load(context.Background(), recorded(t, broken, 1), Playing{})
	require.NoError(t, err)
	b, err := Load(context.Background(), recorded(t, fixed, 1), Playing{})
	require.NoError(t, err)
	assert.Equal(t, "run", a.What)
	r := Sides(a, b, ErrorRate)
	assert.Equal(t, "view", r.PairedBy)
	require.NotEmpty(t, r.Measures)
	for _, m := range r.Measures {
		assert.LessOrEqual(t, m.Of, 2, m.Name)
	}
	require.NotEmpty(t, r.Signatures)
	assert.Equal(t, PerhapsGone, r.Signatures[0].State, "of one match each nothing is certain")
}

func TestPlansHuntsAndBaselinesAreLoadedAlike(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "broken.yaml")
	require.NoError(t, os.WriteFile(path, []byte(broken), 0o600))
	played, err := Load(context.Background(), path, Playing{Times: 8})
	require.NoError(t, err)
	p, err := plan.Load(path)
	require.NoError(t, err)
	_, err = hunt.Run(context.Background(), hunt.Options{Plan: p, Folder: filepath.Join(dir, "hunt"), First: p.Seed, Times: 8})
	require.NoError(t, err)
	hunted, err := Load(context.Background(), filepath.Join(dir, "hunt"), Playing{})
	require.NoError(t, err)
	assert.Equal(t, played.Matches, hunted.Matches)
	require.NoError(t, played.Keep(filepath.Join(dir, "baseline.json")))
	kept, err := Load(context.Background(), filepath.Join(dir, "baseline.json"), Playing{})
	require.NoError(t, err)
	assert.Equal(t, played, kept)
	assert.False(t, Sides(kept, hunted, ErrorRate).Worse(), "the same is not worse")
}

func TestWhatCannotBeComparedSaysSo(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for path, wrong := range map[string]string{
		filepath.Join(dir, "nothing"):                  "there is no such run, hunt, baseline or plan",
		write("odd.json", "{"):                         "not a baseline",
		write("old.json", `{"version": 9}`):            "not a baseline of version 2",
		write("empty.json", `{"version": 2}`):          "there is no match in it",
		write("plan.yaml", "duration: 5s\nbots: []\n"): "no bots",
		dir: "not a run folder",
	} {
		_, err := Load(context.Background(), path, Playing{Times: 1})
		assert.ErrorContains(t, err, wrong)
	}
	folder := recorded(t, fixed, 1)
	require.NoError(t, os.Remove(filepath.Join(folder, "findings.json")))
	side, err := Load(context.Background(), folder, Playing{})
	require.NoError(t, err, "a run without a verdict is judged")
	assert.Len(t, side.Matches, 1)
	_, err = run.Open(folder)
	assert.NoError(t, err)
}

// hunted draws a hunt of a plan with several faults of its own rates, and measures with
// heavy tails.
func hunted(random *rand.Rand, first uint64, n int, rates []float64) *Side {
	s := &Side{Version: sideVersion, What: "hunt", Title: "made up"}
	for i := range n {
		m := played.Match{Seed: first + uint64(i), Verdict: string(judge.InSync), Measures: map[string]float64{}}
		for k, rate := range rates {
			if random.Float64() < rate {
				m.Verdict = string(judge.OutOfSync)
				m.Found = append(m.Found, played.Found{Signature: fmt.Sprint("fault ", k)})
			}
		}
		for k := range 15 {
			m.Measures[fmt.Sprint("measure ", k)] = math.Exp(random.NormFloat64())
		}
		s.Matches = append(s.Matches, m)
	}
	return s
}

// Two hunts of the same plan are called different at most as often as the error rate
// says, whatever its faults and however many matches there are.
func TestEqualsAreSeldomCalledChanged(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 9))
	for _, rates := range [][]float64{{0.02}, {0.3}, {0.05, 0.05, 0.1, 0.02, 0.02, 0.01, 0.3}} {
		for _, n := range []int{6, 20, 160} {
			const pairs = 200
			for _, same := range []uint64{1, 10_000} { // the same seeds, and others
				worse := 0
				for range pairs {
					if Sides(hunted(random, 1, n, rates), hunted(random, same, n, rates), ErrorRate).Worse() {
						worse++
					}
				}
				assert.LessOrEqual(t, float64(worse)/pairs, 0.05, "rates %v, %d matches, second from seed %d", rates, n, same)
			}
		}
	}
}

// One of six after none of six is what chance does.
func TestOneAfterNoneIsNoEvidence(t *testing.T) {
	r := Sides(side(1, 6, nil, nil), side(1, 6, map[string]func(int) bool{"ghost": every(6)}, nil), ErrorRate)
	assert.False(t, r.Worse())
	assert.Equal(t, PerhapsNew, r.Signatures[0].State)
	assert.InDelta(t, 1, r.Signatures[0].P, 1e-9)
	assert.Positive(t, r.OutOfSync.MoreMatches)
}

// A change that is real is found, and in the first question too.
func TestARealChangeIsFound(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	found := 0
	for range 100 {
		r := Sides(hunted(random, 1, 160, []float64{0.02}), hunted(random, 1, 160, []float64{0.02, 0.15}), ErrorRate)
		if r.Worse() && r.OutOfSync.State == More {
			found++
		}
	}
	assert.Greater(t, found, 90)
}

// The bytes are the same each time: sums are made in one order.
func TestAComparisonHasTheSameBytesEachTime(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	a, b := hunted(random, 1, 50, []float64{0.3, 0.2}), hunted(random, 1, 50, []float64{0.3, 0.2})
	first, err := json.Marshal(Sides(a, b, ErrorRate))
	require.NoError(t, err)
	for range 10 {
		again, err := json.Marshal(Sides(a, b, ErrorRate))
		require.NoError(t, err)
		require.Equal(t, string(first), string(again))
	}
}
