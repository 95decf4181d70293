//go:build linux && amd64

package supervisor

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Whom programs may reach: each other, the relay and this program, and nobody else. What a match has a network of its
// own for is only looked at where there is something else to reach nevertheless: other addresses, so that it is told,
// and sockets of other programs that are files. Where matches share the machine's loopback, every call that names an
// address is asked of, and only ports of this match's own are there.

// mayReach reports whether an address is one of this match's.
func (s *Supervisor) mayReach(to netip.AddrPort) bool {
	a := to.Addr().Unmap()
	return (a.IsLoopback() || a.IsUnspecified()) && (s.alone || s.ours[to.Port()])
}

// refuse tells a program, and whoever reads the report, that somebody is not there.
func (c *call) refuse(what string, to any, why unix.Errno) {
	c.remark("%s tried to %s %v and got %q: on the virtual clock a program reaches only its own match", c.process.name, what, to, why.Error())
	c.fail(why)
}

// socketFile is the absolute path of a Unix socket that a program names, or the name of an abstract one with an @
// before it; "" is none.
func (c *call) socketFile(at, size uint64) string {
	const most = 110
	raw := make([]byte, min(size, most))
	if len(raw) < 3 || !peek(c.thread.tid, at, raw) || binary.LittleEndian.Uint16(raw) != unix.AF_UNIX {
		return ""
	}
	name := raw[2:]
	if name[0] == 0 {
		return "@" + string(name[1:])
	}
	if end := bytes.IndexByte(name, 0); end >= 0 {
		name = name[:end]
	}
	path := string(name)
	if !filepath.IsAbs(path) {
		folder, _ := os.Readlink(fmt.Sprintf("/proc/%d/cwd", c.process.pid)) // without it the path stays as it is
		path = filepath.Join(folder, path)
	}
	return filepath.Clean(path)
}

// reachesFile reports whether a Unix socket is one of this match's, or of nobody, or refuses the call.
func (c *call) reachesFile(what, path string) bool {
	if path == "" || c.files[path] || c.alone && path[0] == '@' {
		return true
	}
	if _, err := os.Lstat(path); path[0] != '@' && err != nil { // the system says that nobody is there
		return true
	}
	c.refuse(what, "the socket "+path, unix.ECONNREFUSED)
	return false
}

// reaches reports whether a call that names an address may be made, or refuses it.
func (c *call) reaches(at, size uint64) bool {
	if at == 0 {
		return true
	}
	family, to := c.address(at, size)
	switch {
	case family == 0:
		return c.reachesFile("send to", c.socketFile(at, size))
	case c.mayReach(to):
		return true
	}
	c.refuse("send to", to, unix.ENETUNREACH)
	return false
}

// sendTo is sendto, where it is asked of.
func (c *call) sendTo() {
	if c.reaches(c.args[4], c.args[5]) {
		c.named(int(c.args[0]))
		c.pass()
	}
}

// sendMessage is sendmsg and sendmmsg.
func (c *call) sendMessage() {
	const header, of = 56, 64 // bytes of a struct msghdr and a struct mmsghdr
	count, step := uint64(1), uint64(header)
	if c.nr == unix.SYS_SENDMMSG {
		count, step = min(c.args[2], 1024), of
	}
	for i := range count {
		var head [16]byte
		if !peek(c.thread.tid, c.args[1]+i*step, head[:]) {
			break
		}
		if !c.reaches(binary.LittleEndian.Uint64(head[:]), uint64(binary.LittleEndian.Uint32(head[8:]))) {
			return
		}
	}
	c.named(int(c.args[0]))
	c.pass()
}

// named gives a socket that is about to send, and has no port yet, one of this match's.
func (c *call) named(fd int) {
	d := c.duplicate(fd)
	if d < 0 {
		return
	}
	c.nameSocket(d)
	closeFd(d)
}

// nameSocket gives a socket a port, if it has none.
func (c *call) nameSocket(d int) {
	at, err := unix.Getsockname(d)
	if err != nil {
		return
	}
	switch at := at.(type) {
	case *unix.SockaddrInet4:
		if at.Port == 0 {
			c.choosePort(d, netip.AddrFrom4(at.Addr))
		}
	case *unix.SockaddrInet6:
		if at.Port == 0 {
			c.choosePort(d, netip.AddrFrom16(at.Addr))
		}
	}
}
