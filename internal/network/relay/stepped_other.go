//go:build !linux

package relay

import (
	"errors"
	"net/netip"
	"time"
)

// Stepped cannot be had on this system.
type Stepped struct{}

var errStepped = errors.New("a stepped relay takes Linux")

func NewStepped(SteppedOptions) (*Stepped, error) { return nil, errStepped }

func (s *Stepped) Add(Path) (netip.AddrPort, error) { return netip.AddrPort{}, errStepped }
func (s *Stepped) Move(int) error                   { return errStepped }
func (s *Stepped) Reset(int)                        {}
func (s *Stepped) Take(list []Packet) []Packet      { return list }
func (s *Stepped) Stats() Stats                     { return Stats{} }
func (s *Stepped) Close() error                     { return nil }
func (s *Stepped) Collect(time.Duration) bool       { return false }
func (s *Stepped) Next() (time.Duration, bool)      { return 0, false }
func (s *Stepped) Deliver() uint64                  { return 0 }
