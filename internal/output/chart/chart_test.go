package chart

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"image/png"
	"io"
	"math"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/plot/plotter"

	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/view"
)

func TestEveryFigureIsDrawnBothWays(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte(`
duration: 15s
game: {faults: [kept-to-itself, only-here, once-unreliable]}
limits: {age-p95-ms: 10}
bots: [{name: fern, link: far-shore}, {name: moss, link: far-shore}]
`))
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "run")
	_, err = match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	r, err := view.Read(context.Background(), folder)
	require.NoError(t, err)
	r.Lanes[1].Load = []view.LoadPoint{{At: 0, CPU: 1, Resident: 1e6}, {At: 1e9, CPU: 2, Resident: 2e6}}
	names := map[string]bool{}
	for _, f := range All(r) {
		assert.False(t, names[f.Name], "%s twice", f.Name)
		names[f.Name] = true
		assert.NotEmpty(t, f.Caption)
		decoder := xml.NewDecoder(bytes.NewReader(f.SVG()))
		for {
			_, err := decoder.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err, f.Name)
		}
		assert.NotContains(t, string(f.SVG()), "NaN", f.Name)
		var image bytes.Buffer
		require.NoError(t, f.PNG(&image))
		decoded, err := png.Decode(&image)
		require.NoError(t, err)
		assert.Greater(t, decoded.Bounds().Dx(), 1000)
	}
	for _, name := range []string{"timeline", "measures", "traffic", "load", "finding-F1"} {
		assert.True(t, names[name], name)
	}
}

func TestThinningKeepsTheLeastAndTheMost(t *testing.T) {
	xy := make(plotter.XYs, 100_000)
	for i := range xy {
		xy[i] = plotter.XY{X: float64(i), Y: math.Sin(float64(i) / 1000)}
	}
	xy[54_321].Y, xy[77_777].Y = 9, -9
	kept := thinned(xy)
	assert.LessOrEqual(t, len(kept), mostInLine+10)
	least, most := 0.0, 0.0
	for i, p := range kept {
		least, most = min(least, p.Y), max(most, p.Y)
		if i > 0 {
			require.Greater(t, p.X, kept[i-1].X)
		}
	}
	assert.Equal(t, [2]float64{-9, 9}, [2]float64{least, most})
}

func TestASweepIsDrawnWithSignsThatNeedNoColour(t *testing.T) {
	r := &sweep.Result{Axes: []sweep.Axis{{Path: "latency", Values: []string{"0ms", "5ms", "10ms"}}, {Path: "loss", Values: []string{"0%", "1%"}}}}
	for i, m := range []sweep.Mark{sweep.Holds, sweep.Fails, sweep.Between, sweep.Failed, sweep.Unknown, sweep.Holds} {
		r.Points = append(r.Points, sweep.Point{At: []int{i / 2, i % 2}, Mark: m, Inferred: i == 5})
	}
	f, ok := Sweep(r)
	require.True(t, ok)
	svg := string(f.SVG())
	for _, want := range []string{"latency", "loss", "10ms", "holds", "fails", "not certain"} {
		assert.Contains(t, svg, want)
	}
	var image bytes.Buffer
	require.NoError(t, f.PNG(&image))
	_, err := png.Decode(&image)
	require.NoError(t, err)
	plain := len(svg)
	for i := range r.Points {
		r.Points[i].Mark = sweep.Holds
	}
	f, _ = Sweep(r)
	assert.Less(t, len(f.SVG()), plain, "what does not hold has strokes in it")

	r.Axes, r.Points = r.Axes[:1], []sweep.Point{{At: []int{0}, Mark: sweep.Holds}, {At: []int{1}, Mark: sweep.Fails}, {At: []int{2}}}
	_, ok = Sweep(r)
	assert.True(t, ok, "a line is drawn too")
	r.Axes = append(r.Axes, r.Axes[0], r.Axes[0])
	_, ok = Sweep(r)
	assert.False(t, ok, "three axes are not")
}
