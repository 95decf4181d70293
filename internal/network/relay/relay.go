// Package relay carries traffic between real clients and a real server, each
// client over its own link: the same impairment model that the virtual network
// uses, on real sockets. Datagrams (UDP) and streams (TCP) are passed on as they
// come; what is in them is not looked at.
//
// A [Path] is a port that clients are sent to instead of the server. Every client
// that appears there gets a socket of its own towards the server, so that the
// server tells clients apart by their address as it would without a relay.
//
// On Linux datagrams are handled by one thread that waits and keeps time with
// epoll_pwait2, receives and sends many packets with one call, and counts delays
// from the kernel's stamps of arrival. Elsewhere a portable way is used, which
// keeps time as well as the Go runtime's timers do: to about a millisecond.
package relay

import (
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"zitherwheel/internal/network/link"
)

// Path is a way from clients to the server.
type Path struct {
	Network string                 // "udp" or "tcp"
	Listen  netip.AddrPort         // where clients come to; port 0 takes a free one
	To      netip.AddrPort         // the server
	Link    func(client int) *Link // of the n-th client that appears, counted from 0; it may be one and the same for all
	Expire  time.Duration          // a client's datagram socket is closed after so long without a packet; 0 means a minute
}

// Packet is a packet or piece of a stream that came to the relay, and its outcome.
type Packet struct {
	Path   int // in the order they were added
	Client int
	From   netip.AddrPort // the client's address
	Stream bool
	link.Packet
	Payload []byte // only if the relay records
}

// Options of a relay. The zero value is good.
type Options struct {
	Zero     time.Time // from which times are counted; the zero value is now
	Record   bool      // keep payloads
	Portable bool      // do not use what only Linux has
}

// Relay is a running relay. All methods are safe for concurrent use.
type Relay struct {
	core   *core
	engine engine

	mu    sync.Mutex
	paths []added
}

type added struct {
	network string
	streams *streams // or nil
}

// engine moves datagrams.
type engine interface {
	// add listens for a path and returns where.
	add(number int, p Path) (netip.AddrPort, error)
	// move gives every client of a path a new socket towards the server.
	move(path int) error
	// clients counts the clients of a path.
	clients(path int) int
	close() error
}

// Open starts a relay without paths.
func Open(o Options) (*Relay, error) {
	if o.Zero.IsZero() {
		o.Zero = time.Now()
	}
	r := &Relay{core: &core{zero: o.Zero, record: o.Record}}
	var err error
	r.engine, err = newEngine(r.core, o.Portable)
	return r, err
}

// Add opens a path and returns the address it listens at.
func (r *Relay) Add(p Path) (netip.AddrPort, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if p.Expire == 0 {
		p.Expire = time.Minute
	}
	var at netip.AddrPort
	var err error
	a := added{network: p.Network}
	switch p.Network {
	case "udp":
		at, err = r.engine.add(len(r.paths), p)
	case "tcp":
		a.streams, at, err = openStreams(r.core, len(r.paths), p)
	default:
		err = fmt.Errorf("there is no network %q; there are udp and tcp", p.Network)
	}
	if err != nil {
		return at, fmt.Errorf("relay: listening on %s %s: %w", p.Network, p.Listen, err)
	}
	r.paths = append(r.paths, a)
	return at, nil
}

// Move changes the address under which the server sees the clients of a path, as a
// router does that has forgotten them. It does nothing to streams.
func (r *Relay) Move(path int) error {
	if r.path(path).network != "udp" {
		return nil
	}
	return r.engine.move(path)
}

// Reset breaks off all streams of a path. It does nothing to datagrams.
func (r *Relay) Reset(path int) {
	if s := r.path(path).streams; s != nil {
		s.reset()
	}
}

// Clients counts the clients of a path at the moment.
func (r *Relay) Clients(path int) int {
	if s := r.path(path).streams; s != nil {
		return s.clients()
	}
	return r.engine.clients(path)
}

func (r *Relay) path(number int) added {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.paths[number]
}

// Now is the time since zero.
func (r *Relay) Now() time.Duration { return r.core.now() }

// Take moves the packets that have come since the last call behind list, in the
// order in which they came in each direction of a client.
func (r *Relay) Take(list []Packet) []Packet { return r.core.take(list) }

// Stats is how the relay itself has done so far.
func (r *Relay) Stats() Stats { return r.core.stats() }

// Close closes every socket of the relay. What is asked of it later is an error or
// nothing, and a second Close is none.
func (r *Relay) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	failures := []error{r.engine.close()}
	for _, a := range r.paths {
		if a.streams != nil {
			failures = append(failures, a.streams.close())
		}
	}
	return errors.Join(failures...)
}

// Link is the link of a client: its two lines. It is safe for concurrent use.
type Link struct {
	mu    sync.Mutex
	lines [2]*link.Line
	last  [2]time.Duration
}

// NewLink returns a link of these lines.
func NewLink(up, down *link.Line) *Link {
	return &Link{lines: [2]*link.Line{link.Up: up, link.Down: down}}
}

// Quality is how good a direction is now.
func (l *Link) Quality(d link.Direction) link.Conditions {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lines[d].Quality()
}

// Set changes the quality of a direction from the next packet on.
func (l *Link) Set(d link.Direction, q link.Conditions) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lines[d].Set(q)
}

// Cut begins or ends an outage of both directions.
func (l *Link) Cut(off bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, line := range l.lines {
		line.Cut(off)
	}
}

func (l *Link) send(d link.Direction, now time.Duration, size int) link.Outcome {
	l.mu.Lock()
	defer l.mu.Unlock()
	now = l.monotone(d, now)
	return l.lines[d].Send(now, size)
}

func (l *Link) sendStream(d link.Direction, now time.Duration, size int) link.Outcome {
	l.mu.Lock()
	defer l.mu.Unlock()
	now = l.monotone(d, now)
	rtt := l.lines[link.Up].Quality().Latency + l.lines[link.Down].Quality().Latency
	return l.lines[d].SendStream(now, size, rtt)
}

// monotone keeps the times of a line from going back, in whole microseconds.
func (l *Link) monotone(d link.Direction, now time.Duration) time.Duration {
	l.last[d] = max(l.last[d], now.Round(time.Microsecond))
	return l.last[d]
}
