package link

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatALinkIsMayBeSaidPieceByPiece(t *testing.T) {
	ready, known := FindReady("hill-farm")
	require.True(t, known)
	q := ready.Up.Conditions
	assert.Equal(t, "latency 80ms, jitter 25ms, loss 4%, burst 3", q.Text())
	require.NoError(t, q.Set("loss", "0.5%"))
	require.NoError(t, q.Set("reorder", "true"))
	require.NoError(t, q.Set("rate", "2Mbit/s"))
	assert.Equal(t, "latency 80ms, jitter 25ms, reorder true, loss 0.5%, burst 3, rate 2 Mbit/s", q.Text())
	before := q
	for name, value := range map[string]string{"loss": "much", "burst": "0.5", "los": "1%", "reorder": "maybe"} {
		assert.Error(t, q.Set(name, value))
	}
	assert.Equal(t, before, q, "what is wrong changes nothing")
	assert.Contains(t, fmt.Sprint(WordNames()), "straggle-by")
}
