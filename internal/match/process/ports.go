package process

import (
	"net"
	"net/netip"
	"slices"
	"strings"

	gonet "github.com/shirou/gopsutil/v4/net"
)

// Bound reports whether some process of this machine takes what is sent to an address,
// and whether that can be told. It looks it up and sends nothing: a server may take
// anything that arrives for a player's.
func Bound(network string, at netip.AddrPort) (bound, known bool) {
	if !ours(at.Addr()) {
		return false, false
	}
	for _, family := range []string{"4", "6"} {
		list, ok := listening(network + family)
		known = known || ok
		bound = bound || slices.ContainsFunc(list, func(l netip.AddrPort) bool {
			return l.Port() == at.Port() && (l.Addr() == at.Addr() || l.Addr().IsUnspecified())
		})
	}
	return bound, known
}

// ours reports whether an address is one of this machine.
func ours(address netip.Addr) bool {
	if address.IsLoopback() || address.IsUnspecified() {
		return true
	}
	list, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(list, func(a net.Addr) bool {
		of, err := netip.ParsePrefix(a.String())
		return err == nil && of.Addr() == address
	})
}

// listed asks the system's own list, where there is no quicker way.
func listed(network string) (list []netip.AddrPort, ok bool) {
	sockets, err := gonet.Connections(network)
	if err != nil {
		return nil, false
	}
	for _, s := range sockets {
		if strings.HasPrefix(network, "tcp") && s.Status != "LISTEN" {
			continue
		}
		if a, err := netip.ParseAddr(strings.Replace(s.Laddr.IP, "*", "0.0.0.0", 1)); err == nil {
			list = append(list, netip.AddrPortFrom(a.Unmap(), uint16(s.Laddr.Port)))
		}
	}
	return list, true
}
