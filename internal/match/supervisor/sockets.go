//go:build linux && amd64

package supervisor

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"
)

// Sockets of programs carry real bytes over loopback. What the kernel would choose by chance
// or by its own time is fixed: ports, Nagle's algorithm, the sizes of buffers.

// loopbackOnly puts this thread, and with it all programs that it starts, into a network of
// their own that has nothing but loopback: ports can then be the same in every match, and no
// program reaches anything else. It takes a privilege; without it matches share the machine's
// loopback and choose their ports from a place of their own there.
func (s *Supervisor) loopbackOnly() bool {
	before, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return false
	}
	defer closeFd(before)
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return false
	}
	if err := loopbackUp(); err != nil {
		return unix.Setns(before, unix.CLONE_NEWNET) != nil // back; or else alone without loopback, which shows at once
	}
	return true
}

// loopbackUp switches loopback on in a network that has just been made.
func loopbackUp() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer closeFd(fd)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request)
}

// Alone reports whether its programs have a network of their own.
func (s *Supervisor) Alone() bool { return s.alone }

// Ports are chosen from places of so many each, below those that the kernel gives by itself.
const (
	firstPort  = 12000
	placeSize  = 200
	places     = 100
	ownPorts   = 100 // of a process, in a network of its own
	ownNetwork = 20000
)

// takePlace chooses ports of this match's own: by the seed, so that it chooses the same again.
func (s *Supervisor) takePlace() error {
	if !s.options.shared && s.loopbackOnly() {
		s.alone = true
		return nil
	}
	return s.takeSharedPlace()
}

// takeSharedPlace takes one on the machine's loopback.
func (s *Supervisor) takeSharedPlace() error {
	start := chance{s.options.Seed}
	var b [8]byte
	start.fill(b[:])
	for i := range uint64(places) {
		place := firstPort + int((binary.LittleEndian.Uint64(b[:])+i)%places)*placeSize
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return fmt.Errorf("a socket: %w", err)
		}
		if unix.Bind(fd, &unix.SockaddrInet4{Port: place, Addr: [4]byte{127, 0, 0, 1}}) == nil && unix.Listen(fd, 1) == nil {
			s.place, s.placeHeld, s.placeNext = place, fd, place+1
			return nil
		}
		closeFd(fd)
	}
	return fmt.Errorf("all %d places for ports from %d on are taken: are so many matches played at once?", places, firstPort)
}

// Port is a port that nobody of this match has been given yet.
func (s *Supervisor) Port() uint16 {
	if s.alone {
		s.placeNext++
		return uint16(ownNetwork - 1000 + s.placeNext)
	}
	return s.portInPlace()
}

func (s *Supervisor) portInPlace() uint16 {
	port := s.placeNext
	if s.placeNext++; s.placeNext == s.place+placeSize {
		s.placeNext = s.place + 1
	}
	s.ours[uint16(port)] = true
	return uint16(port)
}

// portFor is the next port for a socket of a process.
func (s *Supervisor) portFor(p *proc) uint16 {
	if !s.alone {
		return s.portInPlace()
	}
	p.nextPort++
	return uint16(ownNetwork + p.number%400*ownPorts + p.nextPort%ownPorts)
}

// address reads the address that a program gives.
func (c *call) address(at, size uint64) (family uint16, to netip.AddrPort) {
	var raw [28]byte
	n := min(int(size), len(raw))
	if n < 16 || !peek(c.thread.tid, at, raw[:n]) {
		return 0, to
	}
	family = binary.LittleEndian.Uint16(raw[:])
	port := binary.BigEndian.Uint16(raw[2:])
	switch {
	case family == unix.AF_INET:
		return family, netip.AddrPortFrom(netip.AddrFrom4([4]byte(raw[4:8])), port)
	case family == unix.AF_INET6 && n == len(raw):
		return family, netip.AddrPortFrom(netip.AddrFrom16([16]byte(raw[8:24])), port)
	}
	return 0, to
}

// bind gives a socket that is bound to any port one of our choice.
func (c *call) bind() {
	family, at := c.address(c.args[1], c.args[2])
	if family == 0 {
		if path := c.socketFile(c.args[1], c.args[2]); path != "" {
			c.files[path] = true
		}
		c.pass()
		return
	}
	c.ours[at.Port()] = true
	d := c.duplicate(int(c.args[0]))
	if d < 0 {
		c.pass()
		return
	}
	defer closeFd(d)
	if kind, err := unix.GetsockoptInt(d, unix.SOL_SOCKET, unix.SO_TYPE); err == nil && kind == unix.SOCK_STREAM {
		_ = unix.SetsockoptInt(d, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) // what an earlier match left may still be there
	}
	if at.Port() == 0 && c.choosePort(d, at.Addr()) {
		c.give(0)
		return
	}
	c.pass()
}

// choosePort binds a socket to a port of our choice.
func (c *call) choosePort(fd int, at netip.Addr) bool {
	for range ownPorts {
		port := int(c.portFor(c.process))
		var to unix.Sockaddr = &unix.SockaddrInet6{Port: port, Addr: at.As16()}
		if at.Is4() {
			to = &unix.SockaddrInet4{Port: port, Addr: at.As4()}
		}
		if err := unix.Bind(fd, to); err != unix.EADDRINUSE {
			c.ours[uint16(port)] = true
			return err == nil
		}
	}
	return false
}

func (c *call) connect() {
	family, to := c.address(c.args[1], c.args[2])
	if family == 0 {
		if c.reachesFile("connect to", c.socketFile(c.args[1], c.args[2])) {
			c.pass()
		}
		return
	}
	if !c.mayReach(to) {
		c.refuse("connect to", to, unix.ENETUNREACH)
		return
	}
	if d := c.duplicate(int(c.args[0])); d >= 0 {
		steady(d)
		c.nameSocket(d)
		closeFd(d)
	}
	c.pass()
}

// listenAt fixes a listening socket; those that it accepts inherit it.
func (c *call) listenAt() {
	if d := c.duplicate(int(c.args[0])); d >= 0 {
		steady(d)
		closeFd(d)
	}
	c.pass()
}

// steady has a stream's bytes go at once, and its buffers keep their size: the kernel would
// let both depend on how long things take.
func steady(fd int) {
	const size = 200 << 10
	if unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1) == nil { // it is a stream
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, size)
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_SNDBUF, size)
	}
}

// limit keeps the time limit of a socket, of which the kernel is not told: see giveUp.
func (c *call) limit() {
	d, ok := peekSpan(c.thread.tid, c.args[3], time.Microsecond)
	if !ok || c.args[4] < 16 {
		c.pass()
		return
	}
	of := limit{int(c.args[0]), c.args[2] == unix.SO_SNDTIMEO || c.args[2] == unix.SO_SNDTIMEO_NEW}
	if d > 0 {
		c.process.limits[of] = d
	} else {
		delete(c.process.limits, of)
	}
	c.give(0)
}
