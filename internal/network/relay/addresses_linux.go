package relay

import (
	"net/netip"

	"golang.org/x/sys/unix"
)

// Addresses of sockets, as the system has them and as Go has them.

func sockaddr(a netip.AddrPort) unix.Sockaddr {
	if ip := a.Addr().Unmap(); ip.Is4() {
		return &unix.SockaddrInet4{Port: int(a.Port()), Addr: ip.As4()}
	}
	return &unix.SockaddrInet6{Port: int(a.Port()), Addr: a.Addr().As16()}
}

// addressOf is the zero value for an address of an unknown family.
func addressOf(a unix.Sockaddr) netip.AddrPort {
	switch a := a.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(netip.AddrFrom4(a.Addr), uint16(a.Port))
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(netip.AddrFrom16(a.Addr), uint16(a.Port))
	}
	return netip.AddrPort{}
}

func localAddress(fd int) (netip.AddrPort, error) {
	a, err := unix.Getsockname(fd)
	return addressOf(a), err
}
