package relay

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/schedule"
)

// SteppedOptions are those of a stepped relay.
type SteppedOptions struct {
	Zero   time.Duration // of the clock that it is driven by: from which the times of packets are counted
	Record bool          // keep payloads
	Port   func() uint16 // a free port; nil leaves that to the system
}

// Stepped is a relay that moves nothing by itself and knows no time: whoever drives it says
// when it is to take in what has come, and when what is due next is to be sent on. The order
// of everything follows from that alone. It is for programs on a virtual clock, and for one
// goroutine.
//
// Of a stream, all that has come in one direction by one moment is one piece.
type Stepped struct {
	core    core
	options SteppedOptions
	now     time.Duration // of the clock that drives it
	epoll   int
	paths   []*steppedPath
	ends    []*end // in the order in which they were opened, which is that in which they are read
	waiting schedule.Queue[onTheWay]
	count   uint64
	held    int // bytes of datagrams that wait
}

// steppedPath is a path of a stepped relay.
type steppedPath struct {
	Path
	number   int
	clients  map[netip.AddrPort]*end // of datagrams, towards the server
	appeared int
}

// end is a socket: one that listens, or one end of a client's way.
type end struct {
	path    *steppedPath
	fd      int // -1 when it is closed
	listens bool
	way     link.Direction // of what is read from it
	client  int
	from    netip.AddrPort
	link    *Link
	other   *end // where what is read goes; of a datagram path's clients the socket that listens

	// of a stream
	latest time.Duration // when the last piece on the way is due
	held   int           // bytes on the way
	out    [][]byte      // what is due and the socket has not taken; nil among them is the end
	ended  bool          // nothing more comes from it
	done   bool          // and what has come was handed on
}

// onTheWay is a datagram or a piece of a stream that is due some time.
type onTheWay struct {
	from *end
	data []byte
	last bool // the end of the stream
}

// NewStepped opens a relay without paths.
func NewStepped(o SteppedOptions) (*Stepped, error) {
	epoll, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("relay: epoll: %w", err)
	}
	return &Stepped{options: o, epoll: epoll, now: o.Zero, core: core{record: o.Record}}, nil
}

// Add opens a path and returns the address it listens at.
func (s *Stepped) Add(p Path) (netip.AddrPort, error) {
	path := &steppedPath{Path: p, number: len(s.paths), clients: map[netip.AddrPort]*end{}}
	e := &end{path: path, listens: true, way: link.Up}
	kind := unix.SOCK_DGRAM
	if p.Network == "tcp" {
		kind = unix.SOCK_STREAM
	}
	var at netip.AddrPort
	var err error
	if e.fd, at, err = s.socket(kind, p.Listen); err == nil && kind == unix.SOCK_STREAM {
		err = unix.Listen(e.fd, unix.SOMAXCONN)
	}
	if err != nil {
		return at, fmt.Errorf("relay: listening on %s %s: %w", p.Network, p.Listen, err)
	}
	s.paths = append(s.paths, path)
	return at, s.open(e)
}

// socket opens a socket that is bound to an address, or to a port of the options' choice there.
func (s *Stepped) socket(kind int, at netip.AddrPort) (fd int, bound netip.AddrPort, err error) {
	family := unix.AF_INET
	if at.Addr().Is6() {
		family = unix.AF_INET6
	}
	if fd, err = unix.Socket(family, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0); err != nil {
		return -1, at, err
	}
	if kind == unix.SOCK_STREAM {
		steady(fd)
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) // what an earlier run left may still be there
	}
	const tries = 100
	for range tries {
		port := at.Port()
		if port == 0 && s.options.Port != nil {
			port = s.options.Port()
		}
		if err = unix.Bind(fd, sockaddr(netip.AddrPortFrom(at.Addr(), port))); err != unix.EADDRINUSE || at.Port() != 0 {
			break
		}
	}
	if err == nil {
		bound, err = localAddress(fd)
	}
	if err != nil {
		_ = unix.Close(fd) // it was never used
		return -1, at, err
	}
	return fd, bound, nil
}

// steady has a stream's bytes go at once, and its buffers keep their size: the kernel would let
// both depend on how long things take.
func steady(fd int) {
	const size = 200 << 10
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, size)
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_SNDBUF, size)
}

// open has a socket read from now on.
func (s *Stepped) open(e *end) error {
	number := slices.Index(s.ends, e) // it may have a new socket
	if number < 0 {
		number = len(s.ends)
		s.ends = append(s.ends, e)
	}
	event := unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(number)}
	return unix.EpollCtl(s.epoll, unix.EPOLL_CTL_ADD, e.fd, &event)
}

// shut closes a socket; abrupt breaks a stream off.
func (s *Stepped) shut(e *end, abrupt bool) {
	if e.fd < 0 {
		return
	}
	if abrupt {
		_ = unix.SetsockoptLinger(e.fd, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
	}
	_ = unix.EpollCtl(s.epoll, unix.EPOLL_CTL_DEL, e.fd, nil)
	_ = unix.Close(e.fd)
	e.fd, e.out, e.ended = -1, nil, true
}

// time is the time of the packets.
func (s *Stepped) time() time.Duration { return s.now - s.options.Zero }

// Collect takes in what has come by now, and hands on what sockets did not take before. It
// reports whether anything moved.
func (s *Stepped) Collect(now time.Duration) (moved bool) {
	s.now = now
	var events [64]unix.EpollEvent
	n, _ := unix.EpollWait(s.epoll, events[:], 0)
	if n > 0 {
		ready := make([]int, n)
		for i := range n {
			ready[i] = int(events[i].Fd)
		}
		slices.Sort(ready)
		for _, i := range ready {
			if e := s.ends[i]; e.fd >= 0 {
				moved = s.read(e) || moved
			}
		}
	}
	for i := range s.ends {
		if e := s.ends[i]; len(e.out) > 0 && s.flush(e) {
			moved = true
		}
	}
	return moved
}

func (s *Stepped) read(e *end) bool {
	switch {
	case e.path.Network != "tcp":
		return s.readDatagrams(e)
	case e.listens:
		return s.accept(e)
	}
	return s.readStream(e)
}

// readDatagrams takes in the datagrams that have come to a socket.
func (s *Stepped) readDatagrams(e *end) (any bool) {
	var buffer [mostPayload]byte
	for {
		size, sa, err := unix.Recvfrom(e.fd, buffer[:], 0)
		switch {
		case err == unix.ECONNREFUSED:
			s.core.count(&s.core.refused)
			any = true
			continue
		case err != nil:
			return any
		}
		any = true
		from := e
		if e.listens {
			if from, err = s.meet(e, addressOf(sa)); err != nil {
				s.core.fails("a client's socket", err)
				continue
			}
		}
		s.pass(from, e.way, buffer[:size])
	}
}

// meet finds the client at an address, or opens one.
func (s *Stepped) meet(listens *end, at netip.AddrPort) (*end, error) {
	p := listens.path
	if c := p.clients[at]; c != nil {
		return c, nil
	}
	c := &end{path: p, way: link.Down, client: p.appeared, from: at, other: listens}
	if err := s.towards(c); err != nil {
		return nil, err
	}
	c.link = p.Link(p.appeared)
	p.appeared++
	p.clients[at] = c
	return c, nil
}

// towards opens a client's datagram socket towards the server.
func (s *Stepped) towards(c *end) (err error) {
	if c.fd, _, err = s.socket(unix.SOCK_DGRAM, netip.AddrPortFrom(c.path.Listen.Addr(), 0)); err != nil {
		return err
	}
	if err = unix.Connect(c.fd, sockaddr(c.path.To)); err != nil {
		_ = unix.Close(c.fd) // it was never used
		return err
	}
	return s.open(c)
}

// pass draws the outcome of a datagram of a client, and puts it among those on the way.
func (s *Stepped) pass(c *end, way link.Direction, data []byte) {
	outcome := c.link.send(way, s.time(), len(data))
	if outcome.Copies > 0 && s.held+outcome.Copies*len(data) > mostHeld {
		outcome.Copies, outcome.Arrives, outcome.Flipped, outcome.Dropped = 0, [2]time.Duration{}, 0, link.RelayFull
		s.core.count(&s.core.full)
	}
	s.core.tell(Packet{Path: c.path.number, Client: c.client, From: c.from, Packet: link.Packet{Direction: way, Outcome: outcome}}, data)
	from := c
	if way == link.Up {
		from = &end{path: c.path, way: link.Up, other: c}
	}
	copies := outcome.Arrives[:outcome.Copies]
	if len(copies) == 0 {
		return
	}
	sent := slices.Clone(data)
	outcome.Spoil(sent)
	for i, at := range copies {
		if i > 0 {
			sent = slices.Clone(data)
		}
		s.held += len(sent)
		s.push(at, onTheWay{from: from, data: sent})
	}
}

func (s *Stepped) push(at time.Duration, w onTheWay) {
	s.count++
	s.waiting.Push(max(at+s.options.Zero, s.now), s.count, w)
}

// accept takes connections and opens a way to the server for each.
func (s *Stepped) accept(l *end) (any bool) {
	for {
		fd, sa, err := unix.Accept4(l.fd, unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC)
		if err != nil {
			if err != unix.EAGAIN {
				s.core.fails("a client's connection", err)
			}
			return any
		}
		any = true
		p := l.path
		near := &end{path: p, fd: fd, way: link.Up, client: p.appeared, from: addressOf(sa)}
		far := &end{path: p, way: link.Down, client: p.appeared, from: near.from, other: near}
		near.other = far
		if far.fd, _, err = s.socket(unix.SOCK_STREAM, netip.AddrPortFrom(p.Listen.Addr(), 0)); err == nil {
			if err = unix.Connect(far.fd, sockaddr(p.To)); err == unix.EINPROGRESS {
				err = nil // whether it can be reached shows when it is read from
			}
		}
		if err == nil {
			near.link = p.Link(p.appeared)
			far.link = near.link
			p.appeared++
			err = errors.Join(s.open(near), s.open(far))
		}
		switch {
		case errors.Is(err, unix.ECONNREFUSED):
			s.core.count(&s.core.refused)
		case err != nil:
			s.core.fails("a connection to the server", err)
		}
		if err != nil {
			s.breakOff(near)
		}
	}
}

// breakOff breaks a stream off on both sides.
func (s *Stepped) breakOff(e *end) {
	s.shut(e, true)
	s.shut(e.other, true)
}

// readStream takes in what has come of a stream in one direction.
func (s *Stepped) readStream(e *end) (any bool) {
	if e.ended || e.held >= mostWaiting {
		return false
	}
	var data []byte
	buffer := make([]byte, pieceSize)
	for len(data)+e.held < mostWaiting {
		size, err := unix.Read(e.fd, buffer)
		if size > 0 {
			data = append(data, buffer[:size]...)
			continue
		}
		switch {
		case err == unix.EAGAIN || err == unix.EINTR:
		case err == nil:
			e.ended = true
		default:
			if err == unix.ECONNREFUSED {
				s.core.count(&s.core.refused)
			}
			s.breakOff(e)
			return true
		}
		break
	}
	for piece := range slices.Chunk(data, pieceSize) {
		outcome := e.link.sendStream(e.way, s.time(), len(piece))
		s.core.tell(Packet{Path: e.path.number, Client: e.client, From: e.from, Stream: true, Packet: link.Packet{Direction: e.way, Outcome: outcome}}, piece)
		e.latest = outcome.Arrives[0]
		e.held += len(piece)
		s.push(e.latest, onTheWay{from: e, data: piece})
	}
	if e.ended {
		_ = unix.EpollCtl(s.epoll, unix.EPOLL_CTL_DEL, e.fd, nil)
		s.push(e.latest, onTheWay{from: e, last: true})
	}
	return len(data) > 0 || e.ended
}

// Next is when something is due, by the clock that drives the relay.
func (s *Stepped) Next() (due time.Duration, any bool) {
	if s.waiting.Len() == 0 {
		return 0, false
	}
	return s.waiting.Next(), true
}

// Deliver sends on what is due first. It returns a number for it.
func (s *Stepped) Deliver() uint64 {
	_, w := s.waiting.Pop()
	to := w.from.other
	number := uint64(w.from.path.number)<<48 | uint64(to.client)<<24 | uint64(len(w.data))
	if w.from.path.Network == "tcp" {
		w.from.held -= len(w.data)
		if to.fd >= 0 {
			if w.last {
				w.data = nil
			}
			to.out = append(to.out, w.data)
			s.flush(to)
		}
		return number
	}
	s.held -= len(w.data)
	if to.fd < 0 {
		return number
	}
	var err error
	if to.listens {
		err = unix.Sendto(to.fd, w.data, 0, sockaddr(w.from.from))
	} else {
		_, err = unix.Write(to.fd, w.data)
	}
	switch {
	case err == unix.ECONNREFUSED:
		s.core.count(&s.core.refused)
	case err != nil:
		s.core.count(&s.core.unsent)
	}
	return number
}

// flush writes what is due as far as the socket takes it, and reports whether it took any.
func (s *Stepped) flush(e *end) (any bool) {
	for len(e.out) > 0 && e.fd >= 0 {
		if e.out[0] == nil {
			_ = unix.Shutdown(e.fd, unix.SHUT_WR) // it may be closed already
			e.out = e.out[1:]
			if e.other.done = true; e.done {
				s.shut(e, false)
				s.shut(e.other, false)
			}
			return true
		}
		n, err := unix.Write(e.fd, e.out[0])
		if n > 0 {
			any = true
			if e.out[0] = e.out[0][n:]; len(e.out[0]) == 0 {
				e.out = e.out[1:]
			}
			continue
		}
		if err == unix.EAGAIN || err == unix.ENOTCONN {
			return any
		}
		s.breakOff(e)
		return true
	}
	return any
}

// Move gives every client of a path another address towards the server. It does nothing to streams.
func (s *Stepped) Move(path int) (err error) {
	p := s.paths[path]
	for _, c := range s.ends {
		if c.path == p && c == p.clients[c.from] {
			s.shut(c, false)
			err = errors.Join(err, s.towards(c))
		}
	}
	return err
}

// Reset breaks off all streams of a path.
func (s *Stepped) Reset(path int) {
	for _, e := range s.ends {
		if e.path == s.paths[path] && !e.listens && e.path.Network == "tcp" {
			s.breakOff(e)
		}
	}
}

// Take moves the packets that have come since the last call behind list.
func (s *Stepped) Take(list []Packet) []Packet { return s.core.take(list) }

// Stats is how the relay has done so far. It is never late.
func (s *Stepped) Stats() Stats { return s.core.stats() }

// Close closes every socket of the relay.
func (s *Stepped) Close() error {
	for _, e := range s.ends {
		s.shut(e, e.path.Network == "tcp" && !e.listens)
	}
	return unix.Close(s.epoll)
}
