// Package far starts clients of a match on another machine, over a connection: the programs themselves, and a relay beside
// them, so that the real network between the machines is part of their way to the server.
//
// The machine that plays the match has a Machine; on the other one a Host serves it. The clock of the other
// machine is read again and again, both ways, and all times that come from there are told by the clock of the one that
// plays the match. It knows nothing of plans, of how the connection is made, nor of who may make it.
package far

import (
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
)

// order is what a host is told. One of its fields is given.
type order struct {
	Ask   int64 // the number of a clock exchange
	Zero  int64 // from when the times of packets count, by the host's clock, in nanoseconds since 1970
	Path  *Path
	Trace *Trace // a place for it
	Start *startOrder
	Say   *sayOrder
	Stop  int // a program
	Move  int // a path, counted from 1
	Reset int // likewise
	End   bool
}

// Path is a way of one client to one port of the server, through a relay on its machine.
type Path struct {
	Network  string // udp or tcp
	To       string // HOST:PORT of the server, as that machine reaches it
	Link     string // by whose name chance is drawn
	Seed     uint64
	Up, Down link.Course
}

// Trace is where a program tells its trace lines. The zero value is its standard output.
type Trace struct {
	None   bool
	Socket bool   // it connects to At
	File   string // below the build's folder: it is followed at At
	At     string // an address or a path on its machine; [Machine.Place] finds it
}

// startOrder is what is left of a [process.Spec] on another machine.
type startOrder struct {
	Program     int
	Name        string
	Run, Env    []string
	Trace       Trace
	DriveInput  bool
	DriveSocket bool
	Signal      string
	StopWithin  time.Duration
}

type sayOrder struct {
	Program int
	Line    []byte
}

// news is what a host tells. One of its fields is given.
type news struct {
	Answer  *answer
	Path    *pathNews // or place
	Started *startedNews
	Line    *lineNews
	Ended   *endedNews
	Loads   map[int]process.Load // by program
	Packets []relay.Packet
	Stats   *Stats
}

// Stats are what the relay of a host dropped, or was refused.
type Stats struct{ Refused, Unsent, Full, Untold int }

type answer struct {
	Ask int64
	At  int64 // by the host's clock, in nanoseconds since 1970
}

type pathNews struct {
	At    string
	Error string
}

type startedNews struct {
	Program int
	Error   string
}

type lineNews struct {
	Program int
	Line    process.Line
}

type endedNews struct {
	Program int
	How     string
	Asked   bool
	Failed  bool
}

const (
	tellPackets = 50 * time.Millisecond  // how often outcomes of packets are told
	tellLoads   = time.Second            // and what programs use
	askSoon     = 5 * time.Millisecond   // how often the clock is asked at first
	askOften    = 20                     // so many times
	askLater    = 200 * time.Millisecond // and then
	silentFor   = 3 * time.Second        // after which the other side counts as lost
)
