package worlds

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever the world is like, a mistake is found, in the guilty view alone, and healthy
// worlds are not flagged. How often the name is right is measured, and must not get worse.
func TestMistakesInMadeUpWorldsAreFoundAndNamed(t *testing.T) {
	for name, o := range map[string]Options{"by time": {}, "by ticks": {Ticks: true}, "by ticks, by rules that were learned": {Ticks: true, Learned: true}} {
		t.Run(name, func(t *testing.T) {
			o.Each, o.Healthy = 6, 40
			if testing.Short() {
				o.Each, o.Healthy = 1, 4
			}
			rows, err := Run(context.Background(), o)
			require.NoError(t, err)
			require.Len(t, rows, len(mistakes)+1)
			showed, first, blamed, incidents := 0, 0, 0, 0
			for _, r := range rows {
				assert.Zero(t, r.Alarms, "%s: %v", r.Mistake, r.Others)
				assert.Equal(t, r.Showed, r.Found, r.Mistake)
				showed, first, blamed, incidents = showed+r.Showed, first+r.First, blamed+r.Blamed, incidents+r.Incidents
			}
			assert.Greater(t, showed, o.Each*len(mistakes)*8/10)
			assert.Equal(t, showed, blamed)
			assert.LessOrEqual(t, float64(incidents)/float64(showed), 1.2)
			if !testing.Short() {
				assert.GreaterOrEqual(t, float64(first)/float64(showed), 0.95)
			}
		})
	}
}

// A world is a function of its seed and its mistake.
func TestAWorldIsTheSameEachTime(t *testing.T) {
	for _, m := range []*mistake{nil, &mistakes[0], &mistakes[7]} {
		_, guilty, v := play(3, m, Options{})
		_, again, w := play(3, m, Options{})
		assert.Equal(t, guilty, again)
		assert.Equal(t, v.Comparisons, w.Comparisons)
		assert.Equal(t, len(v.Findings), len(w.Findings))
	}
}

func TestRunEndsWhenItIsInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	_, err := Run(ctx, Options{Each: 1000, Healthy: 1000, Progress: func(done, _ int) {
		if done == 3 {
			cancel()
		}
	}})
	assert.ErrorIs(t, err, context.Canceled)
}
