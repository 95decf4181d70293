package relay

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zitherwheel/internal/network/link"
)

// The sender and the receiver of a benchmark are processes of their own, so that
// what this process uses is what the relay uses. The same two are measured
// without a relay between them.
func TestMain(m *testing.M) {
	switch os.Getenv("ZWHEEL_BENCH") {
	case "send":
		benchSend()
	case "receive":
		benchReceive()
	default:
		os.Exit(m.Run())
	}
}

const benchSize = 200

// benchSend sends ZWHEEL_COUNT datagrams to ZWHEEL_TO, ZWHEEL_RATE a second, each
// with the time at which it is sent.
func benchSend() {
	runtime.LockOSThread()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0)
	to := netip.MustParseAddrPort(os.Getenv("ZWHEEL_TO"))
	count, _ := strconv.Atoi(os.Getenv("ZWHEEL_COUNT"))
	rate, _ := strconv.Atoi(os.Getenv("ZWHEEL_RATE"))
	fd, err := openSocket(to.Addr())
	if err == nil {
		err = unix.Connect(fd, sockaddr(to))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	data := make([]byte, benchSize)
	began := time.Now()
	for i := range count {
		due := time.Duration(i) * time.Second / time.Duration(rate)
		if wait := due - time.Since(began); wait > 20*time.Microsecond {
			rest := unix.NsecToTimespec(int64(wait))
			_ = unix.Nanosleep(&rest, nil)
		}
		binary.LittleEndian.PutUint64(data, uint64(time.Now().UnixNano()))
		_, _ = unix.Write(fd, data) // a full socket shows as a loss
	}
}

type benchResult struct {
	Received      int
	P50, P99, Max float64 // microseconds from sending to the kernel's stamp of arrival
}

// benchReceive receives until nothing has come for a while.
func benchReceive() {
	fd, err := openSocket(netip.MustParseAddr("127.0.0.1"))
	if err == nil {
		err = unix.Bind(fd, sockaddr(netip.MustParseAddrPort("127.0.0.1:0")))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	at, _ := localAddress(fd)
	fmt.Println(at)
	in, pool := newInbox(), &slab{}
	var delays []float64
	for {
		wait := 1500
		if len(delays) == 0 {
			wait = 20_000
		}
		if n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, wait); err == nil && n == 0 {
			break
		}
		n, errno := in.receive(fd, pool)
		if errno != 0 {
			continue
		}
		now := time.Now()
		for i := range n {
			data, _ := in.datagram(i)
			sent := int64(binary.LittleEndian.Uint64(data))
			delays = append(delays, float64(now.UnixNano()-sent)/1e3-float64(now.Sub(now.Add(in.arrived(i, now, now))))/1e3)
		}
	}
	var r benchResult
	if r.Received = len(delays); r.Received > 0 {
		slices.Sort(delays)
		r.P50, r.P99, r.Max = delays[len(delays)/2], delays[len(delays)*99/100], delays[len(delays)-1]
	}
	json.NewEncoder(os.Stdout).Encode(r)
}

// child starts this program again in another role.
func child(b *testing.B, role string, env ...string) (*exec.Cmd, *json.Decoder, io.Reader) {
	c := exec.Command(os.Args[0])
	c.Env = append(os.Environ(), append(env, "ZWHEEL_BENCH="+role)...)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, c.Start())
	return c, json.NewDecoder(out), out
}

// carry sends datagrams through a relay, or without one, and reports how it went.
func carry(b *testing.B, relayed bool, o Options, q link.Conditions, rate int) benchResult {
	receiver, _, out := child(b, "receive")
	line := make([]byte, 64)
	n, err := out.Read(line)
	require.NoError(b, err)
	to := netip.MustParseAddrPort(string(line[:n-1]))
	if relayed {
		r, err := Open(o)
		require.NoError(b, err)
		defer r.Close()
		at, err := r.Add(Path{Network: "udp", Listen: loopback, To: to, Link: always(linkOf(link.Course{Conditions: q}, link.Course{}, 1))})
		require.NoError(b, err)
		to = at
		stop := make(chan struct{})
		defer close(stop)
		go func() { // what a run does with the outcomes
			var list []Packet
			for {
				select {
				case <-stop:
					return
				case <-time.After(50 * ms):
					list = r.Take(list[:0])
				}
			}
		}()
	}
	b.ReportAllocs()
	b.ResetTimer()
	cpu := cpuTime()
	sender, _, _ := child(b, "send", "ZWHEEL_TO="+to.String(), "ZWHEEL_COUNT="+strconv.Itoa(b.N), "ZWHEEL_RATE="+strconv.Itoa(rate))
	require.NoError(b, sender.Wait())
	b.StopTimer()
	used := cpuTime() - cpu
	var result benchResult
	require.NoError(b, json.NewDecoder(out).Decode(&result))
	require.NoError(b, receiver.Wait())
	b.ReportMetric(result.P50-float64(q.Latency)/1e3, "p50-us")
	b.ReportMetric(result.P99-float64(q.Latency)/1e3, "p99-us")
	b.ReportMetric(100*(1-float64(result.Received)/float64(b.N)), "%lost")
	// For comparison: what the sender itself uses to send a packet once.
	b.ReportMetric(float64((sender.ProcessState.UserTime()+sender.ProcessState.SystemTime()).Microseconds())/float64(b.N), "sender-cpu-us/packet")
	if relayed {
		b.ReportMetric(float64(used.Microseconds())/float64(b.N), "cpu-us/packet")
	}
	return result
}

func cpuTime() time.Duration {
	var u unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// One-way delay of datagrams beyond what the link is to add, at 10,000 a second.
// Run with -benchtime 50000x.
func BenchmarkDatagramDelay(b *testing.B) {
	for _, c := range []struct {
		name    string
		relayed bool
		options Options
		quality link.Conditions
	}{
		{"direct", false, Options{}, link.Conditions{}},
		{"relay", true, Options{}, link.Conditions{}},
		{"relay-50ms", true, Options{}, link.Conditions{Latency: 50 * ms}},
		{"portable", true, Options{Portable: true}, link.Conditions{}},
		{"portable-50ms", true, Options{Portable: true}, link.Conditions{Latency: 50 * ms}},
	} {
		b.Run(c.name, func(b *testing.B) { carry(b, c.relayed, c.options, c.quality, 10_000) })
	}
}

// What gets through at 100,000 datagrams a second, delayed. Run with -benchtime
// 300000x.
func BenchmarkDatagramThroughput(b *testing.B) {
	b.Run("direct", func(b *testing.B) { carry(b, false, Options{}, link.Conditions{}, 100_000) })
	b.Run("relay-50ms", func(b *testing.B) { carry(b, true, Options{}, link.Conditions{Latency: 50 * ms}, 100_000) })
}

// Throughput of one stream, and the delay of small pieces there and back.
func BenchmarkStream(b *testing.B) {
	through := func(b *testing.B, relayed bool, server func(*net.TCPConn), client func(*net.TCPConn)) {
		l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(loopback))
		require.NoError(b, err)
		defer l.Close()
		go func() {
			if c, err := l.AcceptTCP(); err == nil {
				server(c)
			}
		}()
		to := l.Addr().(*net.TCPAddr).AddrPort()
		if relayed {
			r, err := Open(Options{})
			require.NoError(b, err)
			defer r.Close()
			to, err = r.Add(Path{Network: "tcp", Listen: loopback, To: to, Link: always(linkOf(link.Course{}, link.Course{}, 1))})
			require.NoError(b, err)
		}
		c, err := net.DialTCP("tcp", nil, net.TCPAddrFromAddrPort(to))
		require.NoError(b, err)
		defer c.Close()
		client(c)
	}
	for name, relayed := range map[string]bool{"direct": false, "relay": true} {
		b.Run("throughput-"+name, func(b *testing.B) {
			const piece = 64 << 10
			b.SetBytes(piece)
			done := make(chan struct{})
			through(b, relayed, func(c *net.TCPConn) {
				io.Copy(io.Discard, c)
				close(done)
			}, func(c *net.TCPConn) {
				data := make([]byte, piece)
				b.ResetTimer()
				for range b.N {
					if _, err := c.Write(data); err != nil {
						b.Fatal(err)
					}
				}
				c.CloseWrite()
				<-done
			})
		})
		b.Run("delay-"+name, func(b *testing.B) {
			var times []float64
			through(b, relayed, func(c *net.TCPConn) { io.Copy(c, c) }, func(c *net.TCPConn) {
				data := make([]byte, 100)
				for b.Loop() {
					began := time.Now()
					c.Write(data)
					io.ReadFull(c, data)
					times = append(times, float64(time.Since(began))/2e3)
					time.Sleep(200 * time.Microsecond)
				}
			})
			slices.Sort(times)
			b.ReportMetric(times[len(times)/2], "one-way-p50-us")
		})
	}
}
