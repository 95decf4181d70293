//go:build linux && amd64

// Package supervisor runs the programs of a game build as they are, unmodified, on a
// virtual clock: it owns their time. It takes Linux on amd64.
//
// Time stands still while any thread of any program runs. When all of them wait, exactly
// one thing happens: a thread is let go whose descriptor has become ready, or whose futex
// was woken; or what the programs sent and said is taken in; or time jumps to whatever
// is due first, and that alone happens. So the order of everything follows from what the
// programs do, not from how fast the machine does it, and as long as the programs decide
// nothing by chance of their own the same match goes the same way.
//
//   - launch.go starts a program under a filter of system calls (filter.go), so that the
//     kernel asks here before one waits for time, reads a clock or draws chance;
//   - patch.go replaces the functions of the vDSO, by which clocks are read without a call;
//   - calls.go answers what is asked; waits.go, futex.go, timers.go and sockets.go hold the
//     different kinds of calls;
//   - quiet.go proves that everything waits; restless.go deals with programs that do not;
//   - this file decides what happens next.
//
// What computes takes no time: a run says nothing of how long servers take for a tick.
// docs/virtual-builds.md says what else is and is not virtual.
//
// The package knows nothing of matches or links: what is on the wire it is told by [Wires].
package supervisor

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"zitherwheel/internal/schedule"
)

// Wires carry what programs send each other. They are asked only when everything waits.
type Wires interface {
	// Collect takes in what has been sent by now, and reports whether anything was, or whether
	// what could not be handed on before now was.
	Collect(now time.Duration) bool
	// Next is when something on the way is due.
	Next() (due time.Duration, any bool)
	// Deliver hands on what is due first. It returns a number for it.
	Deliver() uint64
}

// Supervisor owns the time of the programs that it starts. It belongs to the goroutine that
// made it, which it binds to its thread; no method is safe for another one.
type Supervisor struct {
	ctx       context.Context
	options   Options
	now       time.Duration
	wires     Wires
	acts      schedule.Queue[func()]
	actsCount uint64

	listeners []int // of the filters
	asked     int   // an epoll set of them
	processes []*proc
	programs  []*Program
	threads   map[int]*thread // by number
	executing map[int]bool    // threads that are about to become another program
	splitting map[int]bool    // and those about to make another thread or process
	traced    map[int]bool
	hasty     map[int]bool // threads that are to begin as soon as they are stopped at their beginning
	ready     int          // an epoll set of what held threads wait for
	said      int          // an epoll set of what programs say
	randoms   []*randomFile
	orders    chance // of threads
	pages     pages
	vdso      map[string]uint64

	numbers   *numberer       // of processes; nil is the machine's own
	mostPids  int             // of the machine
	alone     bool            // in a network of its own
	ours      map[uint16]bool // ports that this match has, where it is not alone
	files     map[string]bool // and its Unix sockets
	place     int             // the first of its ports otherwise
	placeHeld int             // a socket that keeps others from them
	placeNext int

	spins, computes time.Duration // spinningFor and computesFor, but in tests
	rests           int           // times that everything waited
	beside          bool          // time goes on beside a program that computes
	report          Report
	failure         error
}

// New makes a supervisor. The goroutine stays on its thread, and that thread ends with it. When ctx is done, nothing
// waits for a program any more.
func New(ctx context.Context, o Options) (*Supervisor, error) {
	runtime.LockOSThread()
	takeTurns()
	if o.OneThread {
		stayOn(os.Getpid() + int(matches.Add(1))) // several of these programs are not all to stay on the same
	}
	s := &Supervisor{
		ctx: ctx, options: o, placeHeld: -1, mostPids: mostPids(),
		threads: map[int]*thread{}, executing: map[int]bool{}, splitting: map[int]bool{}, traced: map[int]bool{}, hasty: map[int]bool{},
		ours: map[uint16]bool{}, files: map[string]bool{},
		spins: spinningFor, computes: computesFor, orders: chance{o.Seed ^ orderStream},
	}
	if s.options.Patient == 0 {
		s.options.Patient = 30 * time.Second
	}
	var err error
	if s.ready, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("epoll: %w", err)
	}
	if s.asked, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("epoll: %w", err)
	}
	if s.said, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("epoll: %w", err)
	}
	if err := s.pages.make(); err != nil {
		return nil, err
	}
	if err := s.takePlace(); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.takeNumbers()
	return s, nil
}

// Now is the virtual time that has passed since the beginning.
func (s *Supervisor) Now() time.Duration { return s.now }

// Carry sets what carries packets.
func (s *Supervisor) Carry(w Wires) { s.wires = w }

// At has something done at a time, in the order in which it was asked for.
func (s *Supervisor) At(t time.Duration, do func()) {
	s.actsCount++
	s.acts.Push(max(t, s.now), s.actsCount, do)
}

// After has something done after some time.
func (s *Supervisor) After(d time.Duration, do func()) { s.At(s.now+d, do) }

// Report is how it has gone so far.
func (s *Supervisor) Report() Report {
	r := s.report
	r.Remarks, r.Reads = slices.Clone(r.Remarks), slices.Clone(r.Reads)
	return r
}

// remark keeps, once, what a program does that is not on the virtual clock.
func (s *Supervisor) remark(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(s.report.Remarks, text) {
		s.report.Remarks = append(s.report.Remarks, text)
	}
}

// happened takes something into the internal hash.
func (s *Supervisor) happened(kind byte, t *thread, what uint64) {
	s.report.Events++
	h := fnv.New64a()
	var b [41]byte
	binary.LittleEndian.PutUint64(b[0:], s.report.Internal)
	binary.LittleEndian.PutUint64(b[8:], uint64(s.now))
	binary.LittleEndian.PutUint64(b[16:], what)
	if t != nil {
		binary.LittleEndian.PutUint64(b[24:], uint64(t.process.number))
		binary.LittleEndian.PutUint64(b[32:], uint64(t.number))
	}
	b[40] = kind
	h.Write(b[:])
	s.report.Internal = h.Sum64()
}

// Run lets time pass until it is t, and everything happen that happens until then.
func (s *Supervisor) Run(ctx context.Context, t time.Duration) error {
	for {
		quiet, err := s.settle(ctx)
		if err != nil {
			return err
		}
		next := s.step
		if !quiet {
			next = s.goOn
		}
		if done, err := next(t); err != nil || done {
			return err
		}
	}
}

// settle waits until everything waits, or until so long that time is to go on nevertheless:
// then it reports false.
func (s *Supervisor) settle(ctx context.Context) (quiet bool, err error) {
	var dog watchdog
	for round := 0; ; round++ {
		if len(s.executing)+len(s.splitting) > 0 || round%16 == 15 {
			s.reap()
		}
		s.drain(0)
		if s.failure != nil {
			return false, s.failure
		}
		if s.quiet() {
			s.reap()
			s.rests++
			return true, nil
		}
		if round < 2 {
			unix.RawSyscall(unix.SYS_SCHED_YIELD, 0, 0, 0)
			continue
		}
		s.drain(20 * time.Microsecond << min(round/4, 6))
		if round%8 != 7 && s.report.Charged == 0 { // one that computes is not waited for longer than need be
			continue
		}
		if err := ctx.Err(); err != nil {
			return false, err
		}
		if s.besideRunning() {
			return false, nil
		}
		if dog.look(s) {
			return false, s.neverQuiet(max(dog.usedAll, s.options.Patient))
		}
	}
}

// step lets exactly one thing happen; everything waits. It reports whether nothing more
// happens until t, and then it is t.
func (s *Supervisor) step(t time.Duration) (bool, error) {
	if s.refill() {
		s.stir()
		return false, nil
	}
	if s.letGo(false) {
		return false, nil
	}
	if s.listen() {
		return false, nil
	}
	if s.wires != nil && s.wires.Collect(s.now) {
		s.stir()
		return false, nil
	}
	if h := s.yielded(); h != nil {
		s.release(h, 'y', 0, 0)
		return false, nil
	}
	if s.letGo(true) {
		return false, nil
	}
	return s.advance(t)
}

// yielded is the hold of the thread that has let others run for longest, or nil.
func (s *Supervisor) yielded() (first *hold) {
	for _, p := range s.processes {
		if p.gone || p.held == 0 {
			continue
		}
		for _, t := range p.threads {
			if h := t.hold; h != nil && h.yields && (first == nil || h.order < first.order) {
				first = h
			}
		}
	}
	return first
}

// stir has every process looked at again: something was written to its sockets.
func (s *Supervisor) stir() {
	for _, p := range s.processes {
		p.active = p.active || !p.gone
	}
}

// letGo lets one thread go: one that was woken, or whose descriptors are ready. Those that only look for that
// are let go when no other can.
func (s *Supervisor) letGo(looking bool) bool {
	var events [64]unix.EpollEvent
	for {
		n := epollNow(s.ready, events[:])
		for i := range max(n, 0) {
			if t := s.threads[int(events[i].Fd)]; t != nil && t.hold != nil {
				t.hold.ready = true
			}
		}
		if n < len(events) {
			break
		}
	}
	var all []ready
	for _, p := range s.processes {
		if p.gone || p.held == 0 {
			continue
		}
		for _, t := range p.threads {
			letGo := s.ableTo(t, looking)
			if letGo == nil {
				continue
			}
			if !s.options.DrawnOrder {
				letGo()
				return true
			}
			all = append(all, ready{t, letGo})
		}
	}
	return s.choose(all)
}

// ableTo is how a thread goes on that can, or nil.
func (s *Supervisor) ableTo(t *thread, looking bool) func() {
	switch h := t.hold; {
	case t.unborn:
		return func() { s.bear(t) }
	case t.caught != 0:
		return func() { s.deliver(t) }
	case h == nil:
	case h.again != nil:
		return func() { s.goOnAfter(h) }
	case h.woken:
		return func() { s.release(h, 'w', h.wokenValue, 0) }
	case h.looks != looking:
	case h.ready && h.nowReady():
		return func() {
			if looking {
				t.found++
			}
			s.releaseCall(h)
		}
	case h.ready:
		s.watchAgain(h)
	}
	return nil
}

// due is what happens next as time passes.
type due struct {
	at     time.Duration
	hold   *hold
	timer  *timer
	thread *thread // whose waiting in the kernel has a limit
	wires  bool
	act    bool
}

// next finds what is due first. Of what is due at once acts come first, then packets, then
// threads and timers in the order in which they asked.
func (s *Supervisor) next() due {
	first := due{at: never}
	var order uint64
	for _, p := range s.processes {
		if p.gone {
			continue
		}
		for _, t := range p.threads {
			switch {
			case t.hold != nil:
				if d := ends(t.hold.deadline); d < first.at || d == first.at && d != never && t.hold.order < order {
					first, order = due{at: d, hold: t.hold}, t.hold.order
				}
			case t.limit != nil && !t.gone && ends(t.limit.until) < first.at:
				first, order = due{at: ends(t.limit.until), thread: t}, 0
			}
		}
		for _, timer := range p.timers {
			if d := ends(timer.next); d < first.at || d == first.at && d != never && timer.order < order {
				first, order = due{at: d, timer: timer}, timer.order
			}
		}
	}
	if s.wires != nil {
		if at, any := s.wires.Next(); any && at <= first.at {
			first = due{at: at, wires: true}
		}
	}
	if s.acts.Len() > 0 {
		if at := s.acts.Next(); at <= first.at {
			first = due{at: at, act: true}
		}
	}
	return first
}

// advance lets time jump to what is due first, and that happen, if it is no later than t.
// Otherwise it is t, and advance reports true.
func (s *Supervisor) advance(t time.Duration) (bool, error) {
	first := s.next()
	at := max(min(first.at, t), s.now)
	if at > s.now {
		if !s.beside && !s.unmoved() {
			return false, nil
		}
		s.setTime(at)
		s.report.Jumps++
		if !s.beside && !s.unmoved() { // too late: time has moved under a program that ran
			s.report.Wrong++
			s.happened('!', nil, 0)
		}
	}
	if first.at > t {
		return true, nil
	}
	switch {
	case first.act:
		_, do := s.acts.Pop()
		s.happened('a', nil, 0)
		do()
	case first.wires:
		s.happened('p', nil, s.wires.Deliver())
		s.stir()
	case first.timer != nil:
		s.fire(first.timer)
	case first.thread != nil:
		s.giveUp(first.thread)
	default:
		h := first.hold
		if h.expire != nil {
			h.expire()
		}
		s.release(h, 'd', h.value, h.errno)
	}
	return false, nil
}

// setTime sets the clocks of all programs.
func (s *Supervisor) setTime(now time.Duration) {
	s.now = now
	for _, p := range s.processes {
		if !p.gone {
			page := s.pages.of(p.page)
			page.mono = int64(monotonic(now))
			page.budget = clockBudget
		}
	}
}

// monoZero is what monotonic clocks show at the beginning: some time after a machine came up.
const monoZero = 1000 * time.Second

func monotonic(now time.Duration) time.Duration { return monoZero + now }

// wall is what is added to monotonic clocks for those that tell the date.
func (s *Supervisor) wall() time.Duration {
	return time.Duration(s.options.Zero.UnixNano()) - monoZero
}

// Close kills what still runs and gives everything back.
func (s *Supervisor) Close() error {
	for _, p := range s.processes {
		if !p.gone {
			_ = unix.Kill(p.pid, unix.SIGKILL) // it may have ended
		}
	}
	for began := wallNow(); wallNow()-began < 5*time.Second; {
		s.reap()
		left := false
		for _, p := range s.processes {
			if !p.gone {
				list := []unix.PollFd{{Fd: int32(p.pidfd), Events: unix.POLLIN}}
				if poll(list, time.Millisecond) > 0 {
					s.reap()
					s.end(p, 0)
				} else {
					left = true
				}
			}
		}
		if !left {
			break
		}
	}
	if s.numbers != nil {
		s.numbers.close(s.reap)
	}
	for _, p := range s.programs {
		p.close()
	}
	for _, l := range s.listeners {
		closeFd(l)
	}
	for _, f := range s.randoms {
		closeFd(f.fd)
	}
	if s.placeHeld >= 0 {
		closeFd(s.placeHeld)
	}
	closeFd(s.asked)
	closeFd(s.ready)
	closeFd(s.said)
	return s.pages.close()
}
