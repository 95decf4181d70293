package process

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// listening lists the addresses at which somebody takes what is sent: network is udp4,
// udp6, tcp4 or tcp6. It reads the net folder of /proc, whose lines are described in proc(5): the
// local address is hexadecimal, in words of the machine's byte order.
func listening(network string) (list []netip.AddrPort, ok bool) {
	const listens = "0A" // the state of TCP sockets that wait for connections
	file, err := os.Open("/proc/thread-self/net/" + strings.TrimSuffix(network, "4"))
	if err != nil {
		return listed(network)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) < 4 || strings.HasPrefix(network, "tcp") && words[3] != listens {
			continue
		}
		host, port, _ := strings.Cut(words[1], ":")
		bytes, err := hex.DecodeString(host)
		number, bad := strconv.ParseUint(port, 16, 16)
		if err != nil || bad != nil || len(bytes)%4 != 0 {
			continue // the line of titles
		}
		for i := 0; i < len(bytes); i += 4 {
			binary.NativeEndian.PutUint32(bytes[i:], binary.BigEndian.Uint32(bytes[i:]))
		}
		if a, ok := netip.AddrFromSlice(bytes); ok {
			list = append(list, netip.AddrPortFrom(a.Unmap(), uint16(number)))
		}
	}
	return list, lines.Err() == nil
}
