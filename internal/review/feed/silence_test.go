package feed

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// rests is a view that moves its cart until a time and then stands still, telling changes
// alone, and says something of its own all the time.
func rests(until, length float64, own string) string {
	var b strings.Builder
	for i := 0; float64(i)/10 < length; i++ {
		t := float64(i) / 10
		switch {
		case t < until:
			x, y := way(t)
			fmt.Fprintf(&b, "{\"t\":%.3f,\"state\":{\"cart/1\":{\"x\":%.3f,\"y\":%.3f}}}\n", t, x, y)
		case own != "":
			fmt.Fprintf(&b, "{\"t\":%.3f,\"state\":{\"cart/1\":{%q:%d}}}\n", t, own, i)
		}
	}
	return b.String()
}

func TestWhoFallsSilentIsNamedAndWhoRestsIsNot(t *testing.T) {
	for _, c := range []struct {
		what    string
		server  string
		clients []string
		silent  string // whose silence is told
		outcome judge.Outcome
	}{
		{"everybody rests", rests(10, 20, ""), []string{rests(10, 20, "")}, "", judge.InSync},
		{"everybody rests, and a client counts its frames", rests(10, 20, ""), []string{rests(10, 20, "frames")}, "", judge.InSync},
		{"a client tells the same again and again", rests(10, 20, ""), []string{again(10, 20)}, "", judge.InSync},
		{"the server stops while its clients play on", rests(10, 20, ""), []string{tell(0.1, 0, 20)}, rulebook.Server, judge.Inconclusive},
		{"a short pause at the end", rests(17, 20, ""), []string{tell(0.1, 0, 20)}, "", judge.OutOfSync},
		{"a client stops while the server goes on: it froze", tell(0, 0, 20), []string{rests(10, 20, "")}, "", judge.OutOfSync},
		{"a server of few words", slowly(20), []string{slowly(20)}, "", judge.InSync},
	} {
		traces := files(t, append([]string{c.server}, c.clients...)...)
		traces.Rules.Fields = traces.Rules.Fields[:1]
		r, err := Judge(context.Background(), traces)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.outcome, r.Verdict.Outcome, "%s: %s", c.what, r.Verdict.NotWell())
		if c.silent == "" {
			assert.Empty(t, r.Verdict.Ending.Breaks, c.what)
		} else {
			require.NotNil(t, r.Verdict.Ending.BreakOf(ending.Silent, c.silent), c.what)
			assert.InDelta(t, 9.9, float64(r.Verdict.Ending.Breaks[0].At)/1e9, 0.01, c.what)
			assert.Empty(t, r.Verdict.Findings, "nobody is blamed for it: %s", c.what)
		}
	}
}

// again is a view that tells its whole picture over and over after it has come to rest.
func again(until, length float64) string {
	text := rests(until, length, "")
	x, y := way(until - 0.1)
	for t := until; t < length; t += 0.1 {
		text += fmt.Sprintf("{\"t\":%.3f,\"full\":true,\"state\":{\"cart/1\":{\"x\":%.3f,\"y\":%.3f}}}\n", t, x, y)
	}
	return text
}

// slowly is a view that says something every two seconds.
func slowly(length float64) string {
	var b strings.Builder
	for t := 0.0; t < length; t += 2 {
		fmt.Fprintf(&b, "{\"t\":%.3f,\"state\":{\"cart/1\":{\"x\":%.3f,\"y\":1}}}\n", t, t)
	}
	return b.String()
}

// A server that goes on sending while its trace has stopped blames nobody either: what it
// printed last was lost in a buffer, perhaps.
func TestATraceThatStopsWhileItsServerSends(t *testing.T) {
	traces := files(t, rests(10, 20, ""), tell(0.1, 0, 20))
	traces.Rules.Fields = traces.Rules.Fields[:1]
	var packets []byte
	for i := range 400 {
		at := time.Duration(i) * 50 * ms
		for _, d := range []link.Direction{link.Up, link.Down} {
			packets = run.AppendPacket(packets, "fern", link.Packet{Direction: d, Outcome: link.Outcome{Number: uint64(i + 1), Sent: at, Size: 90, Copies: 1, Arrives: [2]time.Duration{at + 20*ms}}})
		}
	}
	traces.Packets = filepath.Join(t.TempDir(), "packets.jsonl")
	require.NoError(t, os.WriteFile(traces.Packets, packets, 0o600))
	r, err := Judge(context.Background(), traces)
	require.NoError(t, err)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Contains(t, r.Verdict.NotWell(), "server fell silent at 9.900 s")
	assert.Contains(t, r.Verdict.NotWell(), "it went on sending: does it flush its trace?")
	assert.Empty(t, r.Verdict.Findings)
}
