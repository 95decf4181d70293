package relay

import (
	"errors"
	"fmt"
	"math"
	"net"
	"net/netip"
	"runtime"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"zitherwheel/internal/network/link"
)

// newEngine returns the way that keeps time best.
func newEngine(c *core, portable bool) (engine, error) {
	if portable {
		return newPortable(c), nil
	}
	return newLoop(c)
}

// socket is a datagram socket of the loop.
type socket struct {
	fd int
	*portableSocket
}

// loop is the way on Linux: one thread, locked, that sleeps in epoll_pwait2 until
// something arrives or is due. Times of arrival are the kernel's, because a stamp
// taken after the read is late by whatever else the thread was doing.
type loop struct {
	core    *core
	epoll   int
	wake    int
	open    []listener // by the number in the epoll event
	paths   []*udpPath
	waiting waiting
	slab    slab
	in      *inbox
	out     *outbox
	expiry  time.Duration
	coarse  bool // the kernel has no epoll_pwait2

	mu       sync.Mutex
	commands []func()
	ended    chan struct{}
	over     bool // nothing is open any more
	stop     bool
}

// listener is who hears a socket: a path, or a client.
type listener struct {
	path   *udpPath
	client *client
}

const (
	batch       = 64
	roundsInRow = 4 // batches read from one socket before others get their turn
	wakeUp      = -1
)

func newLoop(c *core) (*loop, error) {
	l := &loop{core: c, in: newInbox(), out: newOutbox(), ended: make(chan struct{})}
	var err error
	if l.epoll, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("relay: epoll_create1: %w", err)
	}
	if l.wake, err = unix.Eventfd(0, unix.EFD_NONBLOCK|unix.EFD_CLOEXEC); err != nil {
		unix.Close(l.epoll)
		return nil, fmt.Errorf("relay: eventfd: %w", err)
	}
	if err := unix.EpollCtl(l.epoll, unix.EPOLL_CTL_ADD, l.wake, &unix.EpollEvent{Events: unix.EPOLLIN, Fd: wakeUp}); err != nil {
		return nil, errors.Join(fmt.Errorf("relay: epoll_ctl: %w", err), unix.Close(l.wake), unix.Close(l.epoll))
	}
	go l.run()
	return l, nil
}

// do runs f on the loop's thread and waits for it. It reports false if the loop has
// ended: then the numbers of its sockets may be those of others.
func (l *loop) do(f func()) bool {
	done := make(chan struct{})
	l.mu.Lock()
	if l.over {
		l.mu.Unlock()
		return false
	}
	l.commands = append(l.commands, func() { f(); close(done) })
	one := [8]byte{1} // any number wakes
	unix.Write(l.wake, one[:])
	l.mu.Unlock()
	select {
	case <-done:
		return true
	case <-l.ended:
		return false
	}
}

func (l *loop) add(number int, p Path) (at netip.AddrPort, err error) {
	path := &udpPath{Path: p, number: number, byFrom: map[netip.AddrPort]*client{}}
	path.fd, err = openSocket(p.Listen.Addr())
	if err != nil {
		return at, err
	}
	if err = unix.Bind(path.fd, sockaddr(p.Listen)); err == nil {
		at, err = localAddress(path.fd)
	}
	if err != nil {
		unix.Close(path.fd)
		return at, err
	}
	if !l.do(func() {
		if err = l.listen(path.fd, listener{path: path}); err != nil {
			return
		}
		for len(l.paths) <= number {
			l.paths = append(l.paths, nil)
		}
		l.paths[number] = path
	}) {
		err = net.ErrClosed
	}
	if err != nil {
		unix.Close(path.fd)
	}
	return at, err
}

func (l *loop) move(number int) (err error) {
	open := l.do(func() {
		path := l.paths[number]
		for from, c := range path.byFrom {
			l.forget(c.fd)
			if e := l.connect(c); e != nil { // it appears anew with its next packet
				err = e
				c.gone = true
				delete(path.byFrom, from)
				l.core.fails("a new socket for a client", e)
			}
		}
	})
	if !open {
		return net.ErrClosed
	}
	return err
}

func (l *loop) clients(number int) (n int) {
	l.do(func() { n = len(l.paths[number].byFrom) })
	return n
}

func (l *loop) close() error {
	l.do(func() { l.stop = true })
	<-l.ended // at once if it was closed before
	return nil
}

// run is the thread. It is not unlocked at the end, so that the thread ends too
// and its timer slack with it.
func (l *loop) run() {
	runtime.LockOSThread()
	defer close(l.ended)
	// Without this the kernel wakes the thread up to 50 µs late on purpose.
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0) // late by a little, if it is refused
	events := make([]unix.EpollEvent, batch)
	for !l.stop {
		n := l.wait(events)
		now := time.Now()
		for _, e := range events[:n] {
			if e.Fd == wakeUp {
				l.obey()
				continue
			}
			if to := l.open[e.Fd]; to.path != nil {
				l.receive(to, now)
			}
		}
		l.release()
		if now := l.core.now(); now >= l.expiry {
			l.expiry = now + time.Second
			l.expire(now)
		}
	}
	for _, p := range l.paths {
		if p == nil {
			continue
		}
		for _, c := range p.byFrom {
			unix.Close(c.fd)
		}
		unix.Close(p.fd)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.over = true
	unix.Close(l.wake)
	unix.Close(l.epoll)
}

// wait sleeps until something arrives, something is due, or clients expire.
func (l *loop) wait(events []unix.EpollEvent) int {
	until := l.expiry
	if l.waiting.Len() > 0 {
		until = min(until, l.waiting.Next())
	}
	timeout := unix.NsecToTimespec(int64(max(0, until-l.core.now())))
	var n uintptr
	var errno unix.Errno
	if !l.coarse {
		n, _, errno = unix.Syscall6(unix.SYS_EPOLL_PWAIT2, uintptr(l.epoll), uintptr(unsafe.Pointer(&events[0])), uintptr(len(events)),
			uintptr(unsafe.Pointer(&timeout)), 0, 0)
		l.coarse = errno == unix.ENOSYS || errno == unix.EPERM
	}
	if l.coarse { // before Linux 5.11: ppoll keeps time as well, for one call more
		if _, err := unix.Ppoll([]unix.PollFd{{Fd: int32(l.epoll), Events: unix.POLLIN}}, &timeout, nil); err != nil {
			return 0
		}
		n, _, errno = unix.Syscall6(unix.SYS_EPOLL_PWAIT, uintptr(l.epoll), uintptr(unsafe.Pointer(&events[0])), uintptr(len(events)), 0, 0, 0)
	}
	if errno != 0 { // interrupted
		return 0
	}
	return int(n)
}

func (l *loop) obey() {
	var number [8]byte
	unix.Read(l.wake, number[:])
	l.mu.Lock()
	commands := l.commands
	l.commands = nil
	l.mu.Unlock()
	for _, f := range commands {
		f()
	}
}

// receive takes what has arrived at a socket.
func (l *loop) receive(to listener, now time.Time) {
	fd := to.path.fd
	if to.client != nil {
		fd = to.client.fd
	}
	for range roundsInRow {
		n, errno := l.in.receive(fd, &l.slab)
		if errno == unix.ECONNREFUSED {
			l.core.count(&l.core.refused)
			continue
		}
		if errno != 0 {
			return
		}
		for i := range n {
			data, size := l.in.datagram(i)
			at := l.in.arrived(i, now, l.core.zero)
			cl, way := to.client, link.Down
			if cl == nil {
				way = link.Up
				var err error
				if cl, err = to.path.meet(l.in.sender(i), l.connect); err != nil {
					l.core.fails("a socket for a new client", err)
					continue
				}
			}
			if l.core.pass(&l.waiting, &l.slab, cl, way, at, data, size) {
				l.in.kept(i)
			}
		}
		if n < batch {
			return
		}
	}
}

// release sends what is due.
func (l *loop) release() {
	if l.waiting.Len() == 0 {
		return
	}
	now := l.core.now()
	for l.waiting.Due(now) {
		d := l.waiting.pop()
		fd, to := d.client.fd, netip.AddrPort{}
		if d.way == link.Down {
			fd, to = d.client.path.fd, d.client.from
		}
		if d.client.gone {
			l.slab.put(d.data)
			continue
		}
		if l.out.full(fd) {
			l.flush(now)
		}
		l.out.add(fd, to, d)
	}
	l.flush(now)
}

func (l *loop) flush(now time.Duration) {
	if l.out.count == 0 {
		return
	}
	refused, unsent := l.out.send()
	l.core.mu.Lock()
	for _, d := range l.out.due[:l.out.count] {
		l.core.timing.Add(now - d.at)
	}
	l.core.refused += refused
	l.core.unsent += unsent
	l.core.mu.Unlock()
	for i, d := range l.out.due[:l.out.count] {
		l.slab.put(d.data)
		l.out.due[i] = due{}
	}
	l.out.count = 0
}

// connect opens a client's socket towards the server.
func (l *loop) connect(c *client) (err error) {
	if c.fd, err = openSocket(c.path.To.Addr()); err != nil {
		return err
	}
	if err = unix.Connect(c.fd, sockaddr(c.path.To)); err == nil {
		err = l.listen(c.fd, listener{c.path, c})
	}
	if err != nil {
		unix.Close(c.fd)
		c.fd = -1
	}
	return err
}

// listen puts a socket among those that are waited for.
func (l *loop) listen(fd int, who listener) error {
	number := -1
	for i, o := range l.open {
		if o.path == nil {
			number = i
			break
		}
	}
	if number < 0 {
		number = len(l.open)
		l.open = append(l.open, listener{})
	}
	if err := unix.EpollCtl(l.epoll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(number)}); err != nil {
		return err
	}
	l.open[number] = who
	return nil
}

// forget closes a client's socket.
func (l *loop) forget(fd int) {
	for i, o := range l.open {
		if o.client != nil && o.client.fd == fd {
			l.open[i] = listener{}
		}
	}
	unix.Close(fd)
}

func (l *loop) expire(now time.Duration) {
	for _, p := range l.paths {
		if p == nil {
			continue
		}
		for from, c := range p.byFrom {
			if now-c.heard > p.Expire {
				c.gone = true
				l.forget(c.fd)
				delete(p.byFrom, from)
			}
		}
	}
}

func openSocket(family netip.Addr) (int, error) {
	domain := unix.AF_INET
	if family.Is6() && !family.Is4In6() {
		domain = unix.AF_INET6
	}
	fd, err := unix.Socket(domain, unix.SOCK_DGRAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	const room = 4 << 20
	for _, option := range [][2]int{{unix.SO_RCVBUFFORCE, unix.SO_RCVBUF}, {unix.SO_SNDBUFFORCE, unix.SO_SNDBUF}} {
		if unix.SetsockoptInt(fd, unix.SOL_SOCKET, option[0], room) != nil { // only root may go beyond the system's limit
			_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, option[1], room) // less room is no failure
		}
	}
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1); err != nil {
		unix.Close(fd)
		return -1, fmt.Errorf("stamps of arrival: %w", err)
	}
	return fd, nil
}

// message is the kernel's struct mmsghdr.
type message struct {
	header unix.Msghdr
	size   uint32
}

// rawAddress holds a socket address of either family.
type rawAddress [unix.SizeofSockaddrInet6]byte

func (a *rawAddress) set(to netip.AddrPort) (size uint32) {
	port := to.Port()
	if ip := to.Addr().Unmap(); ip.Is4() {
		raw := (*unix.RawSockaddrInet4)(unsafe.Pointer(a))
		*raw = unix.RawSockaddrInet4{Family: unix.AF_INET, Port: port<<8 | port>>8, Addr: ip.As4()}
		return unix.SizeofSockaddrInet4
	}
	raw := (*unix.RawSockaddrInet6)(unsafe.Pointer(a))
	*raw = unix.RawSockaddrInet6{Family: unix.AF_INET6, Port: port<<8 | port>>8, Addr: to.Addr().As16()}
	return unix.SizeofSockaddrInet6
}

func (a *rawAddress) get() netip.AddrPort {
	switch raw := (*unix.RawSockaddrInet4)(unsafe.Pointer(a)); raw.Family {
	case unix.AF_INET:
		return netip.AddrPortFrom(netip.AddrFrom4(raw.Addr), raw.Port<<8|raw.Port>>8)
	default:
		raw := (*unix.RawSockaddrInet6)(unsafe.Pointer(a))
		return netip.AddrPortFrom(netip.AddrFrom16(raw.Addr), raw.Port<<8|raw.Port>>8)
	}
}

// inbox receives many datagrams with one call. A datagram that is larger than a
// buffer of the slab spills over into memory that all have in common.
type inbox struct {
	messages [batch]message
	parts    [batch][2]unix.Iovec
	from     [batch]rawAddress
	stamps   [batch][64]byte
	data     [batch][]byte
	spill    []byte
}

const spillSize = mostPayload + 1 - slabSize

func newInbox() *inbox {
	in := &inbox{spill: make([]byte, batch*spillSize)}
	for i := range in.messages {
		h := &in.messages[i].header
		h.Name, h.Iov, h.Control = &in.from[i][0], &in.parts[i][0], &in.stamps[i][0]
		h.SetIovlen(2)
		in.parts[i][1].Base = &in.spill[i*spillSize]
		in.parts[i][1].SetLen(spillSize)
	}
	return in
}

// receive takes up to a batch of datagrams from a socket.
func (in *inbox) receive(fd int, s *slab) (int, unix.Errno) {
	for i := range in.messages {
		if in.data[i] == nil {
			in.data[i] = s.get()
			in.parts[i][0].Base = &in.data[i][0]
			in.parts[i][0].SetLen(slabSize)
		}
		h := &in.messages[i].header
		h.Namelen = unix.SizeofSockaddrInet6
		h.SetControllen(len(in.stamps[i]))
	}
	n, _, errno := unix.RawSyscall6(unix.SYS_RECVMMSG, uintptr(fd), uintptr(unsafe.Pointer(&in.messages[0])), batch, unix.MSG_DONTWAIT, 0, 0)
	if errno != 0 {
		return 0, errno
	}
	return int(n), 0
}

// datagram is the i-th of those received.
func (in *inbox) datagram(i int) ([]byte, int) {
	size := int(in.messages[i].size)
	if size <= slabSize {
		return in.data[i], size
	}
	whole := make([]byte, size)
	copy(whole[copy(whole, in.data[i]):], in.spill[i*spillSize:])
	return whole, size
}

// kept says that the buffer of the i-th datagram is in use.
func (in *inbox) kept(i int) {
	if int(in.messages[i].size) <= slabSize {
		in.data[i] = nil
	}
}

func (in *inbox) sender(i int) netip.AddrPort { return in.from[i].get() }

// arrived is when the i-th datagram arrived, by the kernel's stamp: so long before
// now as the stamp is before it, or after. The stamp is of a clock that may jump,
// so it counts only if it is within a second.
func (in *inbox) arrived(i int, now time.Time, zero time.Time) time.Duration {
	at := now.Sub(zero)
	if in.messages[i].header.Controllen < unix.SizeofCmsghdr+16 {
		return at
	}
	h := (*unix.Cmsghdr)(unsafe.Pointer(&in.stamps[i][0]))
	if h.Level != unix.SOL_SOCKET || h.Type != unix.SO_TIMESTAMPNS {
		return at
	}
	stamp := (*unix.Timespec)(unsafe.Pointer(&in.stamps[i][unix.CmsgLen(0)]))
	ago := time.Duration(now.UnixNano() - stamp.Nano())
	if ago.Abs() > time.Second {
		return at
	}
	return at - ago
}

// outbox sends many datagrams of one socket with one call.
type outbox struct {
	fd       int
	count    int
	messages [batch]message
	parts    [batch]unix.Iovec
	to       [batch]rawAddress
	due      [batch]due
}

func newOutbox() *outbox {
	out := &outbox{}
	for i := range out.messages {
		out.messages[i].header.Iov = &out.parts[i]
		out.messages[i].header.SetIovlen(1)
	}
	return out
}

// full reports whether what is collected must be sent before something of that
// socket can be added.
func (out *outbox) full(fd int) bool { return out.count == batch || out.count > 0 && out.fd != fd }

// add puts in a datagram; to is empty for a socket that is connected.
func (out *outbox) add(fd int, to netip.AddrPort, d due) {
	i := out.count
	out.fd = fd
	out.count++
	out.due[i] = d
	out.parts[i].Base = unsafe.SliceData(d.data)
	out.parts[i].SetLen(d.size)
	h := &out.messages[i].header
	h.Name, h.Namelen = nil, 0
	if to.IsValid() {
		h.Name, h.Namelen = &out.to[i][0], out.to[i].set(to)
	}
}

// send hands everything to the system and counts what it did not take.
func (out *outbox) send() (refused, unsent int) {
	again := math.MaxInt
	for done := 0; done < out.count; {
		n, _, errno := unix.RawSyscall6(unix.SYS_SENDMMSG, uintptr(out.fd), uintptr(unsafe.Pointer(&out.messages[done])), uintptr(out.count-done), unix.MSG_DONTWAIT, 0, 0)
		switch {
		case errno == 0:
			done += int(n)
		case errno == unix.ECONNREFUSED && again != done: // told of an earlier one; this one has not been tried
			refused++
			again = done
		case errno == unix.EINTR:
		default:
			unsent++
			done++
		}
	}
	return refused, unsent
}
