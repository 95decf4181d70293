package hillfold_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// Every packet of a match can be told in words, and what happens in it is among them.
func TestEveryPacketCanBeDescribed(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte(`
duration: 30s
game: {faults: [once-unreliable, lost-goodbye, flip-not-value], max-players: 2}
bots:
  - name: fern
    steps: [{do: join}, {do: chase, kind: bell, for: 8s}, {do: chase, kind: gate, for: 6s}, {do: roam}]
  - name: moss
    steps: [{do: join, at: 1s}, {do: chase, kind: sheep}, {do: leave, at: 25s}]
  - name: oak
    steps: [{do: join, at: 5s}, {do: roam}]
`))
	require.NoError(t, err)
	said := map[string]bool{}
	packets := 0
	_, err = match.Run(context.Background(), p, match.Options{Silent: true, Packet: func(packet match.Packet) {
		packets++
		text := packet.Describe()
		assert.NotContains(t, text, "not understood", "packet %d of %s", packet.Number, packet.Link)
		assert.NotEmpty(t, text)
		for _, part := range strings.Split(text, "; ") {
			said[packet.Direction.String()+" "+part] = true
		}
	}})
	require.NoError(t, err)
	assert.Greater(t, packets, 1000)
	for _, want := range []string{
		"up asks to join as fern", "up goodbye", "up asks for the time", "down tells the time", "down no place is left",
		"down message 0: welcome, your dog is dog/fern", "down message 1: there is dog/fern",
	} {
		assert.True(t, said[want], want)
	}
	for _, part := range []string{"up inputs ", "down snapshot of tick ", "down said once: bark ", " picked-up ", " is gone", " opens or shuts", " moss left", "messages more", "the round is over, the winner is "} {
		found := false
		for text := range said {
			found = found || strings.Contains(text, part)
		}
		assert.True(t, found, part)
	}
}

func TestWhatIsNoPacketIsNotUnderstood(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte("duration: 1s\nbots: [{name: fern, link: noisy}]\nlinks: {noisy: {corrupt: 100%}}\n"))
	require.NoError(t, err)
	seen := 0
	_, err = match.Run(context.Background(), p, match.Options{Silent: true, Packet: func(packet match.Packet) {
		if packet.Direction == link.Up {
			seen++
			assert.NotPanics(t, func() { packet.Describe() })
		}
	}})
	require.NoError(t, err)
	assert.Positive(t, seen)
}
