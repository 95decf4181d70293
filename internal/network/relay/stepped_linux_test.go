package relay

import (
	"bytes"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/random"
)

// steps is a stepped relay with one path, and what a test needs to drive it.
type steps struct {
	*Stepped
	t   *testing.T
	at  netip.AddrPort // of the path
	now time.Duration
}

func step(t *testing.T, network string, to netip.AddrPort, q link.Conditions) *steps {
	t.Helper()
	r, err := NewStepped(SteppedOptions{Zero: time.Second, Record: true})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, r.Close()) })
	course := link.Course{Conditions: q}
	lines := NewLink(link.NewLine(course, random.Stream(1, "up")), link.NewLine(course, random.Stream(1, "down")))
	at, err := r.Add(Path{Network: network, Listen: netip.MustParseAddrPort("127.0.0.1:0"), To: to, Link: func(int) *Link { return lines }})
	require.NoError(t, err)
	return &steps{Stepped: r, t: t, at: at, now: time.Second}
}

// take waits until something has come, at the time that it is.
func (s *steps) take() {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return s.Collect(s.now) }, 5*time.Second, time.Millisecond)
}

// deliver lets time pass to what is due next, and hands that on.
func (s *steps) deliver() {
	s.t.Helper()
	due, any := s.Next()
	require.True(s.t, any, "something is on the way")
	s.now = due
	s.Deliver()
}

func datagrams(t *testing.T) *net.UDPConn {
	t.Helper()
	c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	require.NoError(t, c.SetDeadline(time.Now().Add(10*time.Second)))
	return c
}

func addressOfConn(c *net.UDPConn) netip.AddrPort { return c.LocalAddr().(*net.UDPAddr).AddrPort() }

func TestASteppedRelayMovesDatagramsWhenItIsTold(t *testing.T) {
	server, client := datagrams(t), datagrams(t)
	s := step(t, "udp", addressOfConn(server), link.Conditions{Latency: 80 * time.Millisecond})
	_, err := client.WriteToUDPAddrPort([]byte("hello"), s.at)
	require.NoError(t, err)
	s.take()
	due, any := s.Next()
	assert.True(t, any)
	assert.Equal(t, 1080*time.Millisecond, due, "by the clock that drives it")
	s.deliver()
	buffer := make([]byte, 100)
	n, from, err := server.ReadFromUDPAddrPort(buffer)
	require.NoError(t, err)
	assert.Equal(t, "hello", string(buffer[:n]))
	assert.NotEqual(t, addressOfConn(client), from, "the relay has a socket of its own for it")

	_, err = server.WriteToUDPAddrPort([]byte("welcome"), from)
	require.NoError(t, err)
	s.take()
	s.deliver()
	n, back, err := client.ReadFromUDPAddrPort(buffer)
	require.NoError(t, err)
	assert.Equal(t, "welcome", string(buffer[:n]))
	assert.Equal(t, s.at, back)

	list := s.Take(nil)
	require.Len(t, list, 2)
	assert.Equal(t, link.Up, list[0].Direction)
	assert.Equal(t, time.Duration(0), list[0].Sent, "from the zero of the match")
	assert.Equal(t, 80*time.Millisecond, list[0].Arrives[0])
	assert.Equal(t, 80*time.Millisecond, list[1].Sent)
	assert.Equal(t, "welcome", string(list[1].Payload))

	require.NoError(t, s.Move(0))
	_, err = client.WriteToUDPAddrPort([]byte("again"), s.at)
	require.NoError(t, err)
	s.take()
	s.deliver()
	_, moved, err := server.ReadFromUDPAddrPort(buffer)
	require.NoError(t, err)
	assert.NotEqual(t, from, moved, "the server sees it under another address")
}

func TestASteppedRelayLosesAndDoublesDatagrams(t *testing.T) {
	server, client := datagrams(t), datagrams(t)
	lost := step(t, "udp", addressOfConn(server), link.Conditions{Loss: 1})
	_, err := client.WriteToUDPAddrPort([]byte("gone"), lost.at)
	require.NoError(t, err)
	lost.take()
	_, any := lost.Next()
	assert.False(t, any)

	twice := step(t, "udp", addressOfConn(server), link.Conditions{Duplicate: 1, Latency: time.Millisecond})
	_, err = client.WriteToUDPAddrPort([]byte("twice"), twice.at)
	require.NoError(t, err)
	twice.take()
	twice.deliver()
	twice.deliver()
	buffer := make([]byte, 100)
	for range 2 {
		n, err := server.Read(buffer)
		require.NoError(t, err)
		assert.Equal(t, "twice", string(buffer[:n]))
	}
}

func TestASteppedRelayMovesStreams(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	s := step(t, "tcp", listener.Addr().(*net.TCPAddr).AddrPort(), link.Conditions{Latency: 50 * time.Millisecond})
	client, err := net.Dial("tcp", s.at.String())
	require.NoError(t, err)
	s.take()
	server, err := listener.Accept()
	require.NoError(t, err)
	require.NoError(t, server.SetDeadline(time.Now().Add(20*time.Second)))

	sent := bytes.Repeat([]byte("a stream of many bytes "), 60000) // more than buffers hold
	go func() {
		_, _ = client.Write(sent)
		_ = client.(*net.TCPConn).CloseWrite()
	}()
	got := make(chan []byte)
	go func() {
		all, _ := io.ReadAll(server)
		got <- all
	}()
	var all []byte
	require.Eventually(t, func() bool {
		s.Collect(s.now)
		if due, any := s.Next(); any {
			s.now = max(s.now, due)
			s.Deliver()
		}
		select {
		case all = <-got:
			return true
		default:
			return false
		}
	}, 20*time.Second, 50*time.Microsecond)
	assert.Equal(t, len(sent), len(all))
	assert.True(t, bytes.Equal(sent, all), "whole, in order, to its end")

	s.Reset(0)
	_, err = server.Read(make([]byte, 1))
	assert.Error(t, err, "it was broken off")
}

func TestASteppedRelayBreaksOffWhatFindsNobody(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	to := listener.Addr().(*net.TCPAddr).AddrPort()
	require.NoError(t, listener.Close())
	s := step(t, "tcp", to, link.Conditions{})
	client, err := net.Dial("tcp", s.at.String())
	require.NoError(t, err)
	require.NoError(t, client.SetDeadline(time.Now().Add(10*time.Second)))
	require.Eventually(t, func() bool {
		s.Collect(s.now)
		return s.Stats().Refused > 0
	}, 5*time.Second, time.Millisecond)
	_, err = client.Read(make([]byte, 1))
	assert.Error(t, err)
}

// What a stepped relay does follows from what it is given and when alone.
func TestASteppedRelayDoesTheSameTwice(t *testing.T) {
	play := func() (list []Packet) {
		server := datagrams(t)
		s := step(t, "udp", addressOfConn(server), link.Conditions{Latency: 30 * time.Millisecond, Jitter: 10 * time.Millisecond, Loss: 0.2, Duplicate: 0.1, Reorder: true})
		clients := []*net.UDPConn{datagrams(t), datagrams(t), datagrams(t)}
		for round := range 40 {
			for i, c := range clients {
				_, err := c.WriteToUDPAddrPort(bytes.Repeat([]byte{byte(i)}, 10+round), s.at)
				require.NoError(t, err)
				s.take() // one after the other: several at once are read in the order of their sockets
			}
			for {
				due, any := s.Next()
				if !any || due > s.now+50*time.Millisecond {
					break
				}
				s.now = max(s.now, due)
				s.Deliver()
			}
			s.now += 50 * time.Millisecond
		}
		list = s.Take(nil)
		for i := range list {
			list[i].From = netip.AddrPort{} // the system chose the clients' ports
		}
		return list
	}
	first := play()
	assert.Len(t, first, 120)
	assert.Equal(t, first, play())
}

func TestASteppedRelayOfTheNewerProtocol(t *testing.T) {
	server, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv6loopback})
	if err != nil {
		t.Skip(err)
	}
	defer server.Close()
	require.NoError(t, server.SetDeadline(time.Now().Add(10*time.Second)))
	r, err := NewStepped(SteppedOptions{})
	require.NoError(t, err)
	defer func() { assert.NoError(t, r.Close()) }()
	lines := NewLink(link.NewLine(link.Course{}, random.Stream(1, "up")), link.NewLine(link.Course{}, random.Stream(1, "down")))
	at, err := r.Add(Path{Network: "udp", Listen: netip.MustParseAddrPort("[::1]:0"), To: addressOfConn(server), Link: func(int) *Link { return lines }})
	require.NoError(t, err)
	client, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(at))
	require.NoError(t, err)
	defer client.Close()
	_, err = client.Write([]byte("over six"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return r.Collect(0) }, 5*time.Second, time.Millisecond)
	r.Deliver()
	buffer := make([]byte, 100)
	n, err := server.Read(buffer)
	require.NoError(t, err)
	assert.Equal(t, "over six", string(buffer[:n]))
}

func TestASteppedRelayChoosesThePortsThatItIsGiven(t *testing.T) {
	next := uint16(31000)
	r, err := NewStepped(SteppedOptions{Port: func() uint16 { next++; return next }})
	require.NoError(t, err)
	defer func() { assert.NoError(t, r.Close()) }()
	at, err := r.Add(Path{Network: "tcp", Listen: netip.MustParseAddrPort("127.0.0.1:0"), To: netip.MustParseAddrPort("127.0.0.1:9"), Link: func(int) *Link { return nil }})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, at.Port(), uint16(31001))
	assert.Less(t, at.Port(), uint16(31101), "the next that nobody has")
	_, err = r.Add(Path{Network: "tcp", Listen: at, To: at, Link: func(int) *Link { return nil }})
	assert.ErrorContains(t, err, "listening on tcp "+at.String())
}
