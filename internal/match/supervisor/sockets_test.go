//go:build linux && amd64

package supervisor

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"golang.org/x/sys/unix"
)

func TestPortsAreOnesOwnAndFollowFromTheSeed(t *testing.T) {
	ports := func(seed uint64) (list []uint16) {
		alone(t, seed, func(s *stage) {
			for range 5 {
				list = append(list, s.Port())
			}
		})
		return list
	}
	first := ports(3)
	assert.Equal(t, first, ports(3))
	seen := map[uint16]bool{}
	for _, p := range first {
		assert.False(t, seen[p])
		seen[p] = true
		assert.GreaterOrEqual(t, p, uint16(1024))
	}
}

// Where no network of its own can be had, matches that are played at once have places of their own.
func TestMatchesAtOnceChooseFromPlacesOfTheirOwn(t *testing.T) {
	done := make(chan [2]*Supervisor)
	go func() {
		var both [2]*Supervisor
		for i := range both {
			both[i] = &Supervisor{options: Options{Seed: 9}, placeHeld: -1, ours: map[uint16]bool{}}
			assert.NoError(t, both[i].takeSharedPlace())
		}
		done <- both
	}()
	both := <-done
	assert.NotEqual(t, both[0].place, both[1].place, "although the seed is the same")
	for _, s := range both {
		assert.Zero(t, (s.place-firstPort)%placeSize)
		seen := map[uint16]bool{}
		for range placeSize - 1 {
			p := s.Port()
			assert.Greater(t, int(p), s.place)
			assert.Less(t, int(p), s.place+placeSize)
			seen[p] = true
		}
		assert.Len(t, seen, placeSize-1, "each of them once")
		closeFd(s.placeHeld)
	}
}

const talk = `
import socket, sys
family = socket.AF_INET6 if sys.argv[1] == "6" else socket.AF_INET
host = "::1" if sys.argv[1] == "6" else "127.0.0.1"
l = socket.socket(family, socket.SOCK_STREAM)
l.bind((host, 0)); l.listen()
c = socket.socket(family, socket.SOCK_STREAM)
c.connect(l.getsockname()[:2])
a, at = l.accept()
u = socket.socket(family, socket.SOCK_DGRAM)
u.bind((host, 0))
print(l.getsockname()[1], at[1], u.getsockname()[1], c.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY), flush=True)
a.settimeout(0.5)
try:
    a.recv(10)
except TimeoutError:
    print("nothing came", flush=True)
except socket.timeout:
    print("nothing came", flush=True)
`

func TestTheKernelChoosesNoPortOfAProgram(t *testing.T) {
	run := script(t, "python3", ".py", talk)
	for _, protocol := range []string{"4", "6"} {
		var first []string
		for range 2 {
			alone(t, 5, func(s *stage) {
				s.start("talker", append(run, protocol)...)
				s.run(2 * time.Second)
				if len(s.lines) == 0 && protocol == "6" { // there is no such protocol here
					return
				}
				if first == nil {
					first = s.lines
				}
				if s.Alone() { // otherwise one of the first time may not be free yet
					assert.Equal(t, first, s.lines, "the same ports again")
				}
				assert.True(t, strings.HasSuffix(s.lines[0], " 1"), "and no waiting for more bytes: %s", s.lines[0])
				assert.Equal(t, "500ms talker: nothing came", tidy(s.lines)[1])
			})
		}
	}
}

func TestAnAddressIsReadAsAProgramGivesIt(t *testing.T) {
	alone(t, 1, func(s *stage) {
		c := &call{Supervisor: s.Supervisor, process: &proc{pid: unix.Getpid()}, thread: &thread{tid: unix.Getpid()}}
		four := unix.RawSockaddrInet4{Family: unix.AF_INET, Port: 0x5000, Addr: [4]byte{127, 0, 0, 9}} // in the order of the network
		family, at := c.address(where(&four), unix.SizeofSockaddrInet4)
		assert.Equal(t, uint16(unix.AF_INET), family)
		assert.Equal(t, netip.MustParseAddrPort("127.0.0.9:80"), at)
		six := unix.RawSockaddrInet6{Family: unix.AF_INET6, Port: 0x5000}
		six.Addr[15] = 1
		family, at = c.address(where(&six), unix.SizeofSockaddrInet6)
		assert.Equal(t, uint16(unix.AF_INET6), family)
		assert.Equal(t, netip.MustParseAddrPort("[::1]:80"), at)
		family, _ = c.address(where(&six), 4)
		assert.Zero(t, family, "too short")
		local := unix.RawSockaddrUnix{Family: unix.AF_UNIX}
		family, _ = c.address(where(&local), unix.SizeofSockaddrUnix)
		assert.Zero(t, family, "of no port")
	})
}
