package selftest

import (
	"context"
	"flag"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/hillfold"
)

var seeds = flag.Int("seeds", 1, "matches of each fault on each link")

// Everything that shows itself is found, and nothing else is.
func TestTheJudgeOnEveryMistake(t *testing.T) {
	links := []string{"village", "far-shore"}
	if testing.Short() {
		links = links[:1]
	}
	played := 0
	rows, err := Run(context.Background(), Options{Seeds: *seeds, Links: links, Progress: func(done, all int) { played = done }})
	require.NoError(t, err)
	require.Len(t, rows, len(hillfold.AllFaults)+1)
	showed := 0
	for _, r := range rows {
		assert.Equal(t, len(links)**seeds, r.Matches, r.Fault)
		assert.Zero(t, r.Alarms, "%s: %v", r.Fault, r.Oddities)
		assert.Equal(t, r.Showed, r.Found, "%s: %v", r.Fault, r.Oddities)
		assert.Greater(t, r.Compared, 10_000, r.Fault)
		showed += r.Showed
	}
	assert.Greater(t, showed, 15)
	assert.Equal(t, len(rows)*len(links)**seeds, played)
}

func TestATrialOfWhatThereIsNot(t *testing.T) {
	_, err := Run(context.Background(), Options{Seeds: 1, Faults: []string{"flat-tyre"}})
	assert.ErrorContains(t, err, `there is no fault "flat-tyre"`)
	_, err = Run(context.Background(), Options{Seeds: 1, Faults: []string{healthy}, Links: []string{"moon"}})
	assert.ErrorContains(t, err, `there is no link "moon"`)
}

func TestAnInterruptedTrialKeepsWhatItHas(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	rows, err := Run(ctx, Options{Seeds: 50, Faults: []string{healthy}, Links: []string{"village"}, Progress: func(done, all int) {
		if done == 2 {
			cancel()
		}
	}})
	require.NoError(t, err)
	assert.Less(t, rows[0].Matches, 50)
}
