package selftest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/verdict/rulebook"
)

func TestEveryMistakeHasAPlanThatPlantsItAlone(t *testing.T) {
	for _, f := range hillfold.AllFaults {
		for _, link := range Links {
			p, err := planOf(f.Name, link, 4)
			require.NoError(t, err, f.Name)
			assert.Equal(t, []string{f.Name}, p.Game.Faults)
			assert.Equal(t, uint64(4), p.Seed)
			assert.Len(t, p.Bots, 4)
			for _, b := range p.Bots {
				assert.Equal(t, link, b.Link)
			}
		}
	}
}

func TestHealthyMatchesComeInSeveralSorts(t *testing.T) {
	sorts := map[[3]int]bool{}
	cheats := 0
	for seed := range 10 {
		p, err := planOf(healthy, "village", seed)
		require.NoError(t, err)
		assert.Empty(t, p.Game.Faults)
		sorts[[3]int{int(p.Game.InterestRadius), p.Game.MaxPlayers, p.Game.Send}] = true
		for _, s := range p.Bots[0].Steps {
			if s.Do == "cheat" {
				cheats++
			}
		}
	}
	assert.Len(t, sorts, 4, "plain, a small reach, few places, seldom pictures")
	assert.Equal(t, 4, cheats)
}

func TestLegalLagIsAllowedByItsRules(t *testing.T) {
	lag := func(fault, entity string, own bool) time.Duration {
		p, err := planOf(fault, "village", 0)
		require.NoError(t, err)
		return p.Rules.Fields[rulebook.Find(p.Rules.Fields, entity, own, "x")].MaxDelay
	}
	assert.Equal(t, lag(healthy, "sheep/s01", false)+450*time.Millisecond, lag("legal-lag", "sheep/s01", false))
	assert.Equal(t, lag(healthy, "dog/fern", true), lag("legal-lag", "dog/fern", true), "the own dog is as prompt as ever")
}

func TestWhatIsCountedOfAMatch(t *testing.T) {
	_, cells, err := layout(Options{Seeds: 3, Matches: 10, Links: []string{"village", "hill-farm"}, Faults: []string{healthy, "told-twice"}})
	require.NoError(t, err)
	count := map[int]int{}
	for _, c := range cells {
		count[c.row]++
	}
	assert.Equal(t, map[int]int{0: 10, 1: 6}, count)
}
