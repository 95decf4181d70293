package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

func TestALinkChangesInItsCourse(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(`
bots: [{name: fern, link: moor}]
links:
  moor:
    changes: [{at: 10s, latency: 300ms, spread: heavy-tail}, {at: 20s, loss: 0, rate: 1Mbit/s}]
    latency: 80ms
    jitter: 10ms
    loss: 4%
    queue: 64KiB
    outages: [{at: 5s, for: 2s}]
    nat-rebind: 12s
    reset: [3s, 4s]
    down: {mtu: 1200, outages: []}
`))
	require.NoError(t, err)
	at := link.Conditions{Latency: 80 * ms, Jitter: 10 * ms, Loss: 0.04, Queue: 65536}
	slow, lossless := at, at
	slow.Latency, slow.Spread = 300*ms, link.HeavyTail
	lossless = slow
	lossless.Loss, lossless.Rate = 0, 1e6
	l := p.LinkOf(p.Bots[0])
	assert.Equal(t, link.Course{Conditions: at, Changes: []link.Change{{At: 10 * time.Second, Conditions: slow}, {At: 20 * time.Second, Conditions: lossless}},
		Outages: []link.Window{{From: 5 * time.Second, Until: 7 * time.Second}}}, l.Up)
	assert.Equal(t, 1200, l.Down.MTU)
	assert.Empty(t, l.Down.Outages)
	assert.Equal(t, []time.Duration{12 * time.Second}, l.Moves)
	assert.Equal(t, []time.Duration{3 * time.Second, 4 * time.Second}, l.Resets)

	text, err := p.YAML()
	require.NoError(t, err)
	again, err := Parse("again.yaml", text)
	require.NoError(t, err, string(text))
	l.Down.Outages = nil
	assert.Equal(t, l, again.LinkOf(again.Bots[0]), "%s", text)
}

func TestWhatIsWrongWithALinkIsSaidWithItsPlace(t *testing.T) {
	for text, message := range map[string]string{
		"moor: {changes: [{at: 1s, latency: fast}]}":          `p.yaml:3:38: latency: "fast" is not a time span; write a number and its unit, like 80ms, 1.5s or 2m`,
		"moor: {down: {spread: wide}}":                        `p.yaml:3:25: spread: there is no distribution "wide"; there are normal, uniform, heavy-tail`,
		"moor: {rate: fast}":                                  `p.yaml:3:16: rate: "fast" is no number of bits a second; write it like 2Mbit/s or 256kbit/s`,
		"moor: {mtu: 1e99}":                                   `p.yaml:3:15: mtu: "1e99" is no number of bytes; write it like 1200 or 64KiB`,
		"moor: {outages: [{at: 1s}]}":                         `p.yaml:3:9: link moor: outages: the one at 1s lasts no time; write for: with a time span`,
		"moor: {changes: 5}":                                  `p.yaml:3:19: changes: "5" is not a list`,
		"moor: {nat-rebind: [soon]}":                          `p.yaml:3:22: nat-rebind: "soon" is not a time span; write a number and its unit, like 80ms, 1.5s or 2m`,
		"moor: {changes: [{at: 2s, loss: 1%}, {at: 1s}]}":     `p.yaml:3:9: link moor: changes: the one at 1s stands behind that at 2s; write them in order of time`,
		"moor: {straggle: 2%, changes: [{at: 1s, loss: 9%}]}": `p.yaml:3:9: link moor: straggle: say by how much with straggle-by, like straggle-by: 60ms`,
	} {
		_, err := Parse("p.yaml", []byte("bots: [{name: fern}]\nlinks:\n  "+text+"\n"))
		assert.EqualError(t, err, message)
	}
}
