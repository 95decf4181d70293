package far

import (
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"sync"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/random"
)

// Host serves one match: it starts the programs that it is told to, in Folder, and ends them all when the connection does.
type Host struct {
	Folder string           // of the build
	Guard  *process.Guard   // or nil
	Clock  func() time.Time // this machine's; nil is time.Now. A test may have one that is wrong

	lock     sync.Mutex
	out      *gob.Encoder
	relay    *relay.Relay
	links    map[string]*relay.Link
	programs map[int]*process.Process
	group    sync.WaitGroup
}

// Serve does what it is told over a connection until that ends. It closes the connection.
func (h *Host) Serve(ctx context.Context, conn io.ReadWriteCloser) error {
	if h.Clock == nil {
		h.Clock = time.Now
	}
	h.out, h.links, h.programs = gob.NewEncoder(conn), map[string]*relay.Link{}, map[int]*process.Process{}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	packets, endPackets := context.WithCancel(ctx)
	h.group.Add(1)
	go func() { defer h.group.Done(); h.tellPackets(packets) }()
	err := h.obey(conn)
	endPackets()
	conn.Close()
	for _, p := range h.programs {
		p.Stop()
	}
	h.group.Wait()
	if h.relay != nil {
		err = errors.Join(err, h.relay.Close())
	}
	return err
}

func (h *Host) obey(conn io.Reader) error {
	in := gob.NewDecoder(conn)
	for {
		var o order
		if err := in.Decode(&o); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrClosedPipe) {
				return nil
			}
			return err
		}
		var err error
		switch {
		case o.Ask > 0:
			err = h.tell(news{Answer: &answer{o.Ask, h.Clock().UnixNano()}})
		case o.Zero != 0:
			// The relay's clock is this machine's own, whatever Clock says.
			zero := time.Now().Add(time.Unix(0, o.Zero).Sub(h.Clock()))
			h.relay, err = relay.Open(relay.Options{Zero: zero})
		case o.Path != nil:
			err = h.tell(news{Path: h.path(o.Path)})
		case o.Start != nil:
			err = h.tell(news{Started: h.start(o.Start)})
		case o.Say != nil:
			if p := h.programs[o.Say.Program]; p != nil {
				p.Say(o.Say.Line)
			}
		case o.Stop > 0:
			if p := h.programs[o.Stop]; p != nil {
				go p.Stop()
			}
		case o.Move > 0:
			err = h.relay.Move(o.Move - 1)
		case o.Reset > 0:
			h.relay.Reset(o.Reset - 1)
		case o.End:
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (h *Host) tell(n news) error {
	h.lock.Lock()
	defer h.lock.Unlock()
	return h.out.Encode(n)
}

// path makes a way to the server.
func (h *Host) path(p *Path) *pathNews {
	to, err := netip.ParseAddrPort(p.To)
	if err != nil || h.relay == nil {
		return &pathNews{Error: fmt.Sprintf("%q is no address that this machine can reach; build: address: is to be one, like 10.7.0.1", p.To)}
	}
	listen := netip.MustParseAddrPort("127.0.0.1:0")
	if to.Addr().Is6() && !to.Addr().Is4In6() {
		listen = netip.MustParseAddrPort("[::1]:0")
	}
	lines := h.links[p.Link]
	if lines == nil {
		line := func(c link.Course, d link.Direction) *link.Line {
			return link.NewLine(c, random.Stream(p.Seed, "link/"+p.Link+"/"+d.String()))
		}
		lines = relay.NewLink(line(p.Up, link.Up), line(p.Down, link.Down))
		h.links[p.Link] = lines
	}
	at, err := h.relay.Add(relay.Path{Network: p.Network, Listen: listen, To: to, Link: func(int) *relay.Link { return lines }, Expire: time.Hour})
	if err != nil {
		return &pathNews{Error: err.Error()}
	}
	return &pathNews{At: at.String()}
}

// start starts a program, and tells what it says, and that it has ended.
func (h *Host) start(o *startOrder) *startedNews {
	spec := process.Spec{Name: o.Name, Run: o.Run, Folder: h.Folder, Env: o.Env, Trace: process.Trace{None: o.Untraced}, DriveInput: o.DriveInput, Signal: o.Signal, StopWithin: o.StopWithin, Guard: h.Guard}
	p, err := process.Start(spec, func(l process.Line) {
		l.At = h.Clock().Add(time.Until(l.At))      // as it was then
		h.tell(news{Line: &lineNews{o.Program, l}}) // if it cannot be told, the connection is over
	})
	if err != nil {
		return &startedNews{o.Program, err.Error()}
	}
	h.programs[o.Program] = p
	h.group.Add(1)
	go func() {
		defer h.group.Done()
		<-p.Exited()
		how, asked := p.Exit()
		h.tell(news{Ended: &endedNews{o.Program, how, asked, p.Failed()}})
	}()
	return &startedNews{Program: o.Program}
}

// tellPackets tells what became of packets.
func (h *Host) tellPackets(ctx context.Context) {
	told := Stats{}
	for every := time.NewTicker(tellPackets); ; {
		select {
		case <-ctx.Done():
			every.Stop()
			return
		case <-every.C:
			if h.relay == nil {
				continue
			}
			if list := h.relay.Take(nil); len(list) > 0 {
				h.tell(news{Packets: list})
			}
			s := h.relay.Stats()
			if now := (Stats{s.Refused, s.Unsent, s.Full, s.Untold}); now != told {
				told = now
				h.tell(news{Stats: &now})
			}
		}
	}
}
