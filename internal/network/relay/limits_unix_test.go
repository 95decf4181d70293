//go:build unix

package relay

import (
	"net"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

// A relay that is out of descriptors says so, and a client whose socket could not be
// made anew comes back with its next packet.
func TestARelayOutOfDescriptorsSaysSo(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, _ := echo(t, "127.0.0.1:0")
		r, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server, Link: always(linkOf(link.Course{}, link.Course{}, 1))})
		known, fresh := dial(t, at[0]), dial(t, at[0])
		assert.NotEmpty(t, ask(t, known, "hello"))
		var before syscall.Rlimit
		require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &before))
		// One that is opened now has the lowest free number: beyond it there are to be none.
		probe, err := os.Open(os.DevNull)
		require.NoError(t, err)
		none := before
		none.Cur = uint64(probe.Fd())
		require.NoError(t, probe.Close())
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &none))
		_, _ = fresh.Write([]byte("hello"))
		for range 200 {
			if r.Stats().Trouble != "" {
				break
			}
			time.Sleep(5 * ms)
		}
		moved := r.Move(0)
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &before))
		assert.Contains(t, r.Stats().Trouble, "too many open files")
		_ = moved // its old socket made room for the new one, or not
		for _, c := range []*net.UDPConn{known, fresh} {
			assert.NotEmpty(t, ask(t, c, "again"))
		}
	})
}
