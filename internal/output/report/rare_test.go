package report

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

func TestAHuntIsToldWithItsConditions(t *testing.T) {
	r := &hunt.Result{Title: "dogs", Matches: 50, InSync: 45, Failed: []hunt.Failure{{Seed: 9, Why: "the server fell over"}}, Signatures: []hunt.Signature{
		{Signature: "ghost: sheep (other player's view)", Kind: judge.Ghost, Matches: 4, Share: 0.0816, Low: 0.032, High: 0.192, Seeds: []uint64{1, 5, 9, 12},
			Conditions: []hunt.Condition{{What: "joined 3rd", Hit: 4, Of: 49, Share: 0.08, Low: 0.03, High: 0.19}, {What: "joined 1st", Of: 98, High: 0.04}},
			Example:    hunt.Example{Seed: 5, Began: s(2.5), Folder: "h/examples/ghost-seed5", Same: true}}}}
	out := text(func(w *Text) { w.Hunt(r) })
	for _, want := range []string{
		"dogs: 50 matches, 45 in sync, 1 could not be played (the first: seed 9: the server fell over)",
		"1  ghost: sheep (other player's view)   in 8.2% of matches (4 of 49; 95% CI 3.2% to 19%)",
		"seeds 1, 5, 9, 12\n", "joined 3rd", "joined 1st",
		"earliest in seed 5, at 2.500 s; played again with recording and found again: zwheel why h/examples/ghost-seed5",
	} {
		assert.Contains(t, out, want)
	}
	r.Signatures[0].Example.Same = false
	assert.Contains(t, text(func(w *Text) { w.Hunt(r) }), "but NOT found again")
	for i := range 12 {
		r.Signatures[0].Conditions = append(r.Signatures[0].Conditions, hunt.Condition{What: fmt.Sprint("c", i), Of: 1})
	}
	out = text(func(w *Text) { w.Hunt(r) })
	assert.Contains(t, out, "c11", "the last two are shown too")
	assert.NotContains(t, out, "c5")
}

func TestHowFarAReplayFollowed(t *testing.T) {
	same := &replay.Followed{Clock: plan.Virtual, Same: true, Lines: 12410, Files: 13}
	assert.Equal(t, "THE SAME MATCH   12,410 lines in 13 files are the same\n", text(func(w *Text) { w.Followed(same) }))
	other := &replay.Followed{Clock: plan.Virtual, Differs: "what fern said differs from line 7 on"}
	assert.Equal(t, "NOT THE SAME MATCH   what fern said differs from line 7 on\n", text(func(w *Text) { w.Followed(other) }))
	wall := &replay.Followed{Clock: plan.Wall, Kept: []string{"ghost a"}, Gone: []string{"frozen b"}, New: []string{"offset c"}, Ways: []replay.WayFollowed{
		{Link: "fern", Direction: "up", Recorded: 375, Played: 370, Like: 372, SameSize: 300, LikeOutcomes: 370, Apart: 7.2, ApartP95: 23.5},
		{Link: "fern", Direction: "down", Recorded: 5, Played: 5, Like: 5, SameSize: 5, LikeOutcomes: 5}}}
	out := text(func(w *Text) { w.Followed(wall) })
	for _, want := range []string{"found again: ghost a", "not found again: frozen b", "found, and not in the recording: offset c", "372", "7.2 ms"} {
		assert.Contains(t, out, want)
	}
}

func TestWhyIsToldInASentenceAndATable(t *testing.T) {
	w := &replay.Why{Finding: "F1", Signature: "ghost", View: "fern", Began: 5.368, Proved: "With packet 57 delivered it is gone.", Suspects: 58, Replays: 15, Repeats: &replay.Repeats{Shown: 3, Of: 5}, Misses: 4,
		Packets:     []replay.Culprit{{Packet: 57, Link: "fern", Direction: "down", Sent: 4.7, Bytes: 283, Outcome: "lost"}},
		Counterpart: []string{"packet 60 down to fern"}, Enough: []string{"packet 57"}, Unproved: []string{"that the moon is not to blame"},
		Needs: []replay.Need{{What: "perfect links", There: true, Answer: replay.There}, {What: "nobody else", Answer: replay.Gone}, {What: "the moon", Answer: replay.Inconclusive}}}
	out := text(func(x *Text) { x.Why(w) })
	for _, want := range []string{"F1: ghost, fern at 5.368 s", "With packet 57 delivered it is gone.", "57       fern down   4.700 s   283     lost                not known",
		"Of these enough alone: packet 57.", "the loss of only this makes it:\n  packet 60 down to fern", "58 packets were lost, late or damaged before it. It took 15 matches.\nThe recorded match shows it in 3 of 5 repeats. So a variant has it if one of its matches shows it,\nand has not after 4 that do not, each of which is wrong in at most 5% of cases.",
		"Not proved: that the moon is not to blame."} {
		assert.Contains(t, out, want)
	}
	assert.Regexp(t, `perfect links +there\n +nobody else +gone\n +the moon +inconclusive`, out)
}

func TestASmallestPlanIsShownNotTooLong(t *testing.T) {
	shrunk := &replay.Shrunk{Signature: "ghost", Before: replay.Size{Bots: 8, Length: s(60), Inputs: 9000, Outcomes: 400}, After: replay.Size{Bots: 1, Length: s(3.8), Inputs: 1, Outcomes: 1}, Replays: 99, Stopped: true}
	out := text(func(w *Text) { w.Shrunk(shrunk, strings.Repeat("line\n", 100)) })
	assert.Regexp(t, `recorded +8 +60.0 s +9,000 +400`, out)
	assert.Regexp(t, `smallest +1 +3.8 s +1 +1`, out)
	assert.Contains(t, out, "lines more")
	assert.Contains(t, out, "It took 99 matches.")
	assert.Contains(t, out, "It was ended before nothing more could be left out")
}

// swept is a map of three by three with a border.
func swept() *sweep.Result {
	r := &sweep.Result{Title: "dogs", Axes: []sweep.Axis{{Path: "latency", Values: []string{"0ms", "50ms", "100ms"}}, {Path: "loss", Values: []string{"0%", "5%", "10%"}}}, Tolerate: 0.1, Played: 6, Matches: 60}
	for i, x := range r.Axes[0].Values {
		for j, y := range r.Axes[1].Values {
			p := sweep.Point{At: []int{i, j}, Values: []string{x, y}, Mark: sweep.Holds, Matches: 15, High: 0.2}
			switch {
			case i+j == 3:
				p.Mark, p.Failed, p.Matches, p.First = sweep.Between, 5, 60, "late gate"
			case i+j > 3:
				p.Mark, p.Failed, p.Matches, p.First = sweep.Fails, 2, 2, "ghost sheep"
			case i+j == 0:
				p.Inferred, p.Matches = true, 0
			}
			r.Points = append(r.Points, p)
		}
	}
	return r
}

func TestASweepIsDrawn(t *testing.T) {
	out := text(func(w *Text) { w.Sweep(swept()) })
	for _, want := range []string{"dogs: 6 of 9 points played, 60 matches; a point holds where at most about 10% of matches fail",
		"  10%  o ? #\n   5%  o o ?\n   0%  · o o\n", "0ms", "1  ghost sheep", "2  late gate"} {
		assert.Contains(t, out, want)
	}
	assert.Regexp(t, `from 0ms +10%\n +from 50ms +5%, undecided up to 10%\n +from 100ms +0%, undecided up to 5%`, out)
	r := swept()
	r.Axes, r.Points = r.Axes[:1], r.Points[:3]
	r.Points[0].Inferred = true
	out = text(func(w *Text) { w.Sweep(r) })
	assert.Contains(t, out, "holds, not played")
	assert.NotContains(t, out, "o holds, # fails")
}

func TestAComparisonIsTold(t *testing.T) {
	r := &compare.Result{Before: compare.Summary{What: "hunt", Title: "old", Matches: 40, InSync: 37}, After: compare.Summary{What: "plan", Title: "new", Matches: 40, InSync: 38, Failed: 2}, SameSeeds: 40, PairedBy: "seed",
		Signatures: []compare.Signature{
			{Signature: "offset x", State: compare.PerhapsNew, After: compare.Count{Matches: 2}, P: 0.49},
			{Signature: "ghost", State: compare.PerhapsGone, Before: compare.Count{Matches: 3, Low: 0.026, High: 0.2}, P: 0.24, MoreMatches: 1067, OnlyA: 5, SeedsOnlyA: []uint64{4, 8, 15, 16}, OnlyB: 1, SeedsOnlyB: []uint64{23}},
			{Signature: "frozen", State: compare.Gone, Before: compare.Count{Matches: 30}, P: 1e-9},
			{Signature: "late", State: compare.Still, P: 1}},
		Measures: []compare.Measure{{Name: "age", Before: 5, After: 5, Of: 40}, {Name: "bytes", Before: 100, After: 130, Change: 30, Low: 29, High: 31, Of: 40, Worse: true},
			{Name: "one", Before: 1, After: 2, Change: 1, Low: -math.MaxFloat32, High: math.MaxFloat32, Of: 1}}}
	out := text(func(w *Text) { w.Compare(r) })
	for _, want := range []string{`before  hunt "old": 40 matches, 37 in sync`, `after   plan "new": 40 matches, 38 in sync, 2 could not be played`, "40 matches with the same seed on both sides",
		"not enough matches to tell: 1,067 more on each side at this rate; only before with seed 4, 8, 15 and 2 more; only after with seed 23", "< 0.0001", "maybe new", "1 of 3 measures are the same", "of one, not known"} {
		assert.Contains(t, out, want)
	}
	assert.Regexp(t, `bytes +100 +130 +\+30 +\+29 to \+31 +worse`, out)
	assert.NotContains(t, out, "age ", "what is the same is only counted")
	out = text(func(w *Text) { w.Compare(&compare.Result{OutOfSync: compare.Signature{State: compare.Never}}) })
	assert.Contains(t, out, "Nothing failed on either side.")
	assert.Contains(t, out, "There are no measures that both sides have.")
}
