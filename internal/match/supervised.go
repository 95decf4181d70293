//go:build linux && amd64

package match

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/match/supervisor"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/metrics"
)

// supervisedStage is a supervisor that owns the time of the programs. Everything happens in
// the goroutine of the match, while the supervisor lets time pass.
type supervisedStage struct {
	ctx        context.Context
	match      *buildMatch
	supervisor *supervisor.Supervisor
	every      time.Duration
	visible    uint64 // a hash of all that was said, and when
	meter      process.Meter
	weighed    time.Time // when the memory of programs was read, by the clock of the machine
	closed     bool
}

// firstDay is the date that programs find at the beginning of every match on a virtual clock.
var firstDay = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

func newSupervisedStage(ctx context.Context, m *buildMatch, every time.Duration) (stage, error) {
	s, err := supervisor.New(ctx, supervisor.Options{Seed: m.plan.Seed, Zero: firstDay, OneThread: m.build.Threads != plan.ManyThreads, DrawnOrder: m.build.Interleave == plan.DrawnOrder,
		UsualFrom: m.options.UsualFrom})
	if err != nil {
		return nil, err
	}
	return &supervisedStage{ctx: ctx, match: m, supervisor: s, every: every}, nil
}

func (s *supervisedStage) zero() time.Time    { return firstDay }
func (s *supervisedStage) now() time.Duration { return s.supervisor.Now() }

func (s *supervisedStage) beat(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return s.supervisor.Run(ctx, (s.now()/s.every+1)*s.every)
}

func (s *supervisedStage) later(d time.Duration, do func()) { s.supervisor.After(d, do) }

func (s *supervisedStage) start(p *participant, spec process.Spec) (program, error) {
	started, err := s.supervisor.Start(spec, func(l process.Line) {
		s.see(p.name, l.Text)
		s.match.handle(event{participant: p, line: l})
	}, func(ended *supervisor.Program) {
		how, _ := ended.Exit()
		s.see(p.name, []byte(how))
		s.match.handle(event{participant: p, ended: ended})
	})
	if err != nil {
		return nil, err
	}
	return started, nil
}

// see takes something that shows into the hash of that.
func (s *supervisedStage) see(who string, what []byte) {
	h := fnv.New64a()
	var b [16]byte
	binary.LittleEndian.PutUint64(b[:], s.visible)
	binary.LittleEndian.PutUint64(b[8:], uint64(s.now()))
	h.Write(b[:])
	io.WriteString(h, who)
	h.Write(what)
	s.visible = h.Sum64()
}

func (s *supervisedStage) end(p program) { p.(*supervisor.Program).Stop() }

// endWithin is how long programs may take by the wall clock to end by themselves when the match is interrupted.
const endWithin = 500 * time.Millisecond

// endAll ends programs in virtual time; those that take none are killed when nothing else is left.
func (s *supervisedStage) endAll(list []program) {
	ctx := context.Background()
	if s.ctx.Err() != nil { // somebody waits for the end
		var done func()
		ctx, done = context.WithTimeout(ctx, endWithin)
		defer done()
	}
	longest := time.Duration(0)
	for _, p := range list {
		p := p.(*supervisor.Program)
		p.Stop()
		longest = max(longest, p.Patience())
	}
	running := func(p program) bool { return p.Running() }
	for until := s.now() + longest + s.every; slices.ContainsFunc(list, running) && s.now() < until; {
		if err := s.supervisor.Run(ctx, s.now()+s.every); err != nil {
			break
		}
	}
}

func (s *supervisedStage) close() error {
	if s.closed {
		return nil
	}
	s.closed = true
	return s.supervisor.Close()
}

func (s *supervisedStage) port(string) (io.Closer, int, error) {
	return nil, int(s.supervisor.Port()), nil
}

func (s *supervisedStage) listen() (net.Listener, error) { return s.supervisor.Listen() }

func (s *supervisedStage) bound(network string, at netip.AddrPort) (bound, known bool) {
	return process.Bound(network, at)
}

func (s *supervisedStage) carry(zero time.Duration, record bool) (carrier, error) {
	stepped, err := relay.NewStepped(relay.SteppedOptions{Zero: zero, Record: s.match.describes(record), Port: s.supervisor.Port})
	if err != nil {
		return nil, err
	}
	s.supervisor.Carry(stepped)
	return &seenCarrier{stepped, s}, nil
}

// seenCarrier takes what it carries into the hash of what shows.
type seenCarrier struct {
	*relay.Stepped
	stage *supervisedStage
}

func (c *seenCarrier) Take(list []relay.Packet) []relay.Packet {
	before := len(list)
	list = c.Stepped.Take(list)
	for i := range list[before:] {
		p := &list[before+i]
		c.stage.see("", fmt.Appendf(nil, "%d %d %d %+v", p.Path, p.Client, p.Direction, p.Outcome))
	}
	return list
}

// readLoads looks only whether a program grows beyond bounds, by the clock of the machine: what
// programs use says nothing of their match here.
func (s *supervisedStage) readLoads() {
	if s.match.build.MemoryMB > 0 && time.Since(s.weighed) >= loadEvery/4 {
		s.weighed = time.Now()
		s.match.tooLarge(s.meter.Read(s.match.running()))
	}
}

// readWaits reads nothing: time stands still while a program has to wait.
func (s *supervisedStage) readWaits() {}

func (s *supervisedStage) timing() *metrics.Timing {
	r := s.supervisor.Report()
	var reads []metrics.Read
	for _, one := range r.Reads {
		reads = append(reads, metrics.Read{At: trace.Seconds(one.At), Program: one.Program, What: one.What})
	}
	last := r.LastDraw
	if last != "" {
		last = fmt.Sprintf("at %s %s", trace.Seconds(r.LastDrawAt-s.match.zero), last)
	}
	return &metrics.Timing{Supervised: &metrics.Supervised{Visible: fmt.Sprintf("%016x", s.visible), Internal: fmt.Sprintf("%016x", r.Internal), Events: r.Events,
		Jumps: r.Jumps, Wrong: r.Wrong, Charged: r.Charged, Spins: r.Spins, Remarks: r.Remarks, Computed: r.Computed, Reads: reads, Draws: r.Draws, LastDraw: last}}
}

// VirtualClock runs a program under a supervisor, to its end.
func VirtualClock(ctx context.Context) Ability {
	a := Ability{Name: virtualClockName, For: virtualClockFor}
	done := make(chan error)
	go func() { done <- supervise(ctx) }()
	err := <-done
	var refused *supervisor.RefusedError
	switch {
	case errors.As(err, &refused):
		if a.What = refused.Why; refused.Err != nil {
			a.What += ": " + refused.Err.Error()
		}
	case err != nil:
		a.What = err.Error()
	default:
		a.Has, a.What = true, "tried: a program ran on it to its end"
	}
	return a
}

func supervise(ctx context.Context) error {
	s, err := supervisor.New(ctx, supervisor.Options{Seed: 1, Zero: firstDay})
	if err != nil {
		return err
	}
	p, err := s.Start(process.Spec{Name: "a shell", Run: []string{"sh", "-c", "sleep 3"}}, func(process.Line) {}, func(*supervisor.Program) {})
	if err == nil {
		err = s.Run(ctx, 5*time.Second)
	}
	if err == nil && (p.Running() || p.Failed()) {
		err = errors.New("a program that was to sleep for 3 s on it did not end well in 5 s")
	}
	return errors.Join(err, s.Close())
}

// ownSpaces are what a match on the virtual clock may have for itself.
func ownSpaces() []Ability {
	network, numbers := Ability{Name: ownNetworkName, For: ownNetworkFor}, Ability{Name: ownNumbersName, For: ownNumbersFor}
	done := make(chan struct{})
	go func() {
		defer close(done)
		s, err := supervisor.New(context.Background(), supervisor.Options{Seed: 1, Zero: firstDay})
		if err != nil {
			return
		}
		network.Has, numbers.Has = s.Alone(), s.Numbers()
		_ = s.Close() // nothing was started
	}()
	<-done
	network.What, numbers.What = "tried: allowed", "tried: allowed"
	if !network.Has {
		network.What = "not allowed to this user; ports are chosen by the seed from 12000 to 31999 instead"
	}
	if !numbers.Has {
		numbers.What = "not allowed to this user; they are the machine's own"
	}
	return []Ability{network, numbers}
}
