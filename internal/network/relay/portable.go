package relay

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"zitherwheel/internal/network/link"
)

// portableSocket is a datagram socket of the portable way.
type portableSocket struct{ conn *net.UDPConn }

// portable moves datagrams with a goroutine for each socket and one that sends
// what is due. It keeps time as well as the runtime's timers do.
type portable struct {
	core    *core
	mu      sync.Mutex
	paths   []*udpPath
	waiting waiting
	slab    slab
	news    chan struct{} // something is due sooner than before, or the end
	stop    bool
	readers sync.WaitGroup
	sender  sync.WaitGroup
}

func newPortable(c *core) *portable {
	p := &portable{core: c, news: make(chan struct{}, 1)}
	p.sender.Go(p.send)
	return p
}

func (p *portable) add(number int, path Path) (netip.AddrPort, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(path.Listen))
	if err != nil {
		return netip.AddrPort{}, err
	}
	u := &udpPath{Path: path, number: number, byFrom: map[netip.AddrPort]*client{}}
	u.portableSocket = &portableSocket{conn}
	p.mu.Lock()
	if p.stop {
		p.mu.Unlock()
		return netip.AddrPort{}, errors.Join(net.ErrClosed, conn.Close())
	}
	for len(p.paths) <= number {
		p.paths = append(p.paths, nil)
	}
	p.paths[number] = u
	p.mu.Unlock()
	p.readers.Go(func() { p.read(conn, u, nil) })
	return conn.LocalAddr().(*net.UDPAddr).AddrPort(), nil
}

func (p *portable) connect(c *client) error {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(c.path.To))
	if err != nil {
		return err
	}
	c.portableSocket = &portableSocket{conn}
	p.readers.Go(func() { p.read(conn, c.path, c) })
	return nil
}

// read takes what arrives at a socket until it is closed.
func (p *portable) read(conn *net.UDPConn, path *udpPath, cl *client) {
	buffer := make([]byte, mostPayload)
	for {
		size, from, err := conn.ReadFromUDPAddrPort(buffer)
		at := p.core.now()
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case errors.Is(err, syscall.ECONNREFUSED):
			p.core.count(&p.core.refused)
			continue
		case err != nil:
			time.Sleep(time.Millisecond) // whatever it is, it is not to fill a core
			continue
		}
		p.mu.Lock()
		p.take(path, cl, netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), at, buffer[:size])
		p.mu.Unlock()
	}
}

func (p *portable) take(path *udpPath, cl *client, from netip.AddrPort, at time.Duration, datagram []byte) {
	if p.stop || cl != nil && cl.gone {
		return
	}
	way := link.Down
	if cl == nil {
		way = link.Up
		var err error
		if cl, err = path.meet(from, p.connect); err != nil {
			p.core.fails("a socket for a new client", err)
			return
		}
	}
	data := p.slab.get()
	if len(datagram) > len(data) {
		data = make([]byte, len(datagram))
	}
	copy(data, datagram)
	if !p.core.pass(&p.waiting, &p.slab, cl, way, at, data, len(datagram)) {
		p.slab.put(data)
		return
	}
	p.wake()
}

func (p *portable) wake() {
	select {
	case p.news <- struct{}{}:
	default:
	}
}

// send sends what is due, and lets clients expire.
func (p *portable) send() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		p.mu.Lock()
		if p.stop {
			p.mu.Unlock()
			return
		}
		now := p.core.now()
		for p.waiting.Due(now) {
			d := p.waiting.pop()
			p.sendOne(d)
			p.core.sent(now - d.at)
			p.slab.put(d.data)
		}
		wait := time.Second
		if p.waiting.Len() > 0 {
			wait = min(wait, p.waiting.Next()-now)
		}
		p.expire(now)
		p.mu.Unlock()
		timer.Reset(wait)
		select {
		case <-timer.C:
		case <-p.news:
		}
	}
}

func (p *portable) sendOne(d due) {
	if d.client.gone {
		return
	}
	var err error
	if d.way == link.Up {
		_, err = d.client.conn.Write(d.data[:d.size])
	} else {
		_, err = d.client.path.conn.WriteToUDPAddrPort(d.data[:d.size], d.client.from)
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		p.core.count(&p.core.refused)
	case err != nil:
		p.core.count(&p.core.unsent)
	}
}

func (p *portable) expire(now time.Duration) {
	for _, path := range p.paths {
		if path == nil {
			continue
		}
		for from, c := range path.byFrom {
			if now-c.heard > path.Expire {
				c.gone = true
				c.conn.Close()
				delete(path.byFrom, from)
			}
		}
	}
}

func (p *portable) move(number int) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.stop {
		return net.ErrClosed
	}
	var failures []error
	path := p.paths[number]
	for from, c := range path.byFrom {
		c.conn.Close()
		if err := p.connect(c); err != nil { // it appears anew with its next packet
			c.gone = true
			delete(path.byFrom, from)
			p.core.fails("a new socket for a client", err)
			failures = append(failures, err)
		}
	}
	return errors.Join(failures...)
}

func (p *portable) clients(number int) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.paths[number].byFrom)
}

func (p *portable) close() error {
	p.mu.Lock()
	if p.stop {
		p.mu.Unlock()
		return nil
	}
	p.stop = true
	var failures []error
	for _, path := range p.paths {
		if path == nil {
			continue
		}
		failures = append(failures, path.conn.Close())
		for _, c := range path.byFrom {
			failures = append(failures, c.conn.Close())
		}
	}
	p.mu.Unlock()
	p.wake()
	p.readers.Wait()
	p.sender.Wait()
	return errors.Join(failures...)
}
