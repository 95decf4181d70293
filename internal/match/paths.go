package match

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/pcap"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/random"
)

// wire is what lies between the bots and the server's ports.
type wire struct {
	carrier   carrier
	byPath    []*participant   // whose packets go along a path of the relay
	listening []netip.AddrPort // by path
	packets   []relay.Packet   // that were taken last; the memory is used again
	capture   *pcap.Writer     // nil unless packets are kept with their payloads
	captured  *os.File
}

// route is a bot's own part of the wire.
type route struct {
	paths  []int    // of the relay
	at     []string // where the relay listens for its client, by the server's ports
	moves  []time.Duration
	resets []time.Duration // both still to come
}

// openWire gives every bot a link and a way to each of the server's ports.
func (m *buildMatch) openWire() error {
	w := &m.wire
	var err error
	zero := m.base.Add(m.zero)
	if w.carrier, err = m.stage.carry(m.zero, m.options.Record); err != nil {
		return err
	}
	if m.options.Record && m.folder != nil {
		if w.captured, err = os.Create(filepath.Join(m.folder.Path(), "packets.pcapng")); err != nil {
			return err
		}
		if w.capture, err = pcap.New(w.captured, zero); err != nil {
			return err
		}
	}
	for _, b := range m.bots {
		l := m.plan.LinkOf(b.steps)
		stream := func(d link.Direction) *link.Line {
			course := l.Up
			if d == link.Down {
				course = l.Down
			}
			return link.NewLine(course, random.Stream(m.plan.Seed, "link/"+b.name+"/"+d.String()))
		}
		lines := relay.NewLink(stream(link.Up), stream(link.Down))
		b.moves, b.resets = l.Moves, l.Resets
		if b.program == &m.build.Host { // it is the server: nobody is in between
			continue
		}
		for i, port := range m.build.Ports {
			if b.machine != nil {
				if err := m.wayThere(b, i, l); err != nil {
					return err
				}
				continue
			}
			to, err := resolve(m.addresses[i])
			if err != nil {
				return err
			}
			listen := netip.MustParseAddrPort("127.0.0.1:0")
			if to.Addr().Is6() && !to.Addr().Is4In6() && to.Addr().IsLoopback() {
				listen = netip.MustParseAddrPort("[::1]:0")
			}
			if b.hand != nil && i == 0 {
				listen = netip.AddrPortFrom(listen.Addr(), b.hand.port)
			}
			at, err := w.carrier.Add(relay.Path{Network: port.Network, Listen: listen, To: to, Link: func(int) *relay.Link { return lines }, Expire: time.Hour})
			if err != nil {
				return err
			}
			w.leads(b, at)
		}
	}
	return nil
}

// leads notes that the next path is a bot's, whose client finds it there.
func (w *wire) leads(b *participant, at netip.AddrPort) {
	b.at, b.paths = append(b.at, at.String()), append(b.paths, len(w.byPath))
	w.listening, w.byPath = append(w.listening, at), append(w.byPath, b)
}

// take takes the packets that have passed since the last time.
func (m *buildMatch) take() {
	w := &m.wire
	w.packets = w.carrier.Take(w.packets[:0])
	for _, packet := range w.packets {
		b := w.byPath[packet.Path]
		if packet.Direction == link.Up {
			b.facts.up++
			b.sign(packet.Sent)
		} else {
			b.facts.down++
			if m.server != nil {
				m.server.sign(packet.Sent)
			}
		}
		if !m.over && b.view >= 0 {
			m.packet(b.view, packet.Packet, packet.Payload)
			if w.capture != nil {
				m.note(w.capture.Packet(packet, w.listening[packet.Path]))
			}
		}
	}
}

// follow gives a client another port, or cuts its connections, when the plan says so.
func (r *route) follow(now time.Duration, through carrier) (err error) {
	for ; len(r.moves) > 0 && now >= r.moves[0]; r.moves = r.moves[1:] {
		for _, path := range r.paths {
			err = errors.Join(err, through.Move(path))
		}
	}
	for ; len(r.resets) > 0 && now >= r.resets[0]; r.resets = r.resets[1:] {
		for _, path := range r.paths {
			through.Reset(path)
		}
	}
	return err
}

func (w *wire) close() (err error) {
	if w.carrier != nil {
		err = w.carrier.Close()
	}
	if w.capture != nil {
		err = errors.Join(err, w.capture.Flush(), w.captured.Close())
	}
	return err
}

// choosePorts finds free ports where the plan leaves that open, and holds them until the
// server is started.
func (m *buildMatch) choosePorts() error {
	host := "127.0.0.1"
	if m.build.Attach != "" {
		var err error
		if host, _, err = net.SplitHostPort(m.build.Attach); err != nil {
			return err
		}
	}
	m.build.Ports = slices.Clone(m.build.Ports)
	for i := range m.build.Ports {
		p := &m.build.Ports[i]
		if p.Number == 0 {
			held, number, err := m.stage.port(p.Network)
			if err != nil {
				m.releasePorts()
				return fmt.Errorf("no free %s port: %w", p.Network, err)
			}
			if p.Number = number; held != nil {
				m.held = append(m.held, held)
			}
		}
		m.addresses = append(m.addresses, net.JoinHostPort(host, strconv.Itoa(p.Number)))
	}
	return nil
}

// releasePorts leaves the ports to the server that is about to be started.
func (m *buildMatch) releasePorts() {
	for _, port := range m.held {
		port.Close()
	}
	m.held = nil
}

// resolve turns HOST:PORT into an address.
func resolve(address string) (netip.AddrPort, error) {
	a, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return netip.AddrPort{}, err
	}
	at := a.AddrPort()
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), nil
}
