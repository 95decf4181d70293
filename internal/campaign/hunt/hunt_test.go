package hunt

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
)

func parse(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	return p
}

const rare = `
title: rare
duration: 14s
seed: 100
game: {faults: [once-unreliable]}
links: {moor: {latency: 40ms, loss: 3%}}
bots: [{name: fern, link: moor}, {name: moss}, {name: oak, steps: [{do: join, at: 2s}, {do: roam}]}]
`

func hunted(t *testing.T, o Options) *Result {
	t.Helper()
	r, err := Run(context.Background(), o)
	require.NoError(t, err)
	return r
}

func TestARareFailureIsFoundWithItsShareAndForWhom(t *testing.T) {
	dir := t.TempDir()
	r := hunted(t, Options{Plan: parse(t, rare), Folder: dir, First: 100, Times: 60})
	assert.Equal(t, 60, r.Matches)
	require.NotEmpty(t, r.Signatures)
	s := r.Signatures[0]
	assert.Equal(t, "event-lost", string(s.Kind))
	assert.Equal(t, 60, r.InSync+s.Matches)
	assert.Less(t, s.Low, s.Share)
	assert.Greater(t, s.High, s.Share)
	conditions := map[string]Condition{}
	for _, c := range s.Conditions {
		conditions[c.What] = c
	}
	assert.Equal(t, s.Matches, conditions["on link moor"].Hit, "only who loses packets misses a bark")
	assert.Zero(t, conditions["on link perfect"].Hit)
	assert.Equal(t, 120, conditions["on link perfect"].Of)
	assert.Zero(t, conditions["joined 3rd"].Hit)
	assert.True(t, s.Example.Same, "the same seed shows the same again")
	again, err := run.Open(s.Example.Folder)
	require.NoError(t, err)
	assert.Equal(t, s.Example.Seed, again.About.Seed)

	text, err := os.ReadFile(filepath.Join(dir, "hunt.json"))
	require.NoError(t, err)
	var read Result
	require.NoError(t, json.Unmarshal(text, &read))
	assert.Equal(t, *r, read)
	_, err = Run(context.Background(), Options{Plan: parse(t, rare), Folder: dir, First: 100, Times: 60})
	assert.ErrorIs(t, err, ErrJournal)
}

// A hunt that is cut off anywhere and resumed comes to the same.
func TestAHuntMayBeGoneOnWith(t *testing.T) {
	whole := hunted(t, Options{Plan: parse(t, rare), Folder: t.TempDir(), First: 100, Times: 40})
	dir := t.TempDir()
	o := Options{Plan: parse(t, rare), Folder: dir, First: 100, Times: 25, Resume: true}
	hunted(t, o)
	journal := filepath.Join(dir, "matches.jsonl")
	text, err := os.ReadFile(journal)
	require.NoError(t, err)
	require.Equal(t, 25, strings.Count(string(text), "\n"))
	require.NoError(t, os.WriteFile(journal, text[:len(text)-len(text)/7], 0o600), "killed in the middle of a line")
	o.Times = 40
	r := hunted(t, o)
	assert.Equal(t, whole.Matches, r.Matches)
	assert.Equal(t, whole.InSync, r.InSync)
	for i := range whole.Signatures {
		assert.Equal(t, whole.Signatures[i].Seeds, r.Signatures[i].Seeds)
		assert.Equal(t, whole.Signatures[i].Conditions, r.Signatures[i].Conditions)
	}
	text, err = os.ReadFile(journal)
	require.NoError(t, err)
	assert.Equal(t, 40, strings.Count(string(text), "\n"), "none is counted twice")

	o.First = 7
	_, err = Run(context.Background(), o)
	assert.ErrorIs(t, err, ErrOther)
}

func TestAHuntEndsWhereItIsTold(t *testing.T) {
	r := hunted(t, Options{Plan: parse(t, rare), Folder: t.TempDir(), First: 100, UntilFound: 1, Crew: played.Here{Workers: 1}})
	assert.Equal(t, 1, r.Matches-r.InSync)
	ctx, cancel := context.WithCancel(context.Background())
	r, err := Run(ctx, Options{Plan: parse(t, rare), Folder: t.TempDir(), First: 1, Times: 100_000, Crew: played.Here{Workers: 2}, Progress: func(p Progress) {
		if p.Matches >= 5 {
			cancel()
		}
	}})
	require.NoError(t, err)
	assert.True(t, r.Stopped)
	assert.GreaterOrEqual(t, r.Matches, 5)
	assert.Less(t, r.Matches, 10)
}

// Until something was found so often: of which matches a hunt is does not depend on how many are played at once.
func TestAHuntUntilFoundIsOfTheSameMatches(t *testing.T) {
	var want *Result
	for _, workers := range []int{1, 2, 7} {
		r := hunted(t, Options{Plan: parse(t, rare), Folder: t.TempDir(), First: 100, UntilFound: 2, Crew: played.Here{Workers: workers}})
		for i := range r.Signatures {
			r.Signatures[i].Example.Folder = ""
		}
		if want == nil {
			want = r
		}
		assert.Equal(t, want, r, "%d at once", workers)
	}
	assert.Equal(t, 2, want.Matches-want.InSync)
}

func TestAMatchThatCannotBePlayedIsAResultOfItsOwn(t *testing.T) {
	p := parse(t, "clock: wall\nduration: 1s\ngame: {name: x}\nbuild: {server: {run: no-such-server}, client: {run: a}}\nbots: [{name: fern}]\nwatch: [{entities: '*/*', fields: existence}]")
	r := hunted(t, Options{Plan: p, Folder: t.TempDir(), First: 1, Times: 3})
	assert.Equal(t, 3, r.Matches)
	require.Len(t, r.Failed, 3)
	assert.Contains(t, r.Failed[0].Why, "server: the program is found")
}

// The interval must hold the true share in about 95 of 100 hunts.
func TestOrdinals(t *testing.T) {
	var list []string
	for _, n := range []int{1, 2, 3, 4, 11, 12, 13, 21, 102, 111} {
		list = append(list, nth(n))
	}
	assert.Equal(t, "1st 2nd 3rd 4th 11th 12th 13th 21st 102nd 111th", strings.Join(list, " "))
}

// Eight bots, a minute, nothing recorded.
// A hunt that was killed while it recorded an example records it again.
func TestAnExampleThatWasCutOffIsRecordedAgain(t *testing.T) {
	dir := t.TempDir()
	o := Options{Plan: parse(t, rare), Folder: dir, First: 100, Times: 20}
	r := hunted(t, o)
	require.NotEmpty(t, r.Signatures)
	about := filepath.Join(r.Signatures[0].Example.Folder, "about.json")
	text, err := os.ReadFile(about)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(about, []byte(strings.Replace(string(text), `"complete"`, `"running"`, 1)), 0o600))
	o.Resume = true
	again := hunted(t, o)
	assert.Equal(t, r.Signatures, again.Signatures)
	now, err := os.ReadFile(about)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(now))
}

// What the plan leaves to the seed is a condition like any other.
func TestWhatIsDrawnIsAmongTheConditions(t *testing.T) {
	r := hunted(t, Options{Plan: parse(t, rare+"draw: {links: [moor, same-room], values: {game.rates.send: [10, 20]}}\n"), First: 100, Times: 60})
	require.NotEmpty(t, r.Signatures)
	conditions := map[string]Condition{}
	for _, c := range r.Signatures[0].Conditions {
		conditions[c.What] = c
	}
	assert.Zero(t, conditions["on link same-room"].Hit)
	assert.Equal(t, 180, conditions["on link same-room"].Of+conditions["on link moor"].Of)
	assert.Equal(t, 180, conditions["in matches with game.rates.send 10"].Of+conditions["in matches with game.rates.send 20"].Of)
	assert.Positive(t, conditions["in matches with game.rates.send 10"].Of)
	var late int
	for what, c := range conditions {
		if strings.HasPrefix(what, "had more than") {
			late = c.Of
		}
	}
	assert.InDelta(t, 90, late, 20, "parted at the median")
	require.Len(t, r.Played, 60)
	assert.Contains(t, r.Played[0].Measures, "age-p95-ms")
}

// A recorded run counts as the match that it was in the hunt.
func TestARecordedRunIsTheMatchItWas(t *testing.T) {
	dir := t.TempDir()
	r := hunted(t, Options{Plan: parse(t, rare), Folder: dir, First: 100, Times: 30})
	require.NotEmpty(t, r.Signatures)
	example := r.Signatures[0].Example
	recorded, err := run.Open(example.Folder)
	require.NoError(t, err)
	match, measures, err := played.Recorded(context.Background(), recorded)
	require.NoError(t, err)
	assert.Len(t, measures.Views, 3)
	matches, err := Journal(dir)
	require.NoError(t, err)
	require.Len(t, matches, 30)
	assert.Equal(t, example.Seed, match.Seed)
	assert.Equal(t, matches[example.Seed-100], match)
	require.NoError(t, os.Remove(recorded.FindingsPath()))
	again, _, err := played.Recorded(context.Background(), recorded)
	require.NoError(t, err)
	assert.Equal(t, match, again, "a run that lost its verdict is judged again")
}

// Of a journal every whole line counts, and none twice.
func TestAJournalCountsNoMatchTwice(t *testing.T) {
	path := filepath.Join(t.TempDir(), journalName)
	require.NoError(t, os.WriteFile(path, []byte(`{"seed":2,"verdict":"in sync"}
{"seed":1,"verdict":"in sync"}
{"seed":2,"verdict":"failed"}
nonsense
{"seed":3,"verdict":"in s`), 0o600))
	matches, err := Journal(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, matches, 2)
	assert.Equal(t, []uint64{1, 2}, []uint64{matches[0].Seed, matches[1].Seed})
	assert.Equal(t, "in sync", matches[1].Verdict)
	_, err = Journal(t.TempDir())
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// BenchmarkHunt hunts in matches of 8 bots and 60 s, without recording, with one match
// at a time and with two. With two cores the second is to be nearly twice as fast.
func BenchmarkHunt(b *testing.B) {
	p, err := plan.Parse("p.yaml", []byte("duration: 60s\nbots: [{name: dog, count: 8, link: hill-farm}]"))
	require.NoError(b, err)
	for _, workers := range []int{1, 2} {
		b.Run(fmt.Sprintf("at-once-%d", workers), func(b *testing.B) {
			const matches = 8
			for b.Loop() {
				_, err := Run(context.Background(), Options{Plan: p, First: 1, Times: matches, Crew: played.Here{Workers: workers}})
				require.NoError(b, err)
			}
			b.ReportMetric(matches*float64(b.N)/b.Elapsed().Seconds(), "matches/s")
		})
	}
}

// silent is a crew that plays nothing.
type silent struct{ played.Here }

func (silent) Play(_ context.Context, p *plan.Plan) (played.Match, error) {
	return played.Match{Seed: p.Seed, Verdict: "in sync"}, nil
}

func TestMatchesOfTwoBuildsAreNotMixedInAHunt(t *testing.T) {
	build := t.TempDir()
	change := func(text string) { require.NoError(t, os.WriteFile(filepath.Join(build, "a"), []byte(text), 0o755)) }
	change("#!/bin/sh\n# the first")
	p := parse(t, "duration: 5s\ngame: {name: pond}\nbuild: {folder: "+build+", server: {run: ./a}, client: {run: ./a}}\nwatch: [{entities: '*/*', fields: existence}]\nbots: [{name: fern}]\n")
	o := Options{Plan: p, Folder: t.TempDir(), First: 1, Times: 3, Crew: silent{}}
	_, err := Run(context.Background(), o)
	require.NoError(t, err)
	o.Resume, o.Times = true, 5
	r, err := Run(context.Background(), o)
	require.NoError(t, err)
	assert.Equal(t, 5, r.Matches)
	change("#!/bin/sh\n# the second")
	_, err = Run(context.Background(), o)
	assert.ErrorIs(t, err, ErrBuild)
	assert.ErrorContains(t, err, "(a)")
}
