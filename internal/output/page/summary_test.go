package page_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/output/page"
)

const evil = `<script>alert(1)</script>"'><img src=x onerror=alert(1)>`

func hunted() *hunt.Result {
	return &hunt.Result{Title: evil, Matches: 9, InSync: 5, Stopped: true, Failed: []hunt.Failure{{Seed: 3, Why: evil}}, Signatures: []hunt.Signature{
		{Signature: "ghost " + evil, Kind: "ghost", Matches: 4, Share: 0.5, Low: 0.2, High: 0.8, Seeds: []uint64{1, 2},
			Conditions: []hunt.Condition{{What: "is " + evil, Hit: 4, Of: 8, Share: 0.5, Low: 0.2, High: 0.8}}, Example: hunt.Example{Seed: 2, Began: 2.5e9, Folder: "h/" + evil}}}}
}

func sweptPage() *sweep.Result {
	r := &sweep.Result{Title: evil, Axes: []sweep.Axis{{Path: evil, Values: []string{"0ms", "9ms"}}, {Path: "loss", Values: []string{"0%", evil}}}, Tolerate: 0.1}
	for i := range 4 {
		r.Points = append(r.Points, sweep.Point{At: []int{i / 2, i % 2}, Values: []string{"a", evil}, Mark: []sweep.Mark{sweep.Holds, sweep.Fails, sweep.Between, sweep.Failed}[i], Matches: i, First: evil})
	}
	return r
}

func compared() *compare.Result {
	return &compare.Result{Before: compare.Summary{What: "run", Title: evil, Matches: 1}, After: compare.Summary{What: "run", Title: evil, Matches: 1}, PairedBy: "view",
		Signatures: []compare.Signature{{Signature: evil, State: compare.PerhapsGone, MoreMatches: 12, Before: compare.Count{Matches: 1, Share: 1, Low: 0.2, High: 1}}},
		Measures:   []compare.Measure{{Name: evil, Before: 1, After: 2, Change: 1, Low: 0.5, High: 1.5, Of: 4, Worse: true}}}
}

// summaries are the pages of several matches, made of what is hostile.
func summaries(t *testing.T) map[string]string {
	t.Helper()
	pages := map[string]string{}
	for name, write := range map[string]func(*bytes.Buffer) error{
		"hunt": func(b *bytes.Buffer) error { return page.Hunt(b, hunted()) },
		"quiet": func(b *bytes.Buffer) error {
			return page.Hunt(b, &hunt.Result{Title: "quiet", Matches: 30, InSync: 30})
		},
		"sweep":   func(b *bytes.Buffer) error { return page.Sweep(b, sweptPage(), nil) },
		"compare": func(b *bytes.Buffer) error { return page.Compare(b, compared()) },
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b), name)
		pages[name] = b.String()
	}
	return pages
}

func TestThePagesOfSeveralMatchesAreWellFormedAndRunNothing(t *testing.T) {
	for name, text := range summaries(t) {
		wellFormed(t, text, 0)
		assert.NotContains(t, text, "<script", name)
		assert.NotContains(t, text, "<img", name)
		assert.NotContains(t, text, "ZgotmplZ", name)
		assert.NotRegexp(t, `(src|href)="?(https?:)?//`, text, "%s: nothing comes from elsewhere", name)
		assert.Contains(t, text, "default-src 'none'", name)
	}
}

func TestWhatThePagesOfSeveralMatchesSay(t *testing.T) {
	pages := summaries(t)
	for name, wants := range map[string][]string{
		"hunt":    {"In 50% of matches (4 of 8; 95% CI 20% to 80%)", "seeds 1, 2 and more", "and <b>not</b> found again", "Matches that could not be played", "zwheel hunt --resume continues it", `aria-label="50%, 95% CI 20% to 80%"`},
		"quiet":   {"Nothing found; with 95% confidence fewer than 9.5% of such matches fail."},
		"sweep":   {"<svg", "How far it holds", "undecided up to", "<td>fails", "<td>between"},
		"compare": {"maybe fixed", "not enough matches to tell: 12 more on each side", "<b>worse</b>", "Means over the same views"},
	} {
		for _, want := range wants {
			assert.Contains(t, pages[name], want, name)
		}
	}
}

func TestASummaryOpensInABrowserWithoutAWord(t *testing.T) {
	for name, text := range summaries(t) {
		ctx, said := browser(t, text)
		title := value[string](t, ctx, "document.title")
		assert.NotEmpty(t, title, name)
		assert.Empty(t, said(), name)
		assert.Equal(t, 0.0, value[float64](t, ctx, "document.querySelectorAll('script, img').length"), name)
	}
}

func TestALargeSweepStaysASmallPage(t *testing.T) {
	r := &sweep.Result{Title: "large", Axes: []sweep.Axis{{Path: "latency"}, {Path: "loss"}}}
	for i := range 60 {
		r.Axes[0].Values, r.Axes[1].Values = append(r.Axes[0].Values, fmt.Sprintf("%dms", i)), append(r.Axes[1].Values, fmt.Sprintf("%d%%", i))
	}
	for i := range 3600 {
		r.Points = append(r.Points, sweep.Point{At: []int{i / 60, i % 60}, Values: []string{"1ms", "1%"}, Mark: sweep.Holds, Inferred: i%7 > 0, Matches: max(0, 1-i%7)})
	}
	var b bytes.Buffer
	require.NoError(t, page.Sweep(&b, r, []string{"unevenness"}))
	assert.Less(t, b.Len(), 3<<20)
	assert.Equal(t, 515+1, strings.Count(b.String(), "<td>holds")+1, "only what was played is listed")
}
