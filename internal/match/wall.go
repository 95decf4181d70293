package match

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"zitherwheel/internal/match/far"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/verdict/metrics"
)

// wallStage is this machine with its clock. What processes say is read by goroutines of
// theirs, and comes as events through a channel.
type wallStage struct {
	match  *buildMatch
	began  time.Time
	every  time.Duration
	ticker *time.Ticker
	events chan event
	stalls stalls
	meter  process.Meter
	waits  process.Waits
}

const (
	eventsWaiting = 8192 // may wait; beyond that, programs that say much have to
	logsWaiting   = 512  // beyond so many events, log text is left out
)

func newWallStage(m *buildMatch, every time.Duration) *wallStage {
	return &wallStage{match: m, began: time.Now(), every: every, ticker: time.NewTicker(every), events: make(chan event, eventsWaiting)}
}

func (s *wallStage) zero() time.Time    { return s.began }
func (s *wallStage) now() time.Duration { return time.Since(s.began) }

func (s *wallStage) beat(ctx context.Context) error {
	for {
		select {
		case e := <-s.events:
			s.match.handle(e)
		case <-s.ticker.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (s *wallStage) later(d time.Duration, do func()) { time.AfterFunc(d, do) }

func (s *wallStage) start(p *participant, spec process.Spec) (program, error) {
	if p.machine != nil {
		return s.startThere(p, spec)
	}
	process, err := process.Start(spec, func(l process.Line) {
		// Trace lines are waited for. A flood of log text is neither to slow the
		// program down nor to hold up what others say.
		if !l.Trace && len(s.events) > logsWaiting {
			p.dropped.Add(1)
			return
		}
		s.events <- event{participant: p, line: l}
	})
	if err != nil {
		return nil, err
	}
	go func() {
		<-process.Exited()
		s.events <- event{participant: p, ended: process}
	}()
	return process, nil
}

// startThere starts a program on another machine.
func (s *wallStage) startThere(p *participant, spec process.Spec) (program, error) {
	far, err := p.machine.Start(spec, p.there, func(l process.Line) { s.events <- event{participant: p, line: l} }, func(l process.Load) {
		select {
		case s.events <- event{participant: p, load: &l}:
		default: // there is more urgent news
		}
	})
	if err != nil {
		return nil, err
	}
	go func() {
		<-far.Exited()
		s.events <- event{participant: p, ended: far}
	}()
	return far, nil
}

func (s *wallStage) end(p program) { go stopped(p) }

// stopped asks a program to end, and waits for that.
func stopped(p program) {
	switch p := p.(type) {
	case *process.Process:
		p.Stop()
	case *far.Program:
		p.Stop()
	}
}

func (s *wallStage) endAll(list []program) {
	drained, finished := make(chan struct{}), make(chan struct{})
	go func() { // what programs still say must not hold them up
		defer close(drained)
		for {
			select {
			case e := <-s.events:
				if e.participant != nil && e.ended == nil && !e.line.Trace {
					e.participant.hear(e.line)
				}
			case <-finished:
				return
			}
		}
	}()
	var all sync.WaitGroup
	for _, p := range list {
		all.Go(func() { stopped(p) })
	}
	all.Wait()
	close(finished)
	<-drained
}

func (s *wallStage) close() error {
	s.ticker.Stop()
	s.stalls.end()
	s.match.leaveMachines()
	return nil
}

// port holds a free port, so that no match played beside this one is given the same. It is none of those that systems
// give to sockets that ask for any: one of these could take it between here and the server that is to listen there.
func (s *wallStage) port(network string) (held io.Closer, number int, err error) {
	const first, ports, tries = 20_000, 12_000, 100
	for range tries {
		number = first + rand.IntN(ports)
		if held, err = hold(network, number); err == nil {
			return held, number, nil
		}
	}
	return nil, 0, err
}

func hold(network string, port int) (io.Closer, error) {
	if network == "udp" {
		return net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
	}
	return net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
}

func (s *wallStage) listen() (net.Listener, error) { return net.Listen("tcp", "127.0.0.1:0") }

func (s *wallStage) bound(network string, at netip.AddrPort) (bound, known bool) {
	return process.Bound(network, at)
}

// carry begins to carry packets, and to look how late the machine is meanwhile.
func (s *wallStage) carry(zero time.Duration, record bool) (carrier, error) {
	s.stalls.begin(s.began.Add(zero))
	here, err := relay.Open(relay.Options{Zero: s.began.Add(zero), Record: s.match.describes(record)})
	if err != nil || len(s.match.machines) == 0 {
		return here, err
	}
	c := &carriers{Relay: here}
	for _, m := range s.match.machines {
		if err := m.Carry(s.began.Add(zero)); err != nil {
			return nil, errors.Join(err, here.Close())
		}
	}
	return c, nil
}

// readLoads reads what processes use, beside the match: it takes a while.
func (s *wallStage) readLoads() {
	pids := s.match.running()
	if len(pids) == 0 {
		return
	}
	go func() {
		loads := s.meter.Read(pids)
		select {
		case s.events <- event{loads: loads}:
		default: // there is more urgent news
		}
	}()
}

// readWaits reads how long programs had to wait for a processor since it did so last, beside the match.
func (s *wallStage) readWaits() {
	if s.stalls.quit == nil { // the match has not begun
		return
	}
	pids, names := s.match.running(), map[int]string{}
	for _, p := range s.match.participants {
		if p.running() {
			names[p.process.PID()] = p.name
		}
	}
	go func() {
		waits, since := s.waits.Read(pids)
		for _, pid := range pids {
			s.stalls.stood(names[pid], time.Now(), since, waits[pid])
		}
	}()
}

func (s *wallStage) timing() *metrics.Timing {
	s.stalls.mu.Lock()
	defer s.stalls.mu.Unlock()
	return &metrics.Timing{Machine: lateness(&s.stalls.timing), Stalls: s.stalls.count, Stalled: s.stalls.stalled.Seconds(), Moments: slices.Clone(s.stalls.moments)}
}
