package relay

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/random"
)

const ms = time.Millisecond

var loopback = netip.MustParseAddrPort("127.0.0.1:0")

// linkOf is a link with these courses whose chance is that of a seed.
func linkOf(up, down link.Course, seed uint64) *Link {
	return NewLink(link.NewLine(up, random.Stream(seed, "up")), link.NewLine(down, random.Stream(seed, "down")))
}

// always gives all clients one link.
func always(l *Link) func(int) *Link { return func(int) *Link { return l } }

// echo is a server that answers every datagram with itself and the address it
// came from.
func echo(t *testing.T, at string) (netip.AddrPort, *net.UDPConn) {
	t.Helper()
	server, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort(at)))
	if err != nil {
		t.Skipf("no %s on this machine: %v", at, err)
	}
	t.Cleanup(func() { server.Close() })
	go func() {
		buffer := make([]byte, mostPayload)
		for {
			n, from, err := server.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			server.WriteToUDPAddrPort(buffer[:n], from)
		}
	}()
	return server.LocalAddr().(*net.UDPAddr).AddrPort(), server
}

// bothWays runs a test for each way of moving datagrams.
func bothWays(t *testing.T, f func(t *testing.T, o Options)) {
	for _, portable := range []bool{false, true} {
		t.Run(map[bool]string{false: "native", true: "portable"}[portable], func(t *testing.T) { f(t, Options{Portable: portable}) })
	}
}

func open(t *testing.T, o Options, paths ...Path) (*Relay, []netip.AddrPort) {
	t.Helper()
	r, err := Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	var at []netip.AddrPort
	for _, p := range paths {
		a, err := r.Add(p)
		require.NoError(t, err)
		at = append(at, a)
	}
	return r, at
}

func dial(t *testing.T, to netip.AddrPort) *net.UDPConn {
	t.Helper()
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func ask(t *testing.T, c *net.UDPConn, text string) string {
	t.Helper()
	_, err := c.Write([]byte(text))
	require.NoError(t, err)
	return hear(t, c)
}

func hear(t *testing.T, c *net.UDPConn) string {
	t.Helper()
	buffer := make([]byte, mostPayload)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
	n, err := c.Read(buffer)
	require.NoError(t, err)
	return string(buffer[:n])
}

func TestDatagramsGoThereAndBack(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		for _, at := range []string{"127.0.0.1:0", "[::1]:0"} {
			server, _ := echo(t, at)
			o.Record = true
			r, addresses := open(t, o, Path{Network: "udp", Listen: netip.MustParseAddrPort(at), To: server, Link: always(linkOf(link.Course{}, link.Course{}, 1))})
			a, b := dial(t, addresses[0]), dial(t, addresses[0])
			for i := range 3 {
				assert.Equal(t, "from a", ask(t, a, "from a"))
				big := string(bytes.Repeat([]byte{byte('0' + i)}, 9000))
				assert.Equal(t, big, ask(t, b, big))
			}
			assert.Equal(t, 2, r.Clients(0))
			packets := r.Take(nil)
			require.Len(t, packets, 12)
			assert.Equal(t, "from a", string(packets[0].Payload))
			for _, p := range packets {
				assert.Equal(t, 1, p.Copies)
			}
			stats := r.Stats()
			assert.Equal(t, 12, stats.Timing.Count())
			assert.Empty(t, r.Take(nil), "they were taken")
		}
	})
}

func TestEveryClientHasItsOwnLinkIfThePathSaysSo(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, _ := echo(t, "127.0.0.1:0")
		links := []*Link{linkOf(link.Course{}, link.Course{}, 1), linkOf(link.Course{Conditions: link.Conditions{Loss: 1}}, link.Course{}, 1)}
		_, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server, Link: func(n int) *Link { return links[n] }})
		assert.Equal(t, "1", ask(t, dial(t, at[0]), "1"))
		dead := dial(t, at[0])
		_, err := dead.Write([]byte("2"))
		require.NoError(t, err)
		require.NoError(t, dead.SetReadDeadline(time.Now().Add(50*ms)))
		_, err = dead.Read(make([]byte, 9))
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
		links[1].Set(link.Up, link.Conditions{})
		assert.Equal(t, link.Conditions{}, links[1].Quality(link.Up))
		assert.Equal(t, "3", ask(t, dead, "3"), "a link may be changed while it runs")
		links[0].Cut(true)
	})
}

func TestAClientMayMoveToAnotherAddress(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(loopback))
		require.NoError(t, err)
		defer server.Close()
		r, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server.LocalAddr().(*net.UDPAddr).AddrPort(), Link: always(linkOf(link.Course{}, link.Course{}, 1))})
		c := dial(t, at[0])
		var seen []netip.AddrPort
		for range 2 {
			_, err := c.Write([]byte("x"))
			require.NoError(t, err)
			require.NoError(t, server.SetReadDeadline(time.Now().Add(5*time.Second)))
			_, from, err := server.ReadFromUDPAddrPort(make([]byte, 9))
			require.NoError(t, err)
			seen = append(seen, from)
			require.NoError(t, r.Move(0))
		}
		assert.NotEqual(t, seen[0], seen[1])
		_, err = server.WriteToUDPAddrPort([]byte("back"), seen[0])
		require.NoError(t, err)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(50*ms)))
		_, err = c.Read(make([]byte, 9))
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "what goes to the old address is lost")
	})
}

func TestADeadServerIsNoticed(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		server, conn := echo(t, "127.0.0.1:0")
		conn.Close()
		r, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server, Link: always(linkOf(link.Course{}, link.Course{}, 1))})
		c := dial(t, at[0])
		require.Eventually(t, func() bool {
			c.Write([]byte("anybody?"))
			return r.Stats().Refused > 0
		}, 5*time.Second, 5*ms)
	})
}

func TestSessionsExpireAndLeaveNothingBehind(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		before := descriptors(t)
		server, _ := echo(t, "127.0.0.1:0")
		r, err := Open(o)
		require.NoError(t, err)
		at, err := r.Add(Path{Network: "udp", Listen: loopback, To: server, Expire: 10 * ms, Link: always(linkOf(link.Course{}, link.Course{}, 1))})
		require.NoError(t, err)
		for range 20 {
			c := dial(t, at)
			ask(t, c, "x")
			c.Close()
		}
		require.Eventually(t, func() bool { return r.Clients(0) == 0 }, 5*time.Second, 20*ms)
		again := dial(t, at)
		assert.Equal(t, "y", ask(t, again, "y"), "who comes again is a new client")
		require.NoError(t, r.Close())
		again.Close()
		assert.LessOrEqual(t, descriptors(t), before+1, "but for the server's socket all are closed")
	})
}

// descriptors counts the open files of this process, where that can be told.
func descriptors(t *testing.T) int {
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Skip("open files cannot be counted here")
	}
	return len(entries)
}

// What comes out of a real link must be what was asked for. Delays are taken from
// the relay's outcomes and from the packets themselves; real ones are later by what
// the machine adds, so they are only held against the least.
func TestRealPacketsShowTheLinkThatWasAskedFor(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		const n = 4000
		q := link.Conditions{Latency: 30 * ms, Jitter: 6 * ms, Loss: 0.1, Burst: 3, Reorder: true}
		server, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(loopback))
		require.NoError(t, err)
		defer server.Close()
		require.NoError(t, server.SetReadBuffer(4<<20))
		r, at := open(t, o, Path{Network: "udp", Listen: loopback, To: server.LocalAddr().(*net.UDPAddr).AddrPort(), Link: always(linkOf(link.Course{Conditions: q}, link.Course{}, 4))})
		zero := time.Now()
		arrived := make([]time.Duration, n)
		done := make(chan struct{})
		go func() {
			defer close(done)
			buffer := make([]byte, 64)
			for {
				server.SetReadDeadline(time.Now().Add(500 * ms))
				if _, err := server.Read(buffer); err != nil {
					return
				}
				arrived[binary.LittleEndian.Uint32(buffer)] = time.Since(zero)
			}
		}()
		c := dial(t, at[0])
		sent := make([]time.Duration, n)
		for i := range n {
			if i%8 == 0 {
				time.Sleep(ms)
			}
			sent[i] = time.Since(zero)
			_, err := c.Write(binary.LittleEndian.AppendUint32(nil, uint32(i)))
			require.NoError(t, err)
		}
		<-done
		packets := r.Take(nil)
		require.Len(t, packets, n, "none was lost on the way to the relay")
		lost, bursts := 0, 0
		var asked []float64
		for i, p := range packets {
			if p.Copies == 0 {
				lost++
				require.Zero(t, arrived[i], "packet %d has the outcome of a lost one and arrived", i)
				if i == 0 || packets[i-1].Outcome.Copies > 0 {
					bursts++
				}
				continue
			}
			require.NotZero(t, arrived[i], "packet %d has the outcome of an arrival and was lost", i)
			require.GreaterOrEqual(t, arrived[i]-sent[i], p.Arrives[0]-p.Sent-time.Microsecond, "packet %d came too early", i)
			asked = append(asked, float64(p.Arrives[0]-p.Sent-q.Latency)/float64(q.Jitter))
		}
		assert.InDelta(t, q.Loss, float64(lost)/n, 5*math.Sqrt(2*q.Burst*q.Loss/n))
		assert.InEpsilon(t, q.Burst, float64(lost)/float64(bursts), 5/math.Sqrt(float64(bursts)))
		slices.Sort(asked)
		worst := 0.0
		for i, z := range asked {
			worst = max(worst, math.Abs(0.5*math.Erfc(-z/math.Sqrt2)-float64(i)/float64(len(asked))))
		}
		assert.Less(t, worst, 1.95/math.Sqrt(float64(len(asked))), "Kolmogorov-Smirnov at the 0.1% level")
	})
}

// talk is a TCP server that hands each connection to f.
func talk(t *testing.T, f func(*net.TCPConn)) netip.AddrPort {
	t.Helper()
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(loopback))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.AcceptTCP()
			if err != nil {
				return
			}
			go f(c)
		}
	}()
	return l.Addr().(*net.TCPAddr).AddrPort()
}

func dialStream(t *testing.T, to netip.AddrPort) *net.TCPConn {
	t.Helper()
	c, err := net.DialTCP("tcp", nil, net.TCPAddrFromAddrPort(to))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	require.NoError(t, c.SetDeadline(time.Now().Add(20*time.Second)))
	return c
}

func TestAStreamKeepsEveryByteAndCloseIsPassedOnByHalves(t *testing.T) {
	for name, q := range map[string]link.Conditions{
		"perfect":          {},
		"delayed":          {Latency: 3 * ms, Jitter: 2 * ms},
		"with loss":        {Latency: ms, Loss: 0.02},
		"with a rate":      {Rate: 200e6},
		"spoiled and such": {Corrupt: 0.5, Duplicate: 0.5, MTU: 10, Reorder: true, Jitter: ms},
	} {
		t.Run(name, func(t *testing.T) {
			server := talk(t, func(c *net.TCPConn) { // answers after the end of what it is told
				all, _ := io.ReadAll(c)
				fmt.Fprintf(c, "%d bytes: ", len(all))
				c.Write(all)
				c.Close()
			})
			r, at := open(t, Options{}, Path{Network: "tcp", Listen: loopback, To: server, Link: always(linkOf(link.Course{Conditions: q}, link.Course{Conditions: q}, 9))})
			data := make([]byte, 1_000_000)
			random := rand.New(rand.NewPCG(1, 2))
			for i := range data {
				data[i] = byte(random.Uint32())
			}
			c := dialStream(t, at[0])
			go func() {
				c.Write(data)
				c.CloseWrite()
			}()
			back, err := io.ReadAll(c)
			require.NoError(t, err)
			want := append([]byte("1000000 bytes: "), data...)
			require.True(t, bytes.Equal(want, back))
			require.Eventually(t, func() bool { return r.Clients(0) == 0 }, 5*time.Second, ms)
			for _, p := range r.Take(nil) {
				require.True(t, p.Stream)
				require.Equal(t, 1, p.Copies)
			}
		})
	}
}

func TestAStreamMayBeBrokenOff(t *testing.T) {
	closed := make(chan error, 4)
	server := talk(t, func(c *net.TCPConn) {
		_, err := io.ReadAll(c)
		closed <- err
	})
	r, at := open(t, Options{}, Path{Network: "tcp", Listen: loopback, To: server, Link: always(linkOf(link.Course{Conditions: link.Conditions{Latency: time.Hour}}, link.Course{}, 9))})
	c := dialStream(t, at[0])
	_, err := c.Write([]byte("never comes"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return r.Clients(0) == 1 }, 5*time.Second, ms)
	r.Reset(0)
	_, err = c.Read(make([]byte, 1))
	assert.Error(t, err)
	assert.NotErrorIs(t, err, io.EOF, "a reset is no end")
	assert.Error(t, <-closed)
}

func TestAServerThatIsNotThereBreaksTheStreamOff(t *testing.T) {
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(loopback))
	require.NoError(t, err)
	gone := l.Addr().(*net.TCPAddr).AddrPort()
	l.Close()
	r, at := open(t, Options{}, Path{Network: "tcp", Listen: loopback, To: gone, Link: always(linkOf(link.Course{}, link.Course{}, 9))})
	if c, err := net.DialTCP("tcp", nil, net.TCPAddrFromAddrPort(at[0])); err == nil { // or it is broken off at once
		defer c.Close()
		_, err = c.Read(make([]byte, 1))
		assert.Error(t, err)
	}
	assert.Equal(t, 1, r.Stats().Refused)
}

func TestAPortThatIsTakenIsSaid(t *testing.T) {
	bothWays(t, func(t *testing.T, o Options) {
		taken, _ := echo(t, "127.0.0.1:0")
		r, err := Open(o)
		require.NoError(t, err)
		defer r.Close()
		_, err = r.Add(Path{Network: "udp", Listen: taken, To: taken, Link: always(nil)})
		assert.ErrorContains(t, err, "relay: listening on udp "+taken.String())
		assert.ErrorContains(t, err, "address already in use")
		_, err = r.Add(Path{Network: "pigeon"})
		assert.ErrorContains(t, err, `there is no network "pigeon"; there are udp and tcp`)
	})
}

func TestTimingKnowsDurationsToWithinAnEighth(t *testing.T) {
	var timing Timing
	assert.Zero(t, timing.Quantile(0.5))
	for us := range 100_000 {
		timing.Add(time.Duration(us) * time.Microsecond)
	}
	timing.Add(-ms)
	for _, q := range []float64{0.001, 0.5, 0.99} {
		assert.InEpsilon(t, q*100_000, float64(timing.Quantile(q).Microseconds()), 0.13)
	}
	assert.Equal(t, 99_999*time.Microsecond, timing.Most())
	assert.Equal(t, 100_001, timing.Count())
	bars := timing.Bars([]time.Duration{8 * time.Microsecond, 64 * ms})
	assert.Equal(t, 9, bars[0])
	assert.InDelta(t, 64_000, bars[0]+bars[1], 8000)
	assert.Equal(t, 100_001, bars[0]+bars[1]+bars[2])
	timing.Add(10 * time.Hour)
	assert.Equal(t, 10*time.Hour, timing.Quantile(1))
}

func TestWhatNobodyTakesDoesNotGrowForEver(t *testing.T) {
	c := &core{zero: time.Now()}
	for range mostUntold + 5 {
		c.tell(Packet{}, nil)
	}
	assert.Equal(t, 5, c.stats().Untold)
	assert.Len(t, c.take(nil), mostUntold)
}

func TestTwoThousandClientsFitIntoThirtyMegabytes(t *testing.T) {
	if testing.Short() {
		t.Skip("opens thousands of sockets")
	}
	server, _ := echo(t, "127.0.0.1:0")
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	r, at := open(t, Options{}, Path{Network: "udp", Listen: loopback, To: server, Link: func(n int) *Link {
		return linkOf(link.Course{}, link.Course{}, uint64(n))
	}})
	for range 2000 {
		c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(at[0]))
		if err != nil {
			t.Skipf("this machine does not allow so many sockets: %v", err)
		}
		defer c.Close()
		ask(t, c, "x")
	}
	require.Equal(t, 2000, r.Clients(0))
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, after.Sys-before.Sys, uint64(30<<20))
}
