package relay

import (
	"net/netip"
	"time"

	"zitherwheel/internal/network/link"
)

// client is one client of a datagram path.
type client struct {
	path   *udpPath
	number int
	from   netip.AddrPort
	link   *Link
	heard  time.Duration
	gone   bool
	socket // towards the server
}

// udpPath is a path for datagrams.
type udpPath struct {
	Path
	number   int
	byFrom   map[netip.AddrPort]*client
	appeared int
	socket   // that listens
}

// meet finds the client at an address, or opens one.
func (p *udpPath) meet(from netip.AddrPort, open func(*client) error) (*client, error) {
	if c := p.byFrom[from]; c != nil {
		return c, nil
	}
	c := &client{path: p, number: p.appeared, from: from}
	if err := open(c); err != nil {
		return nil, err
	}
	c.link = p.Link(p.appeared)
	p.appeared++
	p.byFrom[from] = c
	return c, nil
}

// pass draws the outcome of a datagram, tells it and puts the datagram among those
// that wait. It reports whether the buffer was kept.
func (c *core) pass(w *waiting, s *slab, cl *client, d link.Direction, at time.Duration, data []byte, size int) bool {
	cl.heard = at
	outcome := cl.link.send(d, at, size)
	if outcome.Copies > 0 && w.held+outcome.Copies*max(size, slabSize) > mostHeld {
		outcome.Copies, outcome.Arrives, outcome.Flipped, outcome.Dropped = 0, [2]time.Duration{}, 0, link.RelayFull
		c.count(&c.full)
	}
	c.tell(Packet{Path: cl.path.number, Client: cl.number, From: cl.from, Packet: link.Packet{Direction: d, Outcome: outcome}}, data[:size])
	if outcome.Copies == 0 {
		return false
	}
	outcome.Spoil(data[:size])
	if outcome.Copies > 1 {
		again := s.get()
		if size > len(again) {
			again = make([]byte, size)
		}
		copy(again, data[:size])
		w.push(due{at: outcome.Arrives[1], data: again, size: size, client: cl, way: d})
	}
	w.push(due{at: outcome.Arrives[0], data: data, size: size, client: cl, way: d})
	return true
}
