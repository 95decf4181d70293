// Package programs runs the demo game's server and client as programs of their own,
// over real sockets and on the machine's clock: what zwheel hillfold serve and
// zwheel hillfold play do. They say their trace lines on one stream, log text on
// another, and read control lines, as any build under test may.
package programs

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"zitherwheel/internal/control"
	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/random"
	"zitherwheel/internal/trace"
)

// Streams are what a program reads and writes.
type Streams struct {
	Control io.Reader // control lines; may be nil
	Trace   io.Writer
	Log     io.Writer
}

// clock counts from the start of the program.
type clock struct{ began time.Time }

func (c clock) now() time.Duration { return time.Since(c.began).Round(time.Microsecond) }

// wait sleeps until a time of the clock, or until ctx is done.
func (c clock) wait(ctx context.Context, until time.Duration) bool {
	timer := time.NewTimer(until - c.now())
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// socket collects what arrives between steps.
type socket struct {
	conn *net.UDPConn
	mu   sync.Mutex
	in   []hillfold.Packet
	from map[netip.AddrPort]hillfold.Address
	to   []netip.AddrPort // by address
}

func newSocket(conn *net.UDPConn) *socket {
	s := &socket{conn: conn, from: map[netip.AddrPort]hillfold.Address{}}
	go s.read()
	return s
}

// mostWaiting bounds what may pile up between two steps.
const mostWaiting = 4096

func (s *socket) read() {
	buffer := make([]byte, 65536)
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buffer)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // the other side is not there (yet)
			if !errors.Is(err, syscall.ECONNREFUSED) {
				time.Sleep(time.Millisecond)
			}
			continue
		}
		s.mu.Lock()
		address, known := s.from[from]
		if !known {
			address = hillfold.Address(len(s.to))
			s.from[from] = address
			s.to = append(s.to, from)
		}
		if len(s.in) < mostWaiting {
			s.in = append(s.in, hillfold.Packet{Peer: address, Data: slices.Clone(buffer[:n])})
		}
		s.mu.Unlock()
	}
}

// take returns what has arrived.
func (s *socket) take() []hillfold.Packet {
	s.mu.Lock()
	defer s.mu.Unlock()
	in := s.in
	s.in = nil
	return in
}

func (s *socket) address(a hillfold.Address) netip.AddrPort {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.to[a]
}

// speaker writes what a side says. A trace that nobody reads any more ends it.
type speaker struct {
	writer *trace.Writer
	failed error
}

func (s *speaker) say(r *trace.Record) {
	if err := s.writer.Write(r); s.failed == nil {
		s.failed = err
	}
}

func (s *speaker) flush() error {
	return errors.Join(s.failed, s.writer.Flush())
}

// commands reads control lines until ctx is done. It is closed at the end of the
// stream only if there was a line to stop.
func commands(ctx context.Context, from io.Reader, log io.Writer) <-chan control.Line {
	lines := make(chan control.Line, 64)
	if from == nil {
		return lines
	}
	go func() {
		in := bufio.NewScanner(from)
		for in.Scan() {
			l, err := control.Parse(in.Bytes())
			if err != nil {
				fmt.Fprintln(log, err)
				continue
			}
			select {
			case lines <- l:
			case <-ctx.Done():
				return
			}
		}
	}()
	return lines
}

// Serve runs the server on a socket until ctx is done or it is told to stop.
func Serve(ctx context.Context, conn *net.UDPConn, config hillfold.Config, seed uint64, streams Streams) error {
	defer conn.Close()
	names := trace.NewNames()
	out := &speaker{writer: trace.NewWriter(streams.Trace, names)}
	server := hillfold.NewServer(config, names, random.Stream(seed, "hillfold/world"), out.say, func(text string) { fmt.Fprintln(streams.Log, text) })
	fmt.Fprintf(streams.Log, "listening on udp %s\n", conn.LocalAddr())
	in, lines, c := newSocket(conn), commands(ctx, streams.Control, streams.Log), clock{time.Now()}
	for c.wait(ctx, server.Next()) {
		for {
			select {
			case l := <-lines:
				if l.Do == control.Stop {
					fmt.Fprintln(streams.Log, "told to stop")
					return out.flush()
				}
				continue
			default:
			}
			break
		}
		for _, p := range server.Step(c.now(), in.take()) {
			_, _ = conn.WriteToUDPAddrPort(p.Data, in.address(p.Peer)) // a packet that cannot be sent is lost
		}
		if err := out.flush(); err != nil {
			return fmt.Errorf("writing the trace: %w", err)
		}
	}
	return out.flush()
}

// Play runs a client of a server until ctx is done or it is told to stop.
func Play(ctx context.Context, server *net.UDPAddr, name string, config hillfold.Config, seed uint64, streams Streams) error {
	conn, err := net.DialUDP("udp", nil, server)
	if err != nil {
		return err
	}
	defer conn.Close()
	names := trace.NewNames()
	out := &speaker{writer: trace.NewWriter(streams.Trace, names)}
	config.Session = rand.Uint32() // another than that of an earlier process of this name
	p := &player{client: hillfold.NewClient(config, name, names, random.Stream(seed, "hillfold/"+name), out.say), log: streams.Log}
	in, lines, c := newSocket(conn), commands(ctx, streams.Control, streams.Log), clock{time.Now()}
	frame := time.Second / time.Duration(config.Rates.FPS)
	next := time.Duration(0)
	for c.wait(ctx, next) {
		now := c.now()
		stop := false
		for more := true; more; {
			select {
			case l := <-lines:
				stop = stop || l.Do == control.Stop
				p.obey(now, l)
			default:
				more = false
			}
		}
		if stop && !p.client.Idle() {
			p.client.Leave(now)
		}
		arrived := in.take()
		if p.joins && p.client.Idle() && !p.stopping && !stop {
			p.joins, p.refused = false, false
			p.client.Join(now)
			fmt.Fprintln(streams.Log, "asking to join")
		}
		if p.client.Idle() {
			if stop || p.stopping {
				fmt.Fprintln(streams.Log, "told to stop")
				return out.flush()
			}
			next = now + frame
			continue
		}
		p.stopping = p.stopping || stop
		was := p.client.Inside()
		for _, packet := range p.client.Step(now, arrived, p.input) {
			_, _ = conn.Write(packet.Data) // a packet that cannot be sent is lost
		}
		p.input.Bark = false
		p.note(was)
		if err := out.flush(); err != nil {
			return fmt.Errorf("writing the trace: %w", err)
		}
		next = max(p.client.Next(), now)
	}
	return out.flush()
}

// player is a client and what its player does.
type player struct {
	client   *hillfold.Client
	input    hillfold.Input
	stopping bool
	joins    bool // as soon as it can
	log      io.Writer
	refused  bool
}

// obey does what a control line says.
func (p *player) obey(now time.Duration, l control.Line) {
	switch l.Do {
	case control.Join:
		p.joins = !p.client.Inside() // it may still be saying goodbye
	case control.Leave:
		p.joins = false
		p.client.Leave(now)
		p.input = hillfold.Input{}
	case control.Input:
		p.input.Turn, p.input.Move, p.input.Run = l.Turn, l.Move, l.Run
	case control.Press:
		p.input.Bark = p.input.Bark || l.Input == "bark"
	case control.Set:
		cheat := hillfold.Cheat{Stamina: l.What == "stamina"}
		if l.What == "place" && len(l.To) == 2 {
			cheat.X, cheat.Y, cheat.Moves = l.To[0], l.To[1], true
		}
		p.client.Cheat(now, cheat)
	case control.Hello, control.Stop:
	default:
		fmt.Fprintf(p.log, "a control line says %q, which this client cannot do\n", l.Do)
	}
}

func (p *player) note(was bool) {
	switch {
	case p.client.Inside() && !was:
		fmt.Fprintln(p.log, "in the match")
	case p.client.Refused() && !p.refused:
		p.refused = true
		fmt.Fprintln(p.log, "refused: the server has no place left")
	}
}
