//go:build linux && amd64

package supervisor

import (
	"fmt"
	"os"
	"slices"
	"time"
)

// Programs that do not come to rest: threads that wait for each other by running, threads that only compute, and what
// hangs in the kernel where no time helps.
//
// What is done about them follows from the processor time that their own threads have used since everything waited
// last, never from the wall clock: a thread that other programs keep from the processors is in state R as well, and
// must be waited for.

const (
	spinningFor = 2 * time.Second      // a thread that has run so long may wait for one that was woken
	spinsAgain  = 5 * time.Millisecond // or only so long, of a process that is known for it
	computesFor = 8 * time.Second      // computing longer without a wait is charged
	stepCharged = 2 * time.Millisecond // as so much time, and from then on each time that it has used so much
)

// running is a thread that does not wait, and what it has used since everything waited last.
type running struct {
	*thread
	used time.Duration
}

// restless are the threads that do not wait, if all of them run and none hangs in the kernel or is about to wait;
// otherwise nothing can be said of them yet, and restless reports false.
func (s *Supervisor) restless() (list []running, ok bool) {
	if len(s.executing)+len(s.splitting) > 0 {
		return nil, false
	}
	for _, p := range s.processes {
		if p.gone || !p.active {
			continue
		}
		if !p.started || p.exiting {
			return nil, false
		}
		for _, t := range p.threads {
			if t.gone || t.stopped() || t.hold != nil && t.hold.asleep {
				continue
			}
			switch s.doing(t) {
			case "":
			case runs:
				list = append(list, running{t, s.usedSinceRest(t)})
			default:
				return nil, false
			}
		}
	}
	return list, len(list) > 0
}

// usedSinceRest is what a thread has used of a processor since it was first found running after everything waited.
func (s *Supervisor) usedSinceRest(t *thread) time.Duration {
	now := usedByThread(t.process.pid, t.tid)
	if t.rest != s.rests+1 {
		t.rest, t.usedAtRest = s.rests+1, now
	}
	return time.Duration(now - t.usedAtRest)
}

const runs = "runs"

// doing is what a thread does that does not wait, or "".
func (s *Supervisor) doing(t *thread) string {
	stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", t.process.pid, t.tid)) // it may have ended
	switch stateOf(stat) {
	case 'R':
		return runs
	case 'D':
		return "waits for a disk or the like"
	case 'T':
		return ""
	case 't':
		return "is traced"
	case 'S':
		where, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/wchan", t.process.pid, t.tid))
		if string(where) == "0" {
			return "is woken"
		}
		return ""
	}
	return "ends"
}

// besideRunning does what helps against threads that do not come to rest. It reports whether time is to go on
// although they run.
func (s *Supervisor) besideRunning() (charged bool) {
	list, ok := s.restless()
	if !ok {
		return false
	}
	least := list[0].used
	for _, t := range list {
		least = min(least, t.used)
	}
	if s.letSpinnersMeet(list, least) {
		return false
	}
	for _, t := range list {
		if least < s.computes && (t.process.charged == 0 || least < stepCharged) {
			return false
		}
	}
	for _, t := range list {
		if name := t.process.name; !slices.Contains(s.report.Computed, name) {
			s.report.Computed = append(s.report.Computed, name)
		}
		t.process.charged++
		t.rest = 0 // the next charge is for what it uses from now on
	}
	s.report.Charged++
	return true
}

// letSpinnersMeet lets those go that were woken, beside a thread of their process that runs and may wait for them by
// running. It reports whether there were any.
func (s *Supervisor) letSpinnersMeet(list []running, least time.Duration) (any bool) {
	for _, r := range list {
		p := r.process
		if p.held == 0 || least < spinsAgain || least < s.spins && !p.spins {
			continue
		}
		for _, t := range p.threads {
			if t.hold != nil && t.hold.woken {
				any, p.spins = true, true
				s.release(t.hold, 'f', t.hold.wokenValue, 0)
			}
		}
	}
	return any
}

// goOn lets a little time pass beside a program that computes, and happen what happens in it.
func (s *Supervisor) goOn(t time.Duration) (bool, error) {
	until := min(t, s.now+stepCharged)
	s.beside = true
	defer func() { s.beside = false }()
	const most = 10000 // things in one step; beyond that some of them make each other
	for range most {
		s.drain(0)
		if done, err := s.step(until); err != nil || done {
			break
		}
	}
	return s.now >= t, s.failure
}

// watchdog ends a match in which nothing comes to rest any more.
type watchdog struct {
	used    int64         // by all processes, when it was looked at last
	alive   time.Duration // by the wall clock, when something was last seen to use a processor, or to wait for one
	usedAll time.Duration // since everything waited last
}

// look reports whether what does not come to rest has used more of the processors than the match may wait for, or has
// used nothing for so long although it could have.
func (w *watchdog) look(s *Supervisor) bool {
	now, starved := int64(0), false
	for _, p := range s.processes {
		if p.gone {
			continue
		}
		now += max(0, used(p.pid))
		for _, t := range p.threads {
			starved = starved || p.active && !t.gone && t.hold == nil && s.doing(t) == runs
		}
	}
	if now > w.used && w.used > 0 {
		w.usedAll += time.Duration(now - w.used)
	}
	if wall := wallNow(); now != w.used || starved || w.alive == 0 {
		w.used, w.alive = now, wall
	}
	return w.usedAll > s.options.Patient || wallNow()-w.alive > s.options.Patient
}

// neverQuiet says who does not wait, and what all of its threads do.
func (s *Supervisor) neverQuiet(after time.Duration) error {
	e := &NeverQuietError{Program: "a program", For: after.Round(time.Second)}
	for _, p := range s.processes {
		if p.gone || !p.active {
			continue
		}
		for _, t := range p.threads {
			if t.gone || t.stopped() || t.hold != nil {
				continue
			}
			what := s.doing(t)
			if what == "" {
				continue
			}
			e.Program = p.name
			e.Threads = append(e.Threads, fmt.Sprintf("its thread %d %s", t.number+1, what))
		}
	}
	if len(e.Threads) > 6 {
		e.Threads = append(e.Threads[:6], fmt.Sprintf("and %d more", len(e.Threads)-6))
	}
	return e
}
