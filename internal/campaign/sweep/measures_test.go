package sweep

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestValuesLieWhereTheirNumbersAre(t *testing.T) {
	for _, row := range []struct {
		values []string
		want   []float64
	}{
		{[]string{"2", "5", "30"}, []float64{2, 5, 30}},
		{[]string{"0ms", "50ms", "400ms"}, []float64{0, 50, 400}},
		{[]string{"0%", "2.5%"}, []float64{0, 2.5}},
		{[]string{"500ms", "1s"}, []float64{0, 1}},
		{[]string{"village", "hill-farm"}, []float64{0, 1}},
		{[]string{"5", "3"}, []float64{0, 1}},
	} {
		assert.Equal(t, row.want, Axis{Values: row.values}.Places(), row.values)
	}
}

// along is a sweep of rates with a measure at each.
func along(of func(rate float64) Typical) *Result {
	r := &Result{Axes: []Axis{{Path: "rate", Values: []string{"2", "4", "6", "10", "20", "30"}}}}
	for i, at := range r.Axes[0].Places() {
		r.Points = append(r.Points, Point{At: []int{i}, Values: r.Axes[0].Values[i : i+1], Measures: map[string]Typical{"age": of(at)}})
	}
	return r
}

func TestWhereACurveTurns(t *testing.T) {
	sure := func(v float64) Typical { return Typical{v, v, v, 9} }
	for _, row := range []struct {
		name string
		of   func(rate float64) Typical
		knee string // the value, or ""
	}{
		{"falling fast and then slowly", func(rate float64) Typical { return sure(1000 / rate) }, "6"},
		{"a straight line", func(rate float64) Typical { return sure(240 * rate) }, ""},
		{"the same everywhere", func(float64) Typical { return sure(7) }, ""},
		{"what is as uncertain as it is bent", func(rate float64) Typical { return Typical{1000 / rate, 0, 600, 3} }, ""},
	} {
		t.Run(row.name, func(t *testing.T) {
			r := along(row.of)
			curves := r.Curves([]string{"age", "never measured"})
			require.Len(t, curves, 1)
			assert.Equal(t, []string{"age"}, r.Measures())
			got := ""
			if k := curves[0].Knee; k >= 0 {
				got = r.Axes[0].Values[curves[0].At[k]]
			}
			assert.Equal(t, row.knee, got)
		})
	}
	two := &Result{Axes: []Axis{{}, {}}}
	assert.Empty(t, two.Curves([]string{"age"}), "of two axes there is no curve")
}

func TestMeasuresOfAPointAreMediansOfItsMatches(t *testing.T) {
	got := typical(map[string][]float64{"age": {3, 1, 2}, "none": nil})
	assert.Equal(t, Typical{2, 1, 3, 3}, got["age"])
	assert.True(t, math.IsNaN(got["none"].Median))
}
