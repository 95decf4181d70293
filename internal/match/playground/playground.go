// Package playground is a relay for playing by hand on a bad network: it counts
// what goes through for each client, obeys commands that change the link while it
// runs, and keeps records.
package playground

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"sync"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/pcap"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/random"
	"zitherwheel/internal/run"
)

// Config says what is relayed, and how.
type Config struct {
	Network  string // udp or tcp
	Listen   netip.AddrPort
	To       netip.AddrPort
	Up       link.Conditions
	Down     link.Conditions
	Seed     uint64
	Outcomes io.Writer // gets a line for every packet, as in packets.jsonl; may be nil
	Capture  io.Writer // gets a capture with payloads; may be nil
}

// Board is a running switchboard. All methods are safe for concurrent use.
type Board struct {
	config  Config
	relay   *relay.Relay
	at      netip.AddrPort
	mu      sync.Mutex
	links   []*relay.Link
	quality [2]link.Conditions
	cut     bool
	clients []*Client
	packets []relay.Packet
	capture *pcap.Writer
	line    []byte
	failed  error
}

// Client is what is known of one client.
type Client struct {
	Name  string // client-1, client-2, ...
	From  netip.AddrPort
	Up    Count
	Down  Count
	Heard time.Duration // when the last packet came
}

// Count counts what went in one direction.
type Count struct {
	Packets, Bytes, Lost int
	Delay                time.Duration // on average, of those that were sent on
	arrived              int
	delays               time.Duration
}

// Open starts relaying.
func Open(c Config) (*Board, error) {
	b := &Board{config: c, quality: [2]link.Conditions{link.Up: c.Up, link.Down: c.Down}}
	zero := time.Now()
	var err error
	if b.relay, err = relay.Open(relay.Options{Zero: zero, Record: c.Capture != nil}); err != nil {
		return nil, err
	}
	b.at, err = b.relay.Add(relay.Path{Network: c.Network, Listen: c.Listen, To: c.To, Link: b.link})
	if err == nil && c.Capture != nil {
		b.capture, err = pcap.New(c.Capture, zero)
	}
	if err != nil {
		return nil, errors.Join(err, b.relay.Close())
	}
	return b, nil
}

// At is where clients connect to.
func (b *Board) At() netip.AddrPort { return b.at }

// link gives a new client a link as all have it now.
func (b *Board) link(n int) *relay.Link {
	b.mu.Lock()
	defer b.mu.Unlock()
	stream := func(d link.Direction) *link.Line {
		return link.NewLine(link.Course{Conditions: b.quality[d]}, random.Stream(b.config.Seed, fmt.Sprintf("link/client-%d/%s", n+1, d)))
	}
	l := relay.NewLink(stream(link.Up), stream(link.Down))
	l.Cut(b.cut)
	b.links = append(b.links, l)
	return l
}

// Commands tells what Do understands.
const Commands = "KEY VALUE or up KEY VALUE or down KEY VALUE, like loss 5%; link NAME; cut; restore; move; reset"

// Do obeys a command: it changes the link of all clients, cuts and restores it, gives
// clients another address, or breaks off their streams.
func (b *Board) Do(command string) error {
	words := strings.Fields(command)
	// These wait for the relay, which may just be asking for a link.
	switch {
	case len(words) == 1 && words[0] == "move":
		return b.relay.Move(0)
	case len(words) == 1 && words[0] == "reset":
		b.relay.Reset(0)
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	ways := []link.Direction{link.Up, link.Down}
	if len(words) > 0 && (words[0] == "up" || words[0] == "down") {
		if ways = []link.Direction{link.Up}; words[0] == "down" {
			ways = []link.Direction{link.Down}
		}
		words = words[1:]
	}
	switch {
	case len(words) == 2 && words[0] == "link":
		l, known := link.FindReady(words[1])
		if !known {
			return fmt.Errorf("there is no link %q", words[1])
		}
		for _, d := range ways {
			b.set(d, map[link.Direction]link.Conditions{link.Up: l.Up.Conditions, link.Down: l.Down.Conditions}[d])
		}
		return nil
	case len(words) == 2:
		var changed [2]link.Conditions
		for _, d := range ways {
			changed[d] = b.quality[d]
			if err := changed[d].Set(words[0], words[1]); err != nil {
				return err
			}
		}
		for _, d := range ways {
			b.set(d, changed[d])
		}
		return nil
	case len(words) == 1 && (words[0] == "cut" || words[0] == "restore"):
		b.cut = words[0] == "cut"
		for _, l := range b.links {
			l.Cut(b.cut)
		}
		return nil
	}
	return fmt.Errorf("%q is no command; write %s", command, Commands)
}

func (b *Board) set(d link.Direction, q link.Conditions) {
	b.quality[d] = q
	for _, l := range b.links {
		l.Set(d, q)
	}
}

// Link is how the link is now.
func (b *Board) Link() (up, down link.Conditions, cut bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.quality[link.Up], b.quality[link.Down], b.cut
}

// Look takes in what has happened and returns what is known of each client.
func (b *Board) Look() ([]Client, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.packets = b.relay.Take(b.packets[:0])
	for _, p := range b.packets {
		for len(b.clients) <= p.Client {
			b.clients = append(b.clients, &Client{Name: fmt.Sprintf("client-%d", len(b.clients)+1)})
		}
		c := b.clients[p.Client]
		c.From = p.From
		c.Heard = max(c.Heard, p.Sent)
		if p.Direction == link.Up {
			c.Up.add(p.Outcome)
		} else {
			c.Down.add(p.Outcome)
		}
		b.keep(c.Name, p)
	}
	list := make([]Client, len(b.clients))
	for i, c := range b.clients {
		list[i] = *c
	}
	return list, b.failed
}

func (n *Count) add(f link.Outcome) {
	n.Packets++
	n.Bytes += f.Size
	if f.Copies == 0 {
		n.Lost++
		return
	}
	n.arrived++
	n.delays += f.Delay()
	n.Delay = n.delays / time.Duration(n.arrived)
}

// keep records a packet.
func (b *Board) keep(name string, p relay.Packet) {
	note := func(err error) {
		if b.failed == nil && err != nil {
			b.failed = fmt.Errorf("recording packets: %w", err)
		}
	}
	if b.config.Outcomes != nil {
		b.line = run.AppendPacket(b.line[:0], name, p.Packet)
		_, err := b.config.Outcomes.Write(b.line)
		note(err)
	}
	if b.capture != nil {
		note(b.capture.Packet(p, b.at))
	}
}

// Now is how long the board has been open.
func (b *Board) Now() time.Duration { return b.relay.Now() }

// Stats is how the relay itself has done.
func (b *Board) Stats() relay.Stats { return b.relay.Stats() }

// Close ends it. What came until then is recorded.
func (b *Board) Close() error {
	_, failed := b.Look()
	err := errors.Join(failed, b.relay.Close())
	if b.capture != nil {
		err = errors.Join(err, b.capture.Flush())
	}
	return err
}
