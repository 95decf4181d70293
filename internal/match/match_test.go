package match

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// record plays a plan into a folder.
func record(t *testing.T, p *plan.Plan, folder string) *Result {
	r, err := Run(context.Background(), p, Options{Folder: folder})
	require.NoError(t, err)
	return r
}

// files reads every file below a folder.
func files(t *testing.T, folder string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(folder, path)
		all[filepath.ToSlash(name)] = string(text)
		return err
	}))
	return all
}

func TestTheSamePlanAndSeedGiveTheSameBytes(t *testing.T) {
	dir := t.TempDir()
	p := trialPlan(t, 5, "lost-goodbye", "train-window")
	record(t, p, filepath.Join(dir, "a"))
	record(t, p, filepath.Join(dir, "b"))
	a, b := files(t, filepath.Join(dir, "a")), files(t, filepath.Join(dir, "b"))
	for name, text := range a {
		assert.Equal(t, len(text), len(b[name]), name)
		assert.True(t, text == b[name], "%s differs", name)
	}
	assert.Len(t, b, len(a))
	assert.Contains(t, a, "views/fern.jsonl.zst")
	assert.Contains(t, a, "packets.jsonl.zst")
	assert.Contains(t, a, "logs/server.log")

	other := trialPlan(t, 6, "lost-goodbye", "train-window")
	record(t, other, filepath.Join(dir, "c"))
	assert.NotEqual(t, a["views/fern.jsonl.zst"], files(t, filepath.Join(dir, "c"))["views/fern.jsonl.zst"], "another seed")
}

// Things are numbered in another order when a match is read than when it is played, above
// all where players come back; that is not to show.
func TestARecordedMatchIsJudgedAsItWasLiveWhoeverComesBack(t *testing.T) {
	seeds := 3
	if testing.Short() {
		seeds = 1
	}
	for _, link := range []string{"same-room", "lost-valley"} {
		for seed := range seeds {
			p, err := plan.Parse("p.yaml", fmt.Appendf(nil, `
duration: 25s
seed: %d
bots: [{name: fern, link: %s}, {name: oak, steps: [{do: join, at: 4s}, {do: roam, for: 4s}, {do: idle}]}, {name: ash, link: %s, steps: [{do: join}, {do: roam}, {do: leave, at: 9s}, {do: rejoin, at: 15s}, {do: roam}]}]
`, seed+1, link, link))
			require.NoError(t, err)
			dir := t.TempDir()
			live := record(t, p, dir)
			folder, err := run.Open(dir)
			require.NoError(t, err)
			result, err := feed.Judge(context.Background(), feed.Run(folder, p))
			require.NoError(t, err)
			again, err := feed.EncodeVerdict(result.Verdict)
			require.NoError(t, err)
			assert.Equal(t, string(live.Findings), string(again), "%s seed %d", link, seed)
		}
	}
}

func TestARecordedMatchIsJudgedAsItWasLive(t *testing.T) {
	seeds := 2
	if testing.Short() {
		seeds = 1 // the race detector finds in one what it finds in all
	}
	for _, c := range []struct{ fault, link string }{{"", "far-shore"}, {"lost-goodbye", "far-shore"}, {"narrow-numbers", "train-window"}, {"kept-to-itself", "village"}} {
		for seed := range seeds {
			dir := t.TempDir()
			p := trialPlan(t, seed, c.fault, c.link)
			live := record(t, p, dir)
			folder, err := run.Open(dir)
			require.NoError(t, err)
			result, err := feed.Judge(context.Background(), feed.Run(folder, p))
			require.NoError(t, err)
			assert.Empty(t, result.Remarks)
			assert.Equal(t, live.Measures, result.Measures)
			again, err := feed.EncodeVerdict(result.Verdict)
			require.NoError(t, err)
			assert.True(t, string(live.Findings) == string(again), "%+v seed %d", c, seed)
			if testing.Short() {
				return
			}
		}
	}
}

// Adding a bot changes no other bot's link: the n-th packet has the same outcome.
func TestAnotherBotChangesNoOtherLink(t *testing.T) {
	outcomes := func(text string) (list []link.Outcome) {
		p, err := plan.Parse("plan.yaml", []byte(text))
		require.NoError(t, err)
		dir := t.TempDir()
		record(t, p, dir)
		folder, err := run.Open(dir)
		require.NoError(t, err)
		file, err := trace.Open(folder.PacketsPath())
		require.NoError(t, err)
		defer file.Close()
		for packets := run.NewPacketReader(file); ; {
			bot, p, err := packets.Next()
			if err != nil {
				return list
			}
			if bot == "fern" && p.Direction == link.Up {
				list = append(list, link.Outcome{Number: p.Number, Dropped: p.Dropped, Copies: p.Copies})
			}
		}
	}
	alone := outcomes("duration: 4s\nbots: [{name: fern, link: hill-farm}]\n")
	both := outcomes("duration: 4s\nbots: [{name: moss, link: hill-farm}, {name: fern, link: hill-farm}]\n")
	assert.Greater(t, len(alone), 100)
	n := min(len(alone), len(both))
	assert.Equal(t, alone[:n], both[:n])
}

func TestAnInterruptLeavesACompleteFolder(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	dir := t.TempDir()
	r, err := Run(ctx, trialPlan(t, 1, "", "village"), Options{Folder: filepath.Join(dir, "run")})
	require.NoError(t, err)
	assert.Equal(t, ending.Interrupted, r.Ending.How)
	folder, err := run.Open(filepath.Join(dir, "run"))
	require.NoError(t, err)
	assert.Equal(t, ending.Interrupted, folder.About.How)
	assert.FileExists(t, filepath.Join(dir, "run", "findings.json"))
}

func TestAClientThatNeverJoinsIsNamed(t *testing.T) {
	p, err := plan.Parse("plan.yaml", []byte("duration: 3s\nbots:\n  - {name: fern}\n  - {name: moss, link: dead}\n  - {name: oak, steps: [{do: join, at: 9s}]}\nlinks: {dead: {loss: 100%}}\n"))
	require.NoError(t, err)
	r, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	assert.Equal(t, []Absent{{Name: "moss"}, {Name: "oak"}}, r.NeverIn)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
}

// trialPlan is a match with a late joiner and one who leaves and returns.
func trialPlan(t testing.TB, seed int, fault, link string) *plan.Plan {
	p, err := plan.Parse("trial.yaml", fmt.Appendf(nil, `
duration: 40s
seed: %d
game: {faults: [%s]}
bots:
  - {name: fern, link: %s}
  - {name: moss, link: %s}
  - {name: oak, link: %s, steps: [{do: join, at: 8s}, {do: chase, kind: sheep, for: 6s}, {do: roam}]}
  - {name: ash, link: %s, steps: [{do: join}, {do: roam}, {do: leave, at: 20s}, {do: rejoin, at: 25s}, {do: roam}]}
`, seed, fault, link, link, link, link))
	require.NoError(t, err)
	return p
}
