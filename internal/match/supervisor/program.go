//go:build linux && amd64

package supervisor

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"zitherwheel/internal/lines"
	"zitherwheel/internal/match/process"
)

// Program is a program that was started on the virtual clock. What it says is read when
// everything waits, and stamped with that time.
type Program struct {
	supervisor *Supervisor
	spec       process.Spec
	process    *proc
	say        func(process.Line)
	ended      func(*Program)

	streams  []*stream
	listener *Listener
	tail     *lines.Tail
	input    int // its standard input, or -1
	unsaid   [][]byte

	status  unix.WaitStatus
	dead    bool
	told    bool // that it has ended
	stopped bool
}

// stream is one of the ways on which a program says something.
type stream struct {
	program   *Program
	fd        int
	source    process.Source
	trace     bool
	connected bool // a connection, which control lines go over
	splitter  lines.Splitter
}

// mostUnsaid is how many control lines wait for a program that does not read them.
const mostUnsaid = 1024

// Start starts a program. Its lines go to say, and that it has ended to ended, both from
// within Run and with Now as their time, counted from Options.Zero.
func (s *Supervisor) Start(spec process.Spec, say func(process.Line), ended func(*Program)) (*Program, error) {
	path, err := process.Find(spec.Run[0], spec.Folder)
	if err != nil {
		return nil, &process.NotFoundError{Program: spec.Run[0], Err: err}
	}
	p := &Program{supervisor: s, spec: spec, say: say, ended: ended, input: -1}
	pid, listener, err := s.launch(p, path)
	if err != nil {
		p.close()
		return nil, err
	}
	s.listeners = append(s.listeners, listener)
	event := unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(listener)}
	if err := unix.EpollCtl(s.asked, unix.EPOLL_CTL_ADD, listener, &event); err != nil {
		p.close()
		return nil, fmt.Errorf("epoll: %w", err)
	}
	p.process = s.process(pid, spec.Name, nil)
	p.process.program = p
	s.programs = append(s.programs, p)
	if spec.Guard != nil {
		spec.Guard.Watch(pid)
	}
	if l, is := spec.Trace.Socket.(*Listener); is {
		p.listener = l
		p.hearFrom(&stream{program: p, fd: l.fd, source: process.Socket})
	}
	if spec.Trace.File != "" {
		p.tail = lines.Follow(spec.Trace.File)
	}
	s.happened('s', nil, uint64(p.process.number))
	_, err = s.settle(s.ctx)
	return p, err
}

// hearFrom listens to a stream from now on.
func (p *Program) hearFrom(s *stream) {
	p.streams = append(p.streams, s)
	event := unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(s.fd)}
	_ = unix.EpollCtl(p.supervisor.said, unix.EPOLL_CTL_ADD, s.fd, &event) // what is in no set is read when the program ends
}

// listen takes in what programs have said, and that they have ended. It reports whether there
// was anything.
func (s *Supervisor) listen() (any bool) {
	var events [64]unix.EpollEvent
	n := epollNow(s.said, events[:])
	for _, p := range s.programs {
		if p.told {
			continue
		}
		for _, st := range p.streams {
			if st.fd >= 0 && n > 0 && slices.ContainsFunc(events[:n], func(e unix.EpollEvent) bool { return int(e.Fd) == st.fd }) {
				any = true
				st.read()
			}
		}
		if p.tail != nil && p.follow() {
			any = true
		}
		if len(p.unsaid) > 0 && p.write() {
			any = true
		}
		if p.dead {
			any = true
			p.finish()
		}
	}
	return any
}

// at is the time of what is said now.
func (p *Program) at() time.Time { return p.supervisor.options.Zero.Add(p.supervisor.now) }

// read hands on what a stream has, and closes it at its end.
func (st *stream) read() {
	p := st.program
	if st.source == process.Socket && !st.connected {
		p.accept(st)
		return
	}
	p.process.active = !p.process.gone // a full pipe has room again
	var buffer [64 << 10]byte
	for {
		n := readInto(st.fd, buffer[:])
		if n > 0 {
			at := p.at()
			st.splitter.Take(buffer[:n], func(text []byte, cut bool) { p.hand(text, at, st.source, st.trace, cut) })
			continue
		}
		if n == -int(unix.EAGAIN) {
			return
		}
		st.end(n < 0)
		return
	}
}

// end closes a stream that has ended.
func (st *stream) end(reset bool) {
	p := st.program
	at := p.at()
	st.splitter.End(func(text []byte, cut bool) { p.hand(text, at, st.source, st.trace, cut) })
	_ = unix.EpollCtl(p.supervisor.said, unix.EPOLL_CTL_DEL, st.fd, nil) // it may not be in the set
	closeFd(st.fd)
	st.fd = -1
	switch {
	case p.dead || p.process.exiting:
	case st.connected && p.newest() == nil:
		how := "its connection was closed"
		if reset {
			how = "its connection was reset"
		}
		p.say(process.Line{Text: []byte(how), At: at, Source: st.source, Closed: true})
	case st.source == process.Output && st.trace:
		p.say(process.Line{Text: []byte("its standard output was closed"), At: at, Source: st.source, Closed: true})
	}
}

func (p *Program) hand(text []byte, at time.Time, source process.Source, trace, cut bool) {
	if text = bytes.TrimRight(text, " \r\t"); len(text) > 0 {
		p.say(process.Line{Text: text, At: at, Source: source, Trace: trace && text[0] == '{', Cut: cut})
	}
}

// follow reads what was written to its trace file.
func (p *Program) follow() bool {
	at := p.at()
	n, _ := p.tail.Read(func(text []byte, cut bool) { p.hand(text, at, process.File, true, cut) }) // what is no file yet may become one
	return n > 0
}

// accept takes a connection for the trace.
func (p *Program) accept(st *stream) {
	for {
		fd, _, err := unix.Accept4(st.fd, unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC)
		if err != nil {
			return
		}
		p.listener.connected = true
		p.hearFrom(&stream{program: p, fd: fd, source: process.Socket, trace: true, connected: true})
		p.write()
	}
}

// newest is the connection over which control lines go, or nil.
func (p *Program) newest() *stream {
	for _, st := range slices.Backward(p.streams) {
		if st.connected && st.fd >= 0 {
			return st
		}
	}
	return nil
}

// Say hands the program a control line, without its end. One that does not read them is no
// reason to wait: beyond some number they are dropped, and Say reports false.
func (p *Program) Say(line []byte) bool {
	if !p.spec.DriveInput && !p.spec.DriveSocket || len(p.unsaid) >= mostUnsaid {
		return false
	}
	p.unsaid = append(p.unsaid, append(slices.Clone(line), '\n'))
	p.write()
	return true
}

// write writes control lines as far as the program takes them, and reports whether it took any.
func (p *Program) write() (any bool) {
	fd := p.input
	if p.spec.DriveSocket {
		st := p.newest()
		if st == nil {
			return false
		}
		fd = st.fd
	}
	for fd >= 0 && len(p.unsaid) > 0 {
		n := writeFrom(fd, p.unsaid[0])
		if n == -int(unix.EAGAIN) {
			return any
		}
		if n < 0 { // it reads no more
			p.unsaid = nil
			return any
		}
		any = true
		if p.process != nil {
			p.process.active = !p.process.gone
		}
		if p.unsaid[0] = p.unsaid[0][n:]; len(p.unsaid[0]) == 0 {
			p.unsaid = p.unsaid[1:]
		}
	}
	return any
}

// died takes in that its process has ended.
func (p *Program) died(status unix.WaitStatus) { p.dead, p.status = true, status }

// finish reads what a program that has ended has left, and tells that it has.
func (p *Program) finish() {
	for _, st := range p.streams {
		switch {
		case st.fd < 0:
		case st.source == process.Socket && !st.connected:
			p.accept(st)
		default:
			st.read()
		}
	}
	for _, st := range p.streams { // also of a connection that was only just accepted
		if st.connected && st.fd >= 0 {
			st.read()
		}
	}
	if p.tail != nil {
		at := p.at()
		p.follow()
		_ = p.tail.End(func(text []byte, cut bool) { p.hand(text, at, process.File, true, cut) })
	}
	p.told = true
	p.supervisor.happened('x', nil, uint64(p.process.number)<<32|uint64(p.status))
	_ = unix.Kill(-p.process.pid, unix.SIGKILL) // what it has left behind
	if p.spec.Guard != nil {
		p.spec.Guard.Forget(p.process.pid)
	}
	p.close()
	p.ended(p)
}

// close closes all that belongs to a program.
func (p *Program) close() {
	for _, st := range p.streams {
		if st.fd >= 0 {
			_ = unix.EpollCtl(p.supervisor.said, unix.EPOLL_CTL_DEL, st.fd, nil)
			closeFd(st.fd)
			st.fd = -1
		}
	}
	if p.input >= 0 {
		closeFd(p.input)
		p.input = -1
	}
	if p.tail != nil {
		_ = p.tail.Close() // it was only read
		p.tail = nil
	}
}

// PID is the number of its first process.
func (p *Program) PID() int { return p.process.pid }

// Running reports whether it has not ended yet.
func (p *Program) Running() bool { return !p.dead }

// Connected reports whether it has connected for its trace, where it is to do so.
func (p *Program) Connected() bool { return p.listener == nil || p.listener.connected }

// Exit says how it ended, like "exit status 3", and whether it was asked to.
func (p *Program) Exit() (how string, asked bool) {
	switch {
	case !p.dead:
		return "", false
	case p.status.Signaled():
		how = "signal: " + p.status.Signal().String()
	default:
		how = fmt.Sprintf("exit status %d", p.status.ExitStatus())
	}
	return how, p.stopped
}

// Failed reports whether it ended with an exit status that is not 0, or by a signal.
func (p *Program) Failed() bool { return p.dead && (p.status.Signaled() || p.status.ExitStatus() != 0) }

// Stop begins to end it: by a control line if it reads them, then by a signal, at last it is
// killed with all that it started. All that takes virtual time, so it goes on after Stop.
func (p *Program) Stop() {
	p.stopped = true
	if p.dead {
		return
	}
	if p.Say(process.StopLine) {
		p.supervisor.After(p.spec.StopWithin, p.ask)
	} else {
		p.ask()
	}
}

// Patience is how long Stop may go on.
func (p *Program) Patience() time.Duration { return 2 * p.spec.StopWithin }

func (p *Program) ask() {
	if p.dead {
		return
	}
	signal := unix.SIGTERM
	if p.spec.Signal == "interrupt" {
		signal = unix.SIGINT
	}
	p.supervisor.stirParents()
	_ = unix.Kill(-p.process.pid, signal) // it may be gone
	p.supervisor.After(p.spec.StopWithin, p.Kill)
}

// Kill ends it at once, with all that it started.
func (p *Program) Kill() {
	if !p.dead {
		p.supervisor.stirParents()
		_ = unix.Kill(-p.process.pid, unix.SIGKILL)
	}
}

// Listener is where a program can connect for its trace.
type Listener struct {
	fd        int
	at        netip.AddrPort
	connected bool
}

// Listen listens for one program's trace.
func (s *Supervisor) Listen() (*Listener, error) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	loopback := [4]byte{127, 0, 0, 1}
	for range placeSize {
		port := s.Port()
		if err = unix.Bind(fd, &unix.SockaddrInet4{Port: int(port), Addr: loopback}); err == nil {
			if err = unix.Listen(fd, 8); err == nil {
				return &Listener{fd: fd, at: netip.AddrPortFrom(netip.AddrFrom4(loopback), port)}, nil
			}
		}
	}
	closeFd(fd)
	return nil, err
}

// Addr is where it listens.
func (l *Listener) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.at) }

// Accept is not for others: the supervisor accepts.
func (l *Listener) Accept() (net.Conn, error) { return nil, net.ErrClosed }

// Close closes it, unless its program has been started: then it closes with that.
func (l *Listener) Close() error { return unix.Close(l.fd) }
