package far

import (
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
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
	Seat   *process.Seat    // or nil
	Guard  *process.Guard   // or nil
	Clock  func() time.Time // this machine's; nil is time.Now. A test may have one that is wrong

	// Limits reports what is too much of what its programs use, as an error: then the match ends here. It may be nil.
	Limits func(used []process.Load) error

	lock     sync.Mutex
	out      *gob.Encoder
	relay    *relay.Relay
	links    map[string]*relay.Link
	programs map[int]*process.Process
	waiting  map[string]net.Listener // for programs that are to connect for their trace
	meter    process.Meter
	told     Stats
	beyond   error // what was too much
	end      func()
	group    sync.WaitGroup
}

// Serve does what it is told over a connection until that ends. It closes the connection.
func (h *Host) Serve(ctx context.Context, conn io.ReadWriteCloser) error {
	if h.Clock == nil {
		h.Clock = time.Now
	}
	h.out, h.links, h.programs, h.waiting = gob.NewEncoder(conn), map[string]*relay.Link{}, map[int]*process.Process{}, map[string]net.Listener{}
	h.end = sync.OnceFunc(func() { conn.Close() })
	stop := context.AfterFunc(ctx, h.end)
	defer stop()
	telling, endTelling := context.WithCancel(ctx)
	h.group.Go(func() { every(telling, tellPackets, h.tellPackets) })
	h.group.Go(func() { every(telling, tellLoads, h.tellLoads) })
	err := h.obey(conn)
	endTelling()
	h.end()
	for _, l := range h.waiting {
		l.Close()
	}
	for _, p := range h.programs {
		p.Stop()
	}
	h.group.Wait()
	if h.relay != nil {
		err = errors.Join(err, h.relay.Close())
	}
	if h.beyond != nil { // that the connection was closed follows from it
		return h.beyond
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
			var r *relay.Relay
			r, err = relay.Open(relay.Options{Zero: zero})
			h.lock.Lock()
			h.relay = r
			h.lock.Unlock()
		case o.Path != nil:
			err = h.tell(news{Path: h.path(o.Path)})
		case o.Trace != nil:
			err = h.tell(news{Path: h.place(o.Trace)})
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
	spec := process.Spec{Name: o.Name, Run: o.Run, Folder: h.Folder, Env: o.Env, DriveInput: o.DriveInput, DriveSocket: o.DriveSocket, Signal: o.Signal, StopWithin: o.StopWithin, Guard: h.Guard, Seat: h.Seat, Home: fmt.Sprint(o.Program)}
	switch {
	case o.Trace.Socket:
		spec.Trace.Socket = h.waiting[o.Trace.At]
		delete(h.waiting, o.Trace.At) // it is closed with the program
	case o.Trace.File != "":
		spec.Trace.File = filepath.Join(h.Folder, o.Trace.File)
	default:
		spec.Trace.None = o.Trace.None
	}
	p, err := process.Start(spec, func(l process.Line) {
		l.At = h.Clock().Add(time.Until(l.At))      // as it was then
		h.tell(news{Line: &lineNews{o.Program, l}}) // if it cannot be told, the connection is over
	})
	if err != nil {
		if spec.Trace.Socket != nil {
			spec.Trace.Socket.Close()
		}
		return &startedNews{o.Program, err.Error()}
	}
	h.lock.Lock()
	h.programs[o.Program] = p
	h.lock.Unlock()
	h.group.Go(func() {
		<-p.Exited()
		how, asked := p.Exit()
		h.tell(news{Ended: &endedNews{o.Program, how, asked, p.Failed()}})
	})
	return &startedNews{Program: o.Program}
}

// place is where a program is to tell its trace lines.
func (h *Host) place(t *Trace) *pathNews {
	if t.Socket {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return &pathNews{Error: err.Error()}
		}
		h.waiting[l.Addr().String()] = l
		return &pathNews{At: l.Addr().String()}
	}
	if !filepath.IsLocal(t.File) {
		return &pathNews{Error: fmt.Sprintf("the trace file %s is not below the build's folder", t.File)}
	}
	path := filepath.Join(h.Folder, t.File)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return &pathNews{Error: err.Error()}
	}
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) { // what an earlier match left there is not this one's
		return &pathNews{Error: err.Error()}
	}
	return &pathNews{At: path}
}

// every calls f again and again until ctx is done.
func every(ctx context.Context, d time.Duration, f func()) {
	ticker := time.NewTicker(d)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			f()
		}
	}
}

// tellPackets tells what became of packets.
func (h *Host) tellPackets() {
	h.lock.Lock()
	r := h.relay
	h.lock.Unlock()
	if r == nil {
		return
	}
	if list := r.Take(nil); len(list) > 0 {
		h.tell(news{Packets: list})
	}
	s := r.Stats()
	if now := (Stats{s.Refused, s.Unsent, s.Full, s.Untold}); now != h.told {
		h.told = now
		h.tell(news{Stats: &now})
	}
}

// tellLoads tells what programs use of the machine.
func (h *Host) tellLoads() {
	h.lock.Lock()
	of := map[int]int{}
	var pids []int
	for number, p := range h.programs {
		if p.Running() {
			of[p.PID()] = number
			pids = append(pids, p.PID())
		}
	}
	h.lock.Unlock()
	if len(pids) == 0 {
		return
	}
	loads := map[int]process.Load{}
	var used []process.Load
	for pid, load := range h.meter.Read(pids) {
		loads[of[pid]] = load
		used = append(used, load)
	}
	h.tell(news{Loads: loads})
	if h.Limits == nil {
		return
	}
	if h.beyond = h.Limits(used); h.beyond == nil {
		return
	}
	for number := range loads { // who asked finds it in the log
		h.tell(news{Line: &lineNews{number, process.Line{Text: []byte("zwheel: ended: " + h.beyond.Error()), At: h.Clock(), Source: process.Errors}}})
	}
	h.end()
}
