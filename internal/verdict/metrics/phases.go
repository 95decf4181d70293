package metrics

import (
	"time"

	"zitherwheel/internal/network/link"
)

// Phases is the traffic of a view by what its player does: while it gets in, while its entity moves or
// its player does something, and while nothing happens. So it shows whether what stands still sends
// nothing.
type Phases struct {
	Joining Phase `json:"joining"`
	Moving  Phase `json:"moving"`
	Idle    Phase `json:"idle"`
}

// Phase is the traffic of one of them.
type Phase struct {
	Seconds float64 `json:"s"`
	Up      float64 `json:"up_bytes_per_second"`
	Down    float64 `json:"down_bytes_per_second"`
}

const (
	joiningFor  = 3 * time.Second        // after it joined
	movingStill = 500 * time.Millisecond // after it moved last
	doesNothing = "stand"                // as an input tells it
)

// phases collects a Phases. What a player does at a moment follows from the records before it alone,
// because at one instant records and packets come in any order.
type phases struct {
	at          time.Duration // of the last record
	before, now doing         // until then, and from then on
	took        [3]time.Duration
	bytes       [3][2]int
}

// doing is what is known of what a player does.
type doing struct {
	in         bool
	since      time.Duration // when it joined
	acts       bool          // it does something, by its input
	moved      bool
	movedUntil time.Duration // and a little longer
}

// phase is which of the phases a moment is of.
func (d doing) phase(t time.Duration) int {
	switch {
	case t < d.since+joiningFor:
		return 0
	case d.acts || d.moved && t < d.movedUntil:
		return 1
	}
	return 2
}

// pass lets time pass up to the time of a record.
func (p *phases) pass(t time.Duration) {
	if t <= p.at {
		return
	}
	if p.now.in {
		from := p.at
		for _, edge := range []time.Duration{min(p.now.since+joiningFor, p.now.movedUntil), max(p.now.since+joiningFor, p.now.movedUntil), t} {
			if until := min(edge, t); until > from {
				p.took[p.now.phase(from)] += until - from
				from = until
			}
		}
	}
	p.before, p.at = p.now, t
}

// does is what a view's player does, by all that is known of it.
func (v *view) does() doing {
	d := doing{in: v.in, since: v.inFrom, acts: v.lastInput != "" && v.lastInput != doesNothing}
	if own := v.track(v.own); own != nil && own.known {
		d.moved, d.movedUntil = true, own.changed+movingStill
	}
	return d
}

func (p *phases) packet(packet link.Packet) {
	d := p.now
	if packet.Sent <= p.at {
		d = p.before
	}
	if d.in {
		p.bytes[d.phase(packet.Sent)][packet.Direction] += packet.Size
	}
}

// sum is nil where no packets were seen.
func (p *phases) sum() *Phases {
	of := func(i int) Phase {
		if p.took[i] < time.Second/10 {
			return Phase{}
		}
		s := p.took[i].Seconds()
		return Phase{round(s), round(float64(p.bytes[i][link.Up]) / s), round(float64(p.bytes[i][link.Down]) / s)}
	}
	all := Phases{of(0), of(1), of(2)}
	if p.bytes == [3][2]int{} {
		return nil
	}
	return &all
}

// idle is a part of the traffic of a view that does nothing, where that lasted long enough to tell.
func idle(part func(Phase) float64) func(*View) *float64 {
	return func(v *View) *float64 {
		if v.Phases == nil || v.Phases.Idle.Seconds < 1 {
			return nil
		}
		b := part(v.Phases.Idle)
		return &b
	}
}
