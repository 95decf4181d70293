package pcap

import (
	"bytes"
	"io"
	"net/netip"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
)

const ms = time.Millisecond

// read opens a capture as any analyser would.
func read(t *testing.T, file []byte) (packets []gopacket.Packet, sides []int) {
	t.Helper()
	r, err := pcapgo.NewNgReader(bytes.NewReader(file), pcapgo.NgReaderOptions{WantMixedLinkType: true})
	require.NoError(t, err)
	for {
		data, info, err := r.ReadPacketData()
		if err == io.EOF {
			return packets, sides
		}
		require.NoError(t, err)
		first := layers.LayerTypeIPv4
		if data[0]>>4 == 6 {
			first = layers.LayerTypeIPv6
		}
		p := gopacket.NewPacket(data, first, gopacket.Default)
		p.Metadata().CaptureInfo = info
		require.Nil(t, p.ErrorLayer())
		packets, sides = append(packets, p), append(sides, info.InterfaceIndex)
	}
}

func TestDatagramsComeInAndGoOut(t *testing.T) {
	zero := time.Unix(1_700_000_000, 0)
	client, server := netip.MustParseAddrPort("127.0.0.1:5000"), netip.MustParseAddrPort("127.0.0.1:7000")
	var file bytes.Buffer
	w, err := New(&file, zero)
	require.NoError(t, err)
	for _, p := range []relay.Packet{
		{From: client, Payload: []byte("woof"), Packet: link.Packet{Direction: link.Up, Outcome: link.Outcome{Sent: ms, Copies: 2, Arrives: [2]time.Duration{21 * ms, 25 * ms}}}},
		{From: client, Payload: []byte("baa"), Packet: link.Packet{Direction: link.Down, Outcome: link.Outcome{Sent: 2 * ms, Dropped: link.Lost}}},
		{From: client, Payload: []byte("baa"), Packet: link.Packet{Direction: link.Down, Outcome: link.Outcome{Sent: 3 * ms, Copies: 1, Flipped: 1, Arrives: [2]time.Duration{4 * ms}}}},
		{From: client, Packet: link.Packet{Direction: link.Up, Outcome: link.Outcome{Sent: 5 * ms, Dropped: link.Lost}}},
	} {
		require.NoError(t, w.Packet(p, server))
	}
	require.NoError(t, w.Flush())
	packets, sides := read(t, file.Bytes())
	assert.Equal(t, []int{interfaceIn, interfaceOut, interfaceOut, interfaceIn, interfaceIn, interfaceOut, interfaceIn}, sides)
	udp := packets[0].TransportLayer().(*layers.UDP)
	assert.Equal(t, [2]layers.UDPPort{5000, 7000}, [2]layers.UDPPort{udp.SrcPort, udp.DstPort})
	assert.Equal(t, "woof", string(udp.Payload))
	assert.True(t, zero.Add(25*ms).Equal(packets[2].Metadata().Timestamp))
	down := packets[3].TransportLayer().(*layers.UDP)
	assert.Equal(t, layers.UDPPort(7000), down.SrcPort)
	assert.Equal(t, "caa", string(packets[5].TransportLayer().LayerPayload()), "what goes out is spoiled, what came in is not")
	assert.Equal(t, "baa", string(packets[4].TransportLayer().LayerPayload()))
}

func TestPiecesOfAStreamAreNumbered(t *testing.T) {
	client, server := netip.MustParseAddrPort("[::1]:5000"), netip.MustParseAddrPort("[::1]:7000")
	var file bytes.Buffer
	w, err := New(&file, time.Unix(0, 0))
	require.NoError(t, err)
	once := link.Outcome{Copies: 1}
	require.NoError(t, w.Packet(relay.Packet{From: client, Stream: true, Payload: make([]byte, 130_000), Packet: link.Packet{Outcome: once}}, server))
	require.NoError(t, w.Packet(relay.Packet{From: client, Stream: true, Payload: []byte("end"), Packet: link.Packet{Outcome: once}}, server))
	require.NoError(t, w.Packet(relay.Packet{From: client, Stream: true, Payload: []byte("ok"), Packet: link.Packet{Direction: link.Down, Outcome: once}}, server))
	require.NoError(t, w.Flush())
	packets, _ := read(t, file.Bytes())
	var seqs []uint32
	for _, p := range packets {
		seqs = append(seqs, p.TransportLayer().(*layers.TCP).Seq)
	}
	assert.Equal(t, []uint32{0, 0, 60_000, 60_000, 120_000, 120_000, 130_000, 130_000, 0, 0}, seqs)
	assert.Equal(t, uint32(130_003), packets[8].TransportLayer().(*layers.TCP).Ack)
}
