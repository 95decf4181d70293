//go:build linux && amd64

package supervisor

import (
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever way a program tries to reach somebody outside its match, it is told that nobody is there, and so is
// whoever reads the report.
func TestProgramsReachNobodyOutsideTheirMatch(t *testing.T) {
	path := filepath.Join(t.TempDir(), "strangers")
	file, err := net.Listen("unix", path)
	require.NoError(t, err)
	defer file.Close()
	stranger, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer stranger.Close()
	port := stranger.Addr().(*net.TCPAddr).Port
	datagrams, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer datagrams.Close()
	run := script(t, "python3", ".py", fmt.Sprintf(`
import socket, os
def told(what, do):
    try: print(what, do(), flush=True)
    except OSError as e: print(what, "told:", e.strerror, flush=True)
def udp(): return socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
def local(): return socket.socket(socket.AF_UNIX)
out = ("192.0.2.1", 80)
told("connect", lambda: socket.create_connection(out, timeout=5))
told("sendto", lambda: udp().sendto(b"x", out))
told("sendmsg", lambda: udp().sendmsg([b"x"], [], 0, out))
told("fast open", lambda: socket.socket().sendto(b"x", 0x20000000, out))
told("a stranger's port", lambda: socket.create_connection(("127.0.0.1", %d), timeout=5).fileno() > 0)
told("a stranger's datagrams", lambda: udp().sendto(b"x", ("127.0.0.1", %d)))
told("a stranger's socket", lambda: local().connect(%q))
mine = local(); mine.bind("mine"); mine.listen()
told("one's own socket", lambda: local().connect(os.path.abspath("mine")))
u = udp(); u.bind(("127.0.0.1", 0))
told("one's own datagrams", lambda: udp().sendto(b"x", u.getsockname()))
told("answered", lambda: u.sendto(b"y", u.recvfrom(10)[1]))
l = socket.create_server(("127.0.0.1", 0))
told("one's own port", lambda: socket.create_connection(l.getsockname(), timeout=5).fileno() > 0)
`, port, datagrams.LocalAddr().(*net.UDPAddr).Port, path))
	for name, shared := range map[string]bool{"in a network of its own": false, "on the machine's loopback": true} {
		t.Run(name, func(t *testing.T) {
			with(t, Options{Seed: 1, OneThread: true, shared: shared}, func(s *stage) {
				s.start("caller", run...)
				s.run(20 * time.Second)
				if !s.Alone() && !shared {
					panic(&RefusedError{"a network of its own is not allowed here", nil})
				}
				gone := "told: Network is unreachable"
				datagrams, other := "1", "told: Connection refused" // nobody is there: the network is another one
				if shared {
					datagrams, other = gone, gone
				}
				assert.Equal(t, []string{"connect " + gone, "sendto " + gone, "sendmsg " + gone, "fast open " + gone, "a stranger's port " + other, "a stranger's datagrams " + datagrams,
					"a stranger's socket told: Connection refused", "one's own socket None", "one's own datagrams 1", "answered 1", "one's own port True"}, words(s.lines))
				remarks := strings.Join(s.Report().Remarks, "\n")
				assert.Contains(t, remarks, `caller tried to connect to 192.0.2.1:80 and got "network is unreachable": on the virtual clock a program reaches only its own match`)
				assert.Contains(t, remarks, "caller tried to connect to the socket "+path)
				if shared {
					assert.Contains(t, remarks, "caller tried to send to 192.0.2.1:80")
					assert.Contains(t, remarks, fmt.Sprintf("caller tried to connect to 127.0.0.1:%d", port))
				}
			})
		})
	}
}

// words are what was said, without when and by whom.
func words(lines []string) (list []string) {
	for _, l := range lines {
		_, text, _ := strings.Cut(l, ": ")
		list = append(list, text)
	}
	return list
}
