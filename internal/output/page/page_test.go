package page_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"zitherwheel/internal/match"
	"zitherwheel/internal/output/page"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/view"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
)

// played plays a match and returns its folder.
func played(t *testing.T, text string) string {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	return folder
}

func written(t *testing.T, folder string) string {
	t.Helper()
	r, err := view.Read(context.Background(), folder)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, page.Write(&out, r))
	return out.String()
}

const broken = `
title: broken
duration: 12s
seed: 2
game: {faults: [kept-to-itself, narrow-numbers]}
bots: [{name: fern, link: hill-farm}, {name: moss, link: village}]
`

// hostile makes a run whose every name and text tries to run a script.
func hostile(t *testing.T) string {
	t.Helper()
	const evil = `</script><script>window.taken=1</script><img src=x onerror="window.taken=2">`
	names := trace.NewNames()
	folder := filepath.Join(t.TempDir(), "run")
	p, err := plan.Parse("p.yaml", []byte("bots: [{name: fern}]\ntitle: '"+evil+"'\nwatch: [{entities: '*', fields: [x, y], compare: distance, tolerance: 1}, {entities: '*', fields: label}]"))
	require.NoError(t, err)
	text, err := p.YAML()
	require.NoError(t, err)
	f, err := run.Create(folder, run.About{Title: evil, Seed: 1, Clock: "virtual", Length: 6, Views: []string{"server", "fern"}}, text, names)
	require.NoError(t, err)
	thing, x, y, label := names.Entity(strings.ReplaceAll(evil, "/", "")), names.Field("x"), names.Field("y"), names.Field("label")
	for i := range 120 {
		at := time.Duration(i) * 50 * time.Millisecond
		for view := range 2 {
			require.NoError(t, f.Record(view, &trace.Record{T: at, Full: i%20 == 0, State: []trace.Change{
				{Entity: thing, Field: x, Value: trace.Number(float64(i * view))}, {Entity: thing, Field: y, Value: trace.Number(float64(i))},
				{Entity: thing, Field: label, Value: names.Text(fmt.Sprint(evil, view))}}}))
			require.NoError(t, f.Log(view, at, evil))
		}
	}
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
	return folder
}

func TestThePageIsWellFormedAndWhole(t *testing.T) {
	for name, c := range map[string]struct {
		folder string
		has    []string
	}{
		"nothing found": {played(t, "title: fine\nduration: 5s\nbots: [{name: fern}]"), []string{"in sync", "1 client agreed with server", "The world, from above"}},
		"findings":      {played(t, broken), []string{"out of sync", `id="I1"`, "never-sent", "dog/fern", "<svg", "zwheel run ", "see it in the world"}},
		"hostile":       {hostile(t), []string{"out of sync", "&lt;img src=x"}},
	} {
		t.Run(name, func(t *testing.T) {
			text := written(t, c.folder)
			for _, has := range c.has {
				assert.Contains(t, text, has)
			}
			wellFormed(t, text, 2)
			assert.NotContains(t, text, "%!", "a format went wrong")
			assert.NotContains(t, text, "ZgotmplZ", "something was thought unsafe")
			assert.NotRegexp(t, `(src|href)="?(https?:)?//`, text, "nothing comes from elsewhere")
			data := regexp.MustCompile(`(?s)<script type="application/json" id="data">(.*?)</script>`).FindStringSubmatch(text)
			require.Len(t, data, 2)
			var world map[string]any
			require.NoError(t, json.Unmarshal([]byte(data[1]), &world))
			assert.NotEmpty(t, world["tracks"])
		})
	}
}

// wellFormed checks that what is opened is closed, and that there are no scripts but
// ours.
func wellFormed(t *testing.T, text string, ours int) {
	t.Helper()
	doc, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	scripts := 0
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.ElementNode && n.Data == "script" {
			scripts++
		}
		for _, a := range n.Attr {
			assert.False(t, strings.HasPrefix(a.Key, "on"), "a handler in an attribute: %s", a.Key)
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
	}
	walk(doc)
	assert.Equal(t, ours, scripts)
	for _, tag := range []string{"table", "section", "article", "details", "figure", "div"} {
		assert.Equal(t, strings.Count(text, "<"+tag), strings.Count(text, "</"+tag+">"), tag)
	}
}

func TestAPageWithHundredsOfFindingsStaysSmall(t *testing.T) {
	folder := played(t, "title: many\nduration: 100s\ngame: {faults: [loose-sheep, kept-to-itself]}\nbots: [{name: dog, count: 8, link: hill-farm}]")
	r, err := view.Read(context.Background(), folder)
	require.NoError(t, err)
	require.Greater(t, len(r.Verdict.Findings), 100)
	assert.Positive(t, r.Left)
	text := written(t, folder)
	assert.Less(t, len(text), 15<<20)
	assert.Contains(t, text, "findings have no picture, to keep this file small")
	for _, f := range r.Verdict.Findings {
		require.Contains(t, text, f.ID)
	}
}

// browser opens a page in a real browser and hands on what goes wrong there.
func browser(t *testing.T, text string) (context.Context, func() []string) {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("chromium is not on this machine")
	}
	file := filepath.Join(t.TempDir(), "report.html")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 60*time.Second)
	t.Cleanup(cancel)
	var lock sync.Mutex
	var wrong []string
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		lock.Lock()
		defer lock.Unlock()
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			wrong = append(wrong, "exception: "+e.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			wrong = append(wrong, "console: "+string(e.Type))
		case *log.EventEntryAdded:
			wrong = append(wrong, "log: "+e.Entry.Text)
		}
	}))
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("file://"+file)))
	return ctx, func() []string {
		assert.Zero(t, value[int](t, ctx, `performance.getEntriesByType('resource').length`), "nothing was asked for beside the file")
		lock.Lock()
		defer lock.Unlock()
		return wrong
	}
}

// value is what an expression is in the page.
func value[T any](t *testing.T, ctx context.Context, expression string) T {
	t.Helper()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	require.NoError(t, err, expression)
	return v
}

func TestThePageWorksInABrowser(t *testing.T) {
	ctx, wrong := browser(t, written(t, played(t, broken)))
	const press = `document.dispatchEvent(new KeyboardEvent('keydown', {key: '%s', bubbles: true})), document.querySelector('#now').value`
	text := func(expression string) string { return value[string](t, ctx, expression) }
	assert.NotEqual(t, "0.000 s", text(`document.querySelector('#now').value`), "it opens at the first finding")
	assert.Contains(t, text(`document.querySelector('#said').textContent`), "F1 ")
	assert.Equal(t, "1", text(`document.querySelector('#who').value`), "and at the view that it is about")
	assert.Equal(t, "5.000 s", text(`document.querySelector('#time').value = '5000', document.querySelector('#time').oninput(), document.querySelector('#now').value`))
	assert.Equal(t, "5.100 s", text(fmt.Sprintf(press, "ArrowRight")))
	assert.Equal(t, "5.000 s", text(fmt.Sprintf(press, "ArrowLeft")))
	const chosen = `document.querySelector('#jump').value`
	assert.Equal(t, "3", text(`document.querySelector('#jump').value = '3', document.querySelector('#jump').onchange(), `+chosen))
	text(fmt.Sprintf(press, "n"))
	assert.Equal(t, "4", text(chosen), "the next finding")
	text(fmt.Sprintf(press, "p"))
	assert.Equal(t, "3", text(chosen), "and the one before")
	assert.Equal(t, "pause", text(`document.querySelector('#play').click(), document.querySelector('#play').textContent`))
	assert.True(t, value[bool](t, ctx, `document.querySelector('#ground').getContext('2d').getImageData(0, 0, 1080, 640).data.some((v, i) => i % 4 < 3 && v < 200)`), "something is drawn")
	assert.Empty(t, wrong())
}

func TestNoNameRunsAScript(t *testing.T) {
	ctx, wrong := browser(t, written(t, hostile(t)))
	time.Sleep(200 * time.Millisecond) // for what might still load
	assert.True(t, value[bool](t, ctx, `window.taken === undefined`))
	assert.Contains(t, value[string](t, ctx, `document.title`), "<script>", "it is text")
	assert.Empty(t, wrong())
}

func BenchmarkPage(b *testing.B) {
	p, err := plan.Parse("p.yaml", []byte("title: long\nduration: 10m\ngame: {faults: [kept-to-itself, narrow-numbers]}\nbots: [{name: dog, count: 8, link: hill-farm}]"))
	require.NoError(b, err)
	folder := filepath.Join(b.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		r, err := view.Read(context.Background(), folder)
		require.NoError(b, err)
		var out bytes.Buffer
		require.NoError(b, page.Write(&out, r))
		b.ReportMetric(float64(out.Len())/1e6, "MB")
	}
}
