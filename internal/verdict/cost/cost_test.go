package cost

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

var rules = []rulebook.Rule{
	{Entities: "barge/*", Fields: []string{"x"}, Compare: rulebook.Distance, Tolerance: 1},
	{Entities: "barge/*", Fields: []string{"glint"}, SeenBy: rulebook.Nobody},
	{Entities: "barge/*", Fields: []string{"cargo"}},
}

// told is what a report says of records, each a state at a time.
func told(t require.TestingT, states func(say func(at float64, state string))) *Report {
	names := trace.NewNames()
	c := New(names, rules)
	states(func(at float64, state string) {
		r, rec := trace.NewReader(strings.NewReader(fmt.Sprintf(`{"t":%f,"state":{%s}}`, at, state)), names), trace.Record{}
		require.NoError(t, r.Next(&rec))
		c.Record(&rec)
	})
	return c.Finish(4, Traffic{})
}

func (r *Report) field(name string) *Field {
	for i := range r.Fields {
		if f := &r.Fields[i]; f.Sort+"."+f.Field == name {
			return f
		}
	}
	return nil
}

func (r *Report) tips(name string) (list []string) {
	for _, tip := range r.Advice {
		if tip.Field == name {
			list = append(list, tip.Text)
		}
	}
	return list
}

func TestWhatFieldsCost(t *testing.T) {
	r := told(t, func(say func(at float64, state string)) {
		for i := range 201 { // 20 a second, 10 s
			say(float64(i)/20, fmt.Sprintf(`"barge/a":{"x":%.1f,"glint":%d,"cargo":"%s","full":%t,"hull":7}`, float64(i)*0.5, i%3, []string{"wool", "salt"}[i/100%2], i%40 < 20))
		}
	})
	assert.InDelta(t, 20, r.Told, 0.01)
	x := r.field("barge.x")
	require.NotNil(t, x)
	assert.Equal(t, []float64{0, 100, 0.1, 1}, []float64{*x.Least, *x.Most, x.Step, x.Tolerance})
	assert.Equal(t, []float64{10, 7}, []float64{x.Now, x.Enough}, "1001 values in steps of 0.1; 101 within 1")
	assert.InDelta(t, 20, x.Changes, 0.01)
	assert.InDelta(t, 0.5, x.Small, 0.02, "half a step of the tolerance each time")
	assert.InDelta(t, 20*10/8, x.Cost, 0.1)
	assert.Equal(t, 1.0, r.field("barge.full").Now)
	assert.Equal(t, []float64{32, 1}, []float64{r.field("barge.cargo").Now, r.field("barge.cargo").Enough}, "two texts of four bytes")
	assert.Contains(t, strings.Join(r.tips("barge.x"), "; "), "within 1, 128 values from 0 to 100 fit 7 bits; steps of 0.1 as told take 10")
	assert.Equal(t, []string{"no rule lets anybody see it: it need not be sent"}, r.tips("barge.glint"))
	assert.Equal(t, []string{"it never changes and is told 20.1 times a second: once would do"}, r.tips("barge.hull"))
	assert.Zero(t, r.field("barge.glint").Would)
}

func TestNumbersAboutToOutgrowTheirBits(t *testing.T) {
	for _, row := range []struct {
		name string
		at   func(i int) float64
		want string
	}{
		{"16 bits of 0.01", func(i int) float64 { return 6.5*float64(i) + 0.01 }, "in steps of 0.01 a number of 16 bits ends at 655.35"},
		{"a byte with a sign", func(i int) float64 { return float64(i)*1.2 - 0.0 - math.Mod(float64(i)*1.2, 1) }, "in steps of 1 a number of 8 bits ends at 127"},
		{"far from any end", func(i int) float64 { return float64(i) * 3 }, ""},
	} {
		t.Run(row.name, func(t *testing.T) {
			r := told(t, func(say func(at float64, state string)) {
				for i := range 101 {
					say(float64(i)/20, fmt.Sprintf(`"barge/a":{"depth":%.2f}`, row.at(i)))
				}
			})
			got := strings.Join(r.tips("barge.depth"), "; ")
			if row.want == "" {
				assert.NotContains(t, got, "ends at")
				return
			}
			assert.Contains(t, got, row.want)
		})
	}
}

// Sending less often costs no more, and what tolerances allow never costs more than what is told.
func TestSeldomerIsCheaper(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		moves := rapid.Float64Range(0, 1).Draw(t, "moves")
		step := rapid.SampledFrom([]float64{0.001, 0.25, 3}).Draw(t, "step")
		chance := rapid.Float64Range(0, 1)
		r := told(t, func(say func(at float64, state string)) {
			x := 0.0
			for i := range 60 {
				if chance.Draw(t, "chance") < moves {
					x += step
				}
				say(float64(i)/20, fmt.Sprintf(`"barge/a":{"x":%.3f},"barge/b":{"x":4}`, x))
			}
		})
		for i := 1; i < len(r.Rates); i++ {
			assert.GreaterOrEqual(t, r.Rates[i].Now, r.Rates[i-1].Now-1e-9)
		}
		for _, at := range r.Rates {
			assert.LessOrEqual(t, at.Enough, at.Now+1e-9)
		}
		for _, f := range r.Fields {
			assert.LessOrEqual(t, f.Changes, f.Updates)
			assert.LessOrEqual(t, f.Would, f.Cost+1e-9)
			assert.LessOrEqual(t, f.Enough, f.Now)
		}
	})
}

func TestAServerThatToldNothingCostsNothing(t *testing.T) {
	r := told(t, func(func(at float64, state string)) {})
	assert.Empty(t, r.Fields)
	assert.Empty(t, r.Rates)
}

// What never changes needs no bits, and no bits of less than none.
func TestOneValueNeedsNoBits(t *testing.T) {
	assert.Zero(t, bits(1))
	assert.False(t, math.Signbit(bits(1)))
	assert.Equal(t, []float64{1, 8, 9}, []float64{bits(2), bits(256), bits(257)})
}
