package process

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whether a port is bound is looked up: nothing arrives there.
func TestAPortIsFoundBoundWithoutASound(t *testing.T) {
	udp, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	everywhere, err := net.Listen("tcp", ":0")
	require.NoError(t, err)
	defer everywhere.Close()
	loopback := func(a net.Addr) netip.AddrPort {
		at := netip.MustParseAddrPort(a.String())
		return netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), at.Port())
	}
	at, stream := loopback(udp.LocalAddr()), loopback(tcp.Addr())
	for _, c := range []struct {
		network string
		at      netip.AddrPort
		bound   bool
	}{{"udp", at, true}, {"tcp", stream, true}, {"tcp", loopback(everywhere.Addr()), true}, {"tcp", at, false}, {"udp", stream, false}} {
		bound, known := Bound(c.network, c.at)
		require.True(t, known)
		assert.Equal(t, c.bound, bound, "%s %v", c.network, c.at)
	}
	require.NoError(t, udp.Close())
	require.NoError(t, tcp.Close())
	for network, at := range map[string]netip.AddrPort{"udp": at, "tcp": stream} {
		bound, _ := Bound(network, at)
		assert.False(t, bound, network)
	}
	_, known := Bound("udp", netip.MustParseAddrPort("203.0.113.9:7000"))
	assert.False(t, known, "nobody knows what another machine listens to")
}
