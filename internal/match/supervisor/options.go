package supervisor

import (
	"fmt"
	"strings"
	"time"
)

// Options of a supervisor. Seed and Zero matter; the zero value of the others is good.
type Options struct {
	Seed uint64 // what the programs draw from the system follows from it
	// OneThread lets one thread of a process run at a time, handed on where it waits: what threads that
	// run side by side would decide by chance is the same every time then.
	OneThread bool
	// DrawnOrder draws from the seed which of several threads goes on, also at calls that others can tell. It asks
	// for OneThread.
	DrawnOrder bool
	// UsualFrom is the number of the draw, from 1, from which on the usual order is taken in place of what is drawn;
	// 0 is never. The draw before it is told in the report: so a search finds the one that matters.
	UsualFrom int

	shared bool // the machine's network, although one of its own could be had: in tests

	Zero    time.Time     // what the programs' clocks that tell the date show at the beginning
	Patient time.Duration // how much of the processors programs may use without waiting, or how long hang, before the match fails; 0 means 30 s
}

// RefusedError is the error of a machine on which no supervisor can be had.
type RefusedError struct {
	Why string // what the system refused
	Err error  // or nil
}

func (e *RefusedError) Error() string {
	text := "the virtual clock cannot be had for a build here: " + e.Why
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text + "; play it on the wall clock (clock: wall)"
}

func (e *RefusedError) Unwrap() error { return e.Err }

// NeverQuietError is the error of a program that never waits: time cannot move.
type NeverQuietError struct {
	Program string
	Threads []string // what its threads do
	For     time.Duration
}

func (e *NeverQuietError) Error() string {
	return fmt.Sprintf("%s has not waited for anything for %v, so time on the virtual clock cannot move (%s); play it on the wall clock", e.Program, e.For, strings.Join(e.Threads, "; "))
}

// Report is how a supervisor has done so far.
type Report struct {
	Jumps    int      // of time
	Wrong    int      // jumps under a program that was running after all: times after one mean little
	Computed []string // the programs for which it did
	Charged  int      // times that a thread computed for so long that time went on nevertheless
	Spins    int      // times that a program looked at the clock so often that time went on
	Wakes    int      // threads that were let go
	Internal uint64   // a hash of all that was let happen, in order and with its time: also what nobody sees
	Events   uint64   // how many things that were
	Remarks  []string // what the programs did that is not on the virtual clock
	Reads    []Read   // what they read of the real machine, each once for each program
	Draws    int      // of the order of threads
	LastDraw string   // the last before UsualFrom: who went before whom

	LastDrawAt time.Duration
}

// Read is something that a program read of the real machine.
type Read struct {
	At      time.Duration
	Program string
	What    string
}
