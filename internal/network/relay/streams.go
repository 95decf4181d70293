package relay

import (
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"zitherwheel/internal/network/link"
)

// streams is a path for streams: for each connection to it one to the server, and
// two pumps between them. What is closed on one side in one direction is closed
// on the other side in that direction, after what is still on the way.
type streams struct {
	core     *core
	path     Path
	number   int
	listener *net.TCPListener
	pumps    sync.WaitGroup

	mu       sync.Mutex
	open     map[*stream]bool
	appeared int
	ended    bool
}

// stream is one connection through the relay.
type stream struct {
	client   int
	from     netip.AddrPort
	link     *Link
	ends     [2]*net.TCPConn // by the direction whose pieces are read from it
	broken   chan struct{}   // closed when it was broken off
	mu       sync.Mutex
	closed   [2]bool
	whenDone func()
}

const (
	pieceSize   = 128 << 10
	mostWaiting = 4 << 20 // bytes on the way in one direction, beyond which the sender has to wait
	dialWithin  = 5 * time.Second
)

func openStreams(c *core, number int, p Path) (*streams, netip.AddrPort, error) {
	listener, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(p.Listen))
	if err != nil {
		return nil, netip.AddrPort{}, err
	}
	s := &streams{core: c, path: p, number: number, listener: listener, open: map[*stream]bool{}}
	s.pumps.Go(s.accept)
	return s, listener.Addr().(*net.TCPAddr).AddrPort(), nil
}

func (s *streams) accept() {
	for {
		near, err := s.listener.AcceptTCP()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			s.core.fails("a client's connection", err)
			time.Sleep(time.Millisecond) // out of descriptors, perhaps: others may end
			continue
		}
		s.pumps.Go(func() { s.connect(near) })
	}
}

// connect opens the way to the server and starts the pumps. If the server cannot
// be reached, the client's connection is broken off as the server's would be.
func (s *streams) connect(near *net.TCPConn) {
	far, err := net.DialTimeout("tcp", s.path.To.String(), dialWithin)
	switch {
	case errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE):
		s.core.fails("a connection to the server", err)
	case err != nil:
		s.core.count(&s.core.refused)
	}
	if err != nil {
		_ = near.SetLinger(0)
		near.Close()
		return
	}
	from := near.RemoteAddr().(*net.TCPAddr).AddrPort()
	st := &stream{from: netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), ends: [2]*net.TCPConn{link.Up: near, link.Down: far.(*net.TCPConn)}, broken: make(chan struct{})}
	s.mu.Lock()
	if s.ended {
		s.mu.Unlock()
		near.Close()
		far.Close()
		return
	}
	st.client, st.link = s.appeared, s.path.Link(s.appeared)
	s.appeared++
	s.open[st] = true
	s.mu.Unlock()
	st.whenDone = func() {
		s.mu.Lock()
		delete(s.open, st)
		s.mu.Unlock()
	}
	s.pumps.Go(func() { s.pump(st, link.Up) })
	s.pumps.Go(func() { s.pump(st, link.Down) })
}

// piece is a piece of a stream on its way; one without data is the end.
type piece struct {
	at   time.Duration
	data []byte
}

// pump carries one direction of a stream.
func (s *streams) pump(st *stream, d link.Direction) {
	from, to := st.ends[d], st.ends[1-d]
	defer st.done(d)
	pieces := make(chan piece, 1024)
	room := newRoom(mostWaiting)
	var writing sync.WaitGroup
	began := false
	buffer := make([]byte, pieceSize)
	idle := func() bool { return room.left() == mostWaiting }
	for {
		size, err := from.Read(buffer)
		now := s.core.now()
		if size > 0 {
			outcome := st.link.sendStream(d, now, size)
			s.core.tell(Packet{Path: s.number, Client: st.client, From: st.from, Stream: true, Packet: link.Packet{Direction: d, Outcome: outcome}}, buffer[:size])
			if outcome.Arrives[0] <= s.core.now() && (!began || idle()) { // nothing holds it up
				if _, err := to.Write(buffer[:size]); err != nil {
					break
				}
				s.core.sent(s.core.now() - outcome.Arrives[0])
				continue
			}
			if !began {
				began = true
				writing.Go(func() { s.write(st, to, pieces, room) })
			}
			if !room.take(size) {
				break
			}
			pieces <- piece{outcome.Arrives[0], append([]byte(nil), buffer[:size]...)}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil { // broken off: so is the other side
			close(pieces)
			writing.Wait()
			st.reset()
			return
		}
	}
	close(pieces)
	writing.Wait()
	_ = to.CloseWrite() // it may be closed already
}

// write writes pieces when they are due.
func (s *streams) write(st *stream, to *net.TCPConn, pieces <-chan piece, room *room) {
	failed := false
	for p := range pieces {
		if !failed {
			sleepUntil(s.core, p.at, st.broken)
			_, err := to.Write(p.data)
			s.core.sent(s.core.now() - p.at)
			failed = err != nil
		}
		room.give(len(p.data))
		if failed {
			room.shut()
		}
	}
}

// done notes that a direction has ended; after both the connection is closed.
func (st *stream) done(d link.Direction) {
	st.mu.Lock()
	st.closed[d] = true
	both := st.closed[0] && st.closed[1]
	st.mu.Unlock()
	if both {
		st.ends[0].Close()
		st.ends[1].Close()
		st.whenDone()
	}
}

// reset breaks both sides off.
func (st *stream) reset() {
	st.mu.Lock()
	select {
	case <-st.broken:
	default:
		close(st.broken)
	}
	st.mu.Unlock()
	for _, end := range st.ends {
		_ = end.SetLinger(0) // it may be closed already
		end.Close()
	}
}

func (s *streams) reset() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for st := range s.open {
		st.reset()
	}
}

func (s *streams) clients() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.open)
}

func (s *streams) close() error {
	s.mu.Lock()
	ended := s.ended
	s.ended = true
	s.mu.Unlock()
	if ended {
		return nil
	}
	err := s.listener.Close()
	s.reset()
	s.pumps.Wait()
	return err
}

// room counts the bytes that may still be put on the way.
type room struct {
	mu    sync.Mutex
	free  int
	ended bool
	more  *sync.Cond
}

func newRoom(size int) *room {
	r := &room{free: size}
	r.more = sync.NewCond(&r.mu)
	return r
}

// take waits until there is room and reports whether there ever will be.
func (r *room) take(n int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for r.free < n && !r.ended {
		r.more.Wait()
	}
	r.free -= n
	return !r.ended
}

func (r *room) give(n int) {
	r.mu.Lock()
	r.free += n
	r.mu.Unlock()
	r.more.Signal()
}

func (r *room) shut() {
	r.mu.Lock()
	r.ended = true
	r.mu.Unlock()
	r.more.Signal()
}

func (r *room) left() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.free
}

// sleep sleeps as well as the runtime's timers can, or until quit is closed.
func sleep(d time.Duration, quit <-chan struct{}) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-quit:
	}
}
