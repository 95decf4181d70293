package replay

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// firstOf asks for subsets one after the other, and counts.
func firstOf(asked *int, shows func(set []int) bool) func(sets [][]int) (int, error) {
	return func(sets [][]int) (int, error) {
		for i, set := range sets {
			*asked++
			if shows(set) {
				return i, nil
			}
		}
		return -1, nil
	}
}

func TestMinimiseFindsJustWhatIsNeeded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 300).Draw(t, "n")
		needed := rapid.SliceOfNDistinct(rapid.IntRange(0, n-1), 1, min(n, 4), rapid.ID).Draw(t, "needed")
		slices.Sort(needed)
		asked := 0
		set, err := minimise(n, firstOf(&asked, func(set []int) bool {
			return !slices.ContainsFunc(needed, func(i int) bool { return !slices.Contains(set, i) })
		}))
		require.NoError(t, err)
		assert.Equal(t, needed, set)
		if len(needed) == 1 {
			assert.LessOrEqual(t, asked, 2*10, "one of %d takes as many questions as halving does", n)
		}
	})
}

// Whatever shows it, no single part of what is found can be left out.
func TestWhatIsFoundCannotBeMadeSmallerByOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 40).Draw(t, "n")
		weights := rapid.SliceOfN(rapid.IntRange(0, 9), n, n).Draw(t, "weights")
		sum := 0
		for _, w := range weights {
			sum += w
		}
		if sum == 0 {
			return
		}
		bar := rapid.IntRange(1, sum).Draw(t, "bar")
		shows := func(set []int) bool {
			have := 0
			for _, i := range set {
				have += weights[i]
			}
			return have >= bar
		}
		asked := 0
		set, err := minimise(n, firstOf(&asked, shows))
		require.NoError(t, err)
		assert.True(t, shows(set))
		for i := range set {
			assert.False(t, len(set) > 1 && shows(slices.Delete(slices.Clone(set), i, i+1)), "%v of %v", set, weights)
		}
	})
}
