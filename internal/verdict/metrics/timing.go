package metrics

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Timing is how well a run of programs kept time. Times are in ms.
type Timing struct {
	Supervised *Supervised `json:"supervised,omitempty"` // on a virtual clock; the rest is of the wall clock

	Relay    Lateness `json:"relay"`                   // packets sent on later than they were due
	Machine  Lateness `json:"machine"`                 // a thread of the run woken later than it asked to be
	Refused  int      `json:"refused"`                 // datagrams to a port at which nobody listened
	Unsent   int      `json:"unsent"`                  // packets that the system did not take
	Full     int      `json:"relay_full,omitempty"`    // packets that the relay dropped because it held as much as it may
	Trouble  string   `json:"relay_trouble,omitempty"` // what the system refused the relay last
	Stalls   int      `json:"stalls"`                  // times the machine stood still for longer than StallMs
	Stalled  float64  `json:"stalled_s"`               // in all
	Clocks   []string `json:"clocks,omitempty"`        // views whose own clock was set back while they ran
	Machines []Clock  `json:"machines,omitempty"`      // other machines on which clients ran
	Moments  []Stall  `json:"stalls_at,omitempty"`     // when the machine stood still, or gave a program no processor
}

// Clock is how the clock of another machine related to that of the one that played the match. Times of its views were
// told by the latter, and may be wrong by the error.
type Clock struct {
	Machine   string        `json:"machine"`
	Offset    trace.Seconds `json:"offset_s"` // to be added to its times, at the end
	DriftPPM  float64       `json:"drift_ppm"`
	ErrorMs   float64       `json:"error_ms"`
	Exchanges int           `json:"exchanges"`
}

// Stall is a time in which the machine stood still, or gave a view's program no processor.
type Stall struct {
	View  string        `json:"view,omitempty"` // "" means everybody's
	From  trace.Seconds `json:"from_s"`
	To    trace.Seconds `json:"to_s"`
	Stood trace.Seconds `json:"stood_s"` // in it, in all
}

func (s Stall) String() string {
	if s.View == "" {
		return fmt.Sprintf("the machine stood still for %s up to %s", s.Stood, s.To)
	}
	return fmt.Sprintf("%s had to wait %s for a processor up to %s", s.View, s.Stood, s.To)
}

// Concerns reports whether a stall can be felt in a view: its own, and the server's.
func (s Stall) Concerns(view string) bool {
	return s.View == "" || s.View == view || s.View == rulebook.Server
}

// Recovery is how long a stall is felt, beside its own length.
const Recovery = 250 * time.Millisecond

// Felt reports whether a stall may be felt in a view at a time.
func (t *Timing) Felt(view string, at time.Duration) bool {
	return slices.ContainsFunc(t.Moments, func(s Stall) bool {
		return s.Concerns(view) && time.Duration(s.From) <= at && at <= time.Duration(s.To+s.Stood)+Recovery
	})
}

// Stood is how long the machine stood still for a view in all.
func (t *Timing) Stood(view string) (sum time.Duration) {
	for _, s := range t.Moments {
		if s.Concerns(view) {
			sum += time.Duration(s.Stood)
		}
	}
	return sum
}

// StoodFor says how long that was, in a sentence.
func (t *Timing) StoodFor(view string) string {
	machine, program := time.Duration(0), time.Duration(0)
	for _, s := range t.Moments {
		switch {
		case s.View == "":
			machine += time.Duration(s.Stood)
		case s.Concerns(view):
			program += time.Duration(s.Stood)
		}
	}
	switch {
	case program == 0:
		return fmt.Sprintf("the machine stood still for %s", trace.Seconds(machine))
	case machine == 0:
		return fmt.Sprintf("programs had to wait %s for a processor", trace.Seconds(program))
	}
	return fmt.Sprintf("the machine stood still for %s, and programs had to wait %s for a processor,", trace.Seconds(machine), trace.Seconds(program))
}

// Stallable reports whether a measure that can have a limit is made worse by stalls of the
// machine. Those that are not tell how much is used or sent.
func Stallable(measure string) bool {
	return !strings.HasSuffix(measure, "-mb") && !strings.HasSuffix(measure, "bytes-per-second") && !strings.HasSuffix(measure, "packets-per-second")
}

// Supervised is how it went with programs on a virtual clock.
type Supervised struct {
	Visible  string   `json:"visible"`  // a hash of all that shows: lines, packets, ends, with their times
	Internal string   `json:"internal"` // and of what was let happen in the programs, in order
	Events   uint64   `json:"events"`   // how many things that were
	Jumps    int      `json:"jumps"`    // of time
	Wrong    int      `json:"wrong"`    // jumps while a program was running after all
	Charged  int      `json:"charged"`  // times that time went on for a program that only computed
	Spins    int      `json:"spins"`    // times that it went on for one that looked at the clock all the time
	Remarks  []string `json:"remarks,omitempty"`
	Computed []string `json:"computed,omitempty"`  // the programs that time went on for
	Draws    int      `json:"draws,omitempty"`     // of the order of threads
	LastDraw string   `json:"last_draw,omitempty"` // the last one, where the usual order was taken from then on
	Reads    []Read   `json:"reads,omitempty"`     // what programs read that is not the same on each machine and at each time
}

// Read is something of the real machine that a program read; it is told once for each program.
type Read struct {
	At      trace.Seconds `json:"at_s"` // since the programs were started
	Program string        `json:"program"`
	What    string        `json:"what"`
}

// Unrepeatable says why the match may go otherwise when it is played again, or "".
func (s *Supervised) Unrepeatable() string {
	switch {
	case s == nil || s.Charged == 0:
		return ""
	case s.Charged == 1:
		return fmt.Sprintf("this match may not repeat: time went on once while %s computed without waiting", strings.Join(s.Computed, " and "))
	}
	return fmt.Sprintf("this match may not repeat: time went on %d times while %s computed without waiting", s.Charged, strings.Join(s.Computed, " and "))
}

// Lateness is a histogram of how late things were.
type Lateness struct {
	Count  int     `json:"count"`
	Median float64 `json:"median"`
	P99    float64 `json:"p99"`
	Max    float64 `json:"max"`
	Bars   []int   `json:"bars"` // how many were below each of Steps and not below the one before; the last, of none
}

// Steps are the upper limits of the bars of a Lateness, in ms.
var Steps = []float64{0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100}

// StallMs is how long a machine has to stand still for it to be told.
const StallMs = 30

// The most with which figures of time can be trusted.
const (
	trustedRelay = 5.0   // ms at the 99th percentile
	trustedStall = 150.0 // ms
)

// Distrust says why figures about time should not be trusted, or "".
func (t *Timing) Distrust() string {
	switch {
	case t == nil:
		return ""
	case t.Supervised != nil && t.Supervised.Wrong > 0:
		return fmt.Sprintf("time jumped %d times while a program was running; play it again, and if that comes again, on the wall clock", t.Supervised.Wrong)
	case t.Supervised != nil:
		return ""
	case t.Trouble != "":
		return "the system refused the relay what it needs, so some packets went nowhere: " + t.Trouble
	case t.Full > 0:
		return fmt.Sprintf("the relay dropped %d packets of its own, because too much was waiting on slow links", t.Full)
	case t.Machine.Max > trustedStall:
		return fmt.Sprintf("the machine stood still for up to %.0f ms (%d times longer than %d ms, %.2f s in all); figures of time are no better than that",
			t.Machine.Max, t.Stalls, StallMs, t.Stalled)
	case t.Relay.P99 > trustedRelay:
		return fmt.Sprintf("one packet in a hundred was sent on %.1f ms or more too late; the machine is too busy for exact figures of time", t.Relay.P99)
	}
	return ""
}
