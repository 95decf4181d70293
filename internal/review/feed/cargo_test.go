package feed

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/rulebook"
)

// wired are traces of a server and of fern, and the packets between them.
func wired(t *testing.T, server, fern []string, packets ...link.Packet) Traces {
	t.Helper()
	traces := files(t, strings.Join(server, "\n")+"\n", strings.Join(fern, "\n")+"\n")
	traces.Packets = filepath.Join(t.TempDir(), "packets.jsonl")
	var text []byte
	for _, p := range packets {
		text = run.AppendPacket(text, "fern", p)
	}
	require.NoError(t, os.WriteFile(traces.Packets, text, 0o600))
	return traces
}

// sentAt is a packet down that arrives 60 ms later.
func sentAt(number uint64, at float64, size int) link.Packet {
	sent := time.Duration(at * 1e9).Round(time.Microsecond)
	return link.Packet{Direction: link.Down, Outcome: link.Outcome{Number: number, Sent: sent, Size: size, Copies: 1, Arrives: [2]time.Duration{sent + 60*time.Millisecond}}}
}

func lost(p link.Packet) link.Packet {
	p.Copies, p.Dropped, p.Arrives = 0, link.Lost, [2]time.Duration{}
	return p
}

func says(at float64, name, what string) string {
	return fmt.Sprintf(`{"t":%.6f,"sent":%q,"to":"fern","data":%q}`, at, name, what)
}

func TestWhatAPacketCarried(t *testing.T) {
	for _, c := range []struct {
		name    string
		server  []string
		packets []link.Packet
		want    []string // of each packet
	}{
		{"one line for each packet", []string{says(1, "a", "x"), says(1.05, "b", "y")}, []link.Packet{sentAt(1, 1, 9), sentAt(2, 1.05, 9)}, []string{"a: x", "b: y"}},
		{"lines that come a little later than their packets", []string{says(1.004, "a", "x"), says(1.054, "b", "y")}, []link.Packet{sentAt(1, 1, 9), sentAt(2, 1.05, 9)}, []string{"a: x", "b: y"}},
		{"several packets at one moment", []string{says(1.001, "a", "x"), says(1.001, "b", "y"), says(1.001, "c", "z")},
			[]link.Packet{sentAt(1, 1, 9), sentAt(2, 1, 9), sentAt(3, 1, 9)}, []string{"a: x", "b: y", "c: z"}},
		{"a packet of which nothing is said", []string{says(1, "a", "x"), says(1.1, "c", "z")},
			[]link.Packet{sentAt(1, 1, 9), sentAt(2, 1.05, 9), sentAt(3, 1.1, 9)}, []string{"a: x", "", "c: z"}},
		{"a line whose packet never came to the link", []string{says(1, "a", "x"), says(1.1, "b", "y"), says(1.2, "c", "z")},
			[]link.Packet{sentAt(1, 1, 9), sentAt(2, 1.2, 9)}, []string{"a: x", "c: z"}},
		{"a size tells two of one moment apart", []string{`{"t":1,"sent":7,"to":"fern","bytes":40}`}, []link.Packet{sentAt(1, 1, 9), sentAt(2, 1, 40)}, []string{"", "7"}},
		{"several messages in one packet of a stream", []string{says(1, "a", "x"), says(1, "b", "y")}, []link.Packet{sentAt(1, 1, 9), sentAt(2, 1.3, 9)}, []string{"a: x; b: y", ""}},
		{"what is sent to everybody", []string{`{"t":1,"sent":"a","data":{"gone": ["sheep/s1"]}}`}, []link.Packet{sentAt(1, 1, 9)}, []string{`a: {"gone":["sheep/s1"]}`}},
		{"what is sent to others", []string{`{"t":1,"sent":"a","to":"moss"}`}, []link.Packet{sentAt(1, 1, 9)}, []string{""}},
		{"what was lost all the same", []string{says(1, "a", "x")}, []link.Packet{lost(sentAt(1, 1, 9))}, []string{"a: x"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			cargo := &Cargo{}
			require.NoError(t, cargo.read(context.Background(), wired(t, c.server, []string{`{"t":1,"checkpoint":"here"}`}, c.packets...)))
			for i, p := range c.packets {
				assert.Equal(t, c.want[i], cargo.Of("fern", link.Down, p.Number), "packet %d", p.Number)
			}
			assert.Empty(t, cargo.Of("fern", link.Up, 1))
			assert.Empty(t, cargo.Of("fern", link.Down, 99))
		})
	}
	assert.Empty(t, (*Cargo)(nil).Of("fern", link.Down, 1))
}

// Whatever the rate, the error of the clocks and the share of packets that are told of: what is said of a
// packet is said of that one, as long as the error is small beside the time between two.
func TestEveryLineFindsItsPacket(t *testing.T) {
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 1))
		beat := 0.016 + random.Float64()*0.08
		bias := (random.Float64() - 0.5) * beat / 3
		told := 0.3 + 0.7*random.Float64()
		var server []string
		var packets []link.Packet
		want := map[uint64]string{}
		for n := uint64(1); n <= 300; n++ {
			at := 1 + float64(n)*beat
			packets = append(packets, sentAt(n, at, 20))
			if random.Float64() < told {
				want[n] = fmt.Sprintf("p%d", n)
				server = append(server, fmt.Sprintf(`{"t":%.6f,"sent":"p%d","to":"fern"}`, at+bias+random.Float64()*beat/8, n))
			}
		}
		cargo := &Cargo{}
		require.NoError(t, cargo.read(context.Background(), wired(t, server, []string{`{"t":1,"checkpoint":"here"}`}, packets...)))
		for n := uint64(1); n <= 300; n++ {
			require.Equal(t, want[n], cargo.Of("fern", link.Down, n), "seed %d packet %d, one each %.3f s, off by %.3f s", seed, n, beat, bias)
		}
	}
}

// What reached a client, and it did not take in, is in the evidence of what went wrong.
func TestPacketsThatAreNotTakenIn(t *testing.T) {
	var server, fern []string
	var packets []link.Packet
	for n := 1; n <= 120; n++ {
		at := float64(n) * 0.1
		lit := n%40 < 20
		server = append(server, fmt.Sprintf(`{"t":%.3f,"full":true,"state":{"lamp/a":{"lit":%v}}}`, at, lit), says(at, fmt.Sprint(n), fmt.Sprintf("lamp/a lit %v", lit)))
		packets = append(packets, sentAt(uint64(n), at, 20))
		shown := lit
		if n >= 60 && n < 75 { // it hears nothing of the change at 60
			shown = true
		} else {
			fern = append(fern, fmt.Sprintf(`{"t":%.3f,"got":%d}`, at+0.065, n))
		}
		fern = append(fern, fmt.Sprintf(`{"t":%.3f,"full":true,"state":{"lamp/a":{"lit":%v}}}`, at+0.07, shown))
	}
	traces := wired(t, server, fern, packets...)
	traces.Rules = rulebook.Rules{Fields: []rulebook.Rule{{Entities: "lamp/*", Fields: []string{"lit"}, Compare: rulebook.Exact, MaxDelay: 300 * time.Millisecond, MinDuration: 100 * time.Millisecond}}}
	r, err := Judge(context.Background(), traces)
	require.NoError(t, err)
	require.Len(t, r.Verdict.Findings, 1)
	e := r.Verdict.Findings[0].Evidence
	assert.Positive(t, e.NotTakenIn)
	require.NotEmpty(t, e.Packets)
	assert.Equal(t, "not-taken-in", e.Packets[0].Outcome)
	assert.Equal(t, "60: lamp/a lit false", e.Packets[0].Carried)
	require.NotEmpty(t, r.Remarks)
	assert.Equal(t, "fern did not take in 15 of 100 packets that reached it, by what it says of them; the first was sent at 6.000 s: 60: lamp/a lit false", r.Remarks[len(r.Remarks)-1].Text)
}
