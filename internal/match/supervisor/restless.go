//go:build linux && amd64

package supervisor

import (
	"fmt"
	"os"
	"time"
)

// Programs that do not come to rest: threads that wait for each other by running, threads that
// only compute, and what stands in a way that no time helps.

const (
	spinningFor = 500 * time.Millisecond // a thread that runs so long may wait for one that was woken
	spinsAgain  = 5 * time.Millisecond   // or only so long, of a process that is known for it
	computesFor = 2 * time.Second        // computing longer without a wait is charged
	stepCharged = 2 * time.Millisecond   // as so much time, and from then on at once
)

// letSpinnersMeet lets those go that were woken, beside a thread of their process that runs and
// may wait for them by running.
func (s *Supervisor) letSpinnersMeet(took time.Duration) {
	for _, p := range s.processes {
		if p.gone || p.held == 0 || took < spinsAgain || took < spinningFor && !p.spins {
			continue
		}
		for _, t := range p.threads {
			if t.hold != nil && t.hold.woken {
				p.spins = true
				s.release(t.hold, 'f', t.hold.wokenValue, 0)
			}
		}
	}
}

// charge decides whether a program only computes, so that time has to go on for the others.
func (s *Supervisor) charge(took time.Duration) bool {
	if took < stepCharged || len(s.executing) > 0 {
		return false
	}
	var who *proc
	for _, p := range s.processes {
		if !p.gone && p.active && p.started && (took >= computesFor || p.charged > 0) && s.computes(p) {
			who = p
		}
	}
	if who == nil {
		return false
	}
	who.charged++
	s.report.Charged++
	s.remark("%s computes without waiting: time goes on nevertheless", who.name)
	return true
}

// computes reports whether a thread of a process runs.
func (s *Supervisor) computes(p *proc) bool {
	for _, t := range p.threads {
		if t.gone || t.hold != nil {
			continue
		}
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", p.pid, t.tid))
		if err == nil && stateOf(stat) == 'R' {
			return true
		}
	}
	return false
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

// neverQuiet says who does not wait, and what all of its threads do.
func (s *Supervisor) neverQuiet(after time.Duration) error {
	e := &NeverQuietError{Program: "a program", For: after.Round(time.Second)}
	for _, p := range s.processes {
		if p.gone || !p.active {
			continue
		}
		for _, t := range p.threads {
			if t.gone || t.hold != nil {
				continue
			}
			stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", p.pid, t.tid)) // it may have ended
			where, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/wchan", p.pid, t.tid))
			state := stateOf(stat)
			if state == 'S' && string(where) != "0" {
				continue
			}
			e.Program = p.name
			what := map[byte]string{'R': "runs", 'D': "waits for a disk or the like", 'T': "is stopped", 't': "is traced", 'S': "is woken"}[state]
			if what == "" {
				what = "ends"
			}
			e.Threads = append(e.Threads, fmt.Sprintf("its thread %d %s", t.number+1, what))
		}
	}
	if len(e.Threads) > 6 {
		e.Threads = append(e.Threads[:6], fmt.Sprintf("and %d more", len(e.Threads)-6))
	}
	return e
}
