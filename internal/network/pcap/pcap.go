// Package pcap writes packets with their payloads as pcapng, the open format of
// packet captures (draft-ietf-opsawg-pcapng), so that any packet analyser can open
// what went through the relay.
//
// The headers are made up: IP with UDP or TCP between the client's address and the
// relay's. A capture has two interfaces: "in" is what came to the relay, when it
// came; "out" is what it sent on, when it was due.
package pcap

import (
	"io"
	"net/netip"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
)

// Writer writes a capture. Not safe for concurrent use.
type Writer struct {
	out  *pcapgo.NgWriter
	zero time.Time
	seq  map[stream]uint32
}

// stream is one direction of a connection.
type stream struct {
	path, client int
	way          link.Direction
}

const (
	interfaceIn = iota
	interfaceOut
)

// New begins a capture of packets whose times count from zero.
func New(w io.Writer, zero time.Time) (*Writer, error) {
	side := pcapgo.DefaultNgInterface
	side.LinkType = layers.LinkTypeRaw
	side.Name = "in"
	side.Comment = "what came to the relay"
	out, err := pcapgo.NewNgWriterInterface(w, side, pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{Application: "zwheel"}})
	if err != nil {
		return nil, err
	}
	side.Name, side.Comment = "out", "what the relay sent on"
	if _, err := out.AddInterface(side); err != nil {
		return nil, err
	}
	return &Writer{out: out, zero: zero, seq: map[stream]uint32{}}, nil
}

// Packet writes a packet: once as it came, and once for every time it is sent on.
// server is where its client believes the server to be: the relay's address.
func (w *Writer) Packet(p relay.Packet, server netip.AddrPort) error {
	from, to := p.From, server
	if p.Direction == link.Down {
		from, to = to, from
	}
	data := p.Payload
	for len(data) > 0 || !p.Stream { // a piece of a stream may be larger than an IP packet can be
		part := data[:min(len(data), 60_000)]
		data = data[len(part):]
		if err := w.write(interfaceIn, p, part, from, to, p.Sent); err != nil {
			return err
		}
		passed := append([]byte(nil), part...)
		p.Spoil(passed)
		for _, at := range p.Arrives[:p.Copies] {
			if err := w.write(interfaceOut, p, passed, from, to, at); err != nil {
				return err
			}
		}
		if p.Stream {
			w.seq[stream{p.Path, p.Client, p.Direction}] += uint32(len(part))
		}
		if len(data) == 0 {
			break
		}
	}
	return nil
}

func (w *Writer) write(side int, p relay.Packet, payload []byte, from, to netip.AddrPort, at time.Duration) error {
	protocol := layers.IPProtocolUDP
	if p.Stream {
		protocol = layers.IPProtocolTCP
	}
	var network gopacket.NetworkLayer
	var ip gopacket.SerializableLayer
	if from.Addr().Is4() {
		v4 := &layers.IPv4{Version: 4, TTL: 64, Protocol: protocol, SrcIP: from.Addr().AsSlice(), DstIP: to.Addr().AsSlice()}
		network, ip = v4, v4
	} else {
		v6 := &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: protocol, SrcIP: from.Addr().AsSlice(), DstIP: to.Addr().AsSlice()}
		network, ip = v6, v6
	}
	var transport gopacket.SerializableLayer
	if p.Stream {
		tcp := &layers.TCP{SrcPort: layers.TCPPort(from.Port()), DstPort: layers.TCPPort(to.Port()), ACK: true, PSH: true, Window: 65535,
			Seq: w.seq[stream{p.Path, p.Client, p.Direction}], Ack: w.seq[stream{p.Path, p.Client, 1 - p.Direction}]}
		if err := tcp.SetNetworkLayerForChecksum(network); err != nil {
			return err
		}
		transport = tcp
	} else {
		udp := &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())}
		if err := udp.SetNetworkLayerForChecksum(network); err != nil {
			return err
		}
		transport = udp
	}
	buffer := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(buffer, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, ip, transport, gopacket.Payload(payload)); err != nil {
		return err
	}
	data := buffer.Bytes()
	return w.out.WritePacket(gopacket.CaptureInfo{Timestamp: w.zero.Add(at), Length: len(data), CaptureLength: len(data), InterfaceIndex: side}, data)
}

// Flush writes what still waits.
func (w *Writer) Flush() error { return w.out.Flush() }
