package match

import (
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

// choosePorts finds free ports where the plan leaves that open.
func (m *wallMatch) choosePorts() error {
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
			var err error
			if p.Number, err = freePort(p.Network); err != nil {
				return fmt.Errorf("no free %s port: %w", p.Network, err)
			}
		}
		m.addresses = append(m.addresses, net.JoinHostPort(host, strconv.Itoa(p.Number)))
	}
	return nil
}

func freePort(network string) (int, error) {
	if network == "udp" {
		c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			return 0, err
		}
		defer c.Close()
		return c.LocalAddr().(*net.UDPAddr).Port, nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// openRelay gives every bot a link and a way to each of the server's ports.
func (m *wallMatch) openRelay() error {
	var err error
	zero := m.base.Add(m.zero)
	if m.relay, err = relay.Open(relay.Options{Zero: zero, Record: m.options.Record}); err != nil {
		return err
	}
	if m.options.Record && m.folder != nil {
		if m.captured, err = os.Create(filepath.Join(m.folder.Path(), "packets.pcapng")); err != nil {
			return err
		}
		if m.capture, err = pcap.New(m.captured, zero); err != nil {
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
		b.link, b.moves, b.resets = relay.NewLink(stream(link.Up), stream(link.Down)), l.Moves, l.Resets
		if b.program == &m.build.Host { // it is the server: nobody is in between
			continue
		}
		for i, port := range m.build.Ports {
			to, err := resolve(m.addresses[i])
			if err != nil {
				return err
			}
			listen := netip.MustParseAddrPort("127.0.0.1:0")
			if to.Addr().Is6() && !to.Addr().Is4In6() && to.Addr().IsLoopback() {
				listen = netip.MustParseAddrPort("[::1]:0")
			}
			at, err := m.relay.Add(relay.Path{Network: port.Network, Listen: listen, To: to, Link: func(int) *relay.Link { return b.link }, Expire: time.Hour})
			if err != nil {
				return err
			}
			m.listening = append(m.listening, at)
			b.at = append(b.at, at.String())
			b.paths = append(b.paths, len(m.byPath))
			m.byPath = append(m.byPath, b)
		}
	}
	return nil
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
