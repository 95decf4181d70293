package playground

import (
	"bytes"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

const ms = time.Millisecond

// board is one in front of a server that answers what it hears.
func board(t *testing.T, c Config) *Board {
	t.Helper()
	server, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	go func() {
		buffer := make([]byte, 2000)
		for {
			n, from, err := server.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			server.WriteToUDPAddrPort(buffer[:n], from)
		}
	}()
	c.Network, c.Listen, c.To = "udp", netip.MustParseAddrPort("127.0.0.1:0"), server.LocalAddr().(*net.UDPAddr).AddrPort()
	b, err := Open(c)
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

// ask sends something and reports whether it came back.
func ask(t *testing.T, c *net.UDPConn, within time.Duration) bool {
	t.Helper()
	_, err := c.Write([]byte("anybody?"))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(within)))
	_, err = c.Read(make([]byte, 100))
	return err == nil
}

func dial(t *testing.T, b *Board) *net.UDPConn {
	t.Helper()
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(b.At()))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func TestClientsAreCounted(t *testing.T) {
	var outcomes, packets bytes.Buffer
	b := board(t, Config{Up: link.Conditions{Latency: 5 * ms}, Outcomes: &outcomes, Capture: &packets})
	first, second := dial(t, b), dial(t, b)
	require.True(t, ask(t, first, 5*time.Second))
	require.True(t, ask(t, first, 5*time.Second))
	require.True(t, ask(t, second, 5*time.Second))
	clients, err := b.Look()
	require.NoError(t, err)
	require.Len(t, clients, 2)
	assert.Equal(t, "client-1", clients[0].Name)
	assert.Equal(t, first.LocalAddr().String(), clients[0].From.String())
	assert.Equal(t, 2, clients[0].Up.Packets)
	assert.Equal(t, 16, clients[0].Up.Bytes)
	assert.Equal(t, 5*ms, clients[0].Up.Delay)
	assert.Zero(t, clients[0].Down.Delay)
	assert.Equal(t, 1, clients[1].Down.Packets)
	require.NoError(t, b.Close())
	assert.Equal(t, 6, strings.Count(outcomes.String(), "\n"))
	assert.Greater(t, packets.Len(), 600)
}

func TestCommandsChangeTheLink(t *testing.T) {
	b := board(t, Config{})
	c := dial(t, b)
	require.True(t, ask(t, c, 5*time.Second))
	for _, step := range []struct {
		command  string
		up, down link.Conditions
	}{
		{"latency 20ms", link.Conditions{Latency: 20 * ms}, link.Conditions{Latency: 20 * ms}},
		{"down loss 5%", link.Conditions{Latency: 20 * ms}, link.Conditions{Latency: 20 * ms, Loss: 0.05}},
		{"up rate 1Mbit/s", link.Conditions{Latency: 20 * ms, Rate: 1e6}, link.Conditions{Latency: 20 * ms, Loss: 0.05}},
		{"link village", link.Ready[1].Up.Conditions, link.Ready[1].Down.Conditions},
		{"down link same-room", link.Ready[1].Up.Conditions, link.Ready[0].Down.Conditions},
	} {
		require.NoError(t, b.Do(step.command), step.command)
		up, down, _ := b.Link()
		assert.Equal(t, step.up, up, step.command)
		assert.Equal(t, step.down, down, step.command)
	}
	require.NoError(t, b.Do("loss 0"))
	require.NoError(t, b.Do("cut"))
	assert.False(t, ask(t, c, 100*ms), "nothing passes")
	require.NoError(t, b.Do("restore"))
	assert.True(t, ask(t, c, 5*time.Second))
	require.NoError(t, b.Do("move"))
	assert.True(t, ask(t, c, 5*time.Second))
	require.NoError(t, b.Do("reset"))
	for _, wrong := range []string{"", "fish", "latency soon", "link moon", "up", "loss 120%", "colour red"} {
		assert.Error(t, b.Do(wrong), wrong)
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestARecordThatCannotBeWrittenIsSaid(t *testing.T) {
	b := board(t, Config{Outcomes: full{}})
	require.True(t, ask(t, dial(t, b), 5*time.Second))
	_, err := b.Look()
	assert.EqualError(t, err, "recording packets: no room")
}
