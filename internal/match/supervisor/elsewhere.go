//go:build !linux || !amd64

// Package supervisor runs the programs of a game build on a virtual clock. This system cannot
// do that: it takes Linux on amd64.
package supervisor

import (
	"context"
	"net"
	"time"

	"zitherwheel/internal/match/process"
)

// Wires carry what programs send each other.
type Wires interface {
	Collect(now time.Duration) bool
	Next() (due time.Duration, any bool)
	Deliver() uint64
}

// Supervisor cannot be had here: [New] says so.
type Supervisor struct{}

// New returns a RefusedError.
func New(Options) (*Supervisor, error) {
	return nil, &RefusedError{"it takes Linux on a 64-bit x86 processor", nil}
}

func (s *Supervisor) Now() time.Duration                       { return 0 }
func (s *Supervisor) Carry(Wires)                              {}
func (s *Supervisor) At(time.Duration, func())                 {}
func (s *Supervisor) After(time.Duration, func())              {}
func (s *Supervisor) Report() Report                           { return Report{} }
func (s *Supervisor) Run(context.Context, time.Duration) error { return nil }
func (s *Supervisor) Close() error                             { return nil }
func (s *Supervisor) Alone() bool                              { return false }
func (s *Supervisor) Port() uint16                             { return 0 }
func (s *Supervisor) Listen() (*Listener, error)               { return nil, net.ErrClosed }

// Program cannot be had here.
type Program struct{}

func (s *Supervisor) Start(process.Spec, func(process.Line), func(*Program)) (*Program, error) {
	return nil, net.ErrClosed
}

func (p *Program) PID() int                { return 0 }
func (p *Program) Running() bool           { return false }
func (p *Program) Connected() bool         { return false }
func (p *Program) Exit() (string, bool)    { return "", false }
func (p *Program) Failed() bool            { return false }
func (p *Program) Say([]byte) bool         { return false }
func (p *Program) Stop()                   {}
func (p *Program) Patience() time.Duration { return 0 }
func (p *Program) Kill()                   {}

// Listener cannot be had here.
type Listener struct{}

func (l *Listener) Addr() net.Addr            { return nil }
func (l *Listener) Accept() (net.Conn, error) { return nil, net.ErrClosed }
func (l *Listener) Close() error              { return nil }
