package relay

import "time"

// SteppedOptions are those of a stepped relay.
type SteppedOptions struct {
	Zero   time.Duration // of the clock that it is driven by: from which the times of packets are counted
	Record bool          // keep payloads
	Port   func() uint16 // a free port; nil leaves that to the system
}
