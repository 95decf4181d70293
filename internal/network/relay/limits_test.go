package relay

import (
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

// A flood on a slow link is dropped by the relay itself, and recorded so, before it takes
// all memory.
func TestAFloodOnASlowLinkHasABound(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, _ := echo(t, "127.0.0.1:0")
		slow := link.Course{Conditions: link.Conditions{Latency: time.Hour}}
		r, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server, Link: always(linkOf(slow, slow, 1))})
		c := dial(t, at[0])
		payload := make([]byte, 60_000)
		dropped, sent := 0, 0
		for dropped == 0 && sent < 20_000 {
			for range 20 {
				_, _ = c.Write(payload) // one that the system has no room for is no matter
			}
			sent += 20
			time.Sleep(ms)
			for _, p := range r.Take(nil) {
				if p.Outcome.Dropped == link.RelayFull {
					assert.Zero(t, p.Copies)
					dropped++
				}
			}
		}
		require.Positive(t, dropped, "after %d MB", sent*len(payload)/1e6)
		assert.GreaterOrEqual(t, r.Stats().Full, dropped)
	})
}

// What is asked of a relay that is closed touches no socket of somebody else's.
func TestAClosedRelayDoesNothing(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, _ := echo(t, "127.0.0.1:0")
		good := linkOf(link.Course{}, link.Course{}, 1)
		r, err := Open(o)
		require.NoError(t, err)
		at, err := r.Add(Path{Network: "udp", Listen: loopback, To: server, Link: always(good)})
		require.NoError(t, err)
		_, err = r.Add(Path{Network: "tcp", Listen: loopback, To: server, Link: always(good)})
		require.NoError(t, err)
		c := dial(t, at)
		ask(t, c, "hello")
		require.NoError(t, r.Close())
		// Sockets that are opened now get the numbers that the relay's had.
		var others []*net.UDPConn
		for range 8 {
			other, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
			require.NoError(t, err)
			others = append(others, other)
		}
		assert.ErrorIs(t, r.Move(0), net.ErrClosed)
		assert.NoError(t, r.Close())
		r.Reset(1)
		_ = r.Clients(0)
		_, err = r.Add(Path{Network: "udp", Listen: loopback, To: server, Link: always(good)})
		assert.ErrorIs(t, err, net.ErrClosed)
		for i, other := range others {
			_, err := other.WriteToUDPAddrPort([]byte(fmt.Sprint(i)), server)
			assert.NoError(t, err, "a socket of another is still open")
			assert.NoError(t, other.Close())
		}
	})
}
