package judge

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

// Knobs says how far each knob of its rule would have to be turned, that one alone, for a finding
// not to be one. A knob that would not do it, turned as far as is sensible, is 0. So a rule that is
// too narrow is told from a mistake at a glance; zwheel check --suggest tries it.
type Knobs struct {
	MaxDelay    Seconds `json:"max_delay_s,omitempty"`
	MinDuration Seconds `json:"min_duration_s,omitempty"`
	Tolerance   float64 `json:"tolerance,omitempty"`
}

// Knob is what would explain findings of one rule in an incident.
type Knob struct {
	Rule     string  `json:"rule"`           // like "duck/* x, y" or "event quack"
	Name     string  `json:"knob,omitempty"` // as plans call it; "" if none explains any of them
	From     float64 `json:"from,omitempty"`
	To       float64 `json:"to,omitempty"` // s, or in the unit of the values
	Explains int     `json:"explains"`
	Of       int     `json:"of"` // findings of the rule in the incident
}

// knobsOf is how far each knob would have to be turned for an episode to be none.
func (k *tracker) knobsOf(v *view, open bool) (n Knobs) {
	e, r := k.run, k.rule
	if e.amount > 0 && !open {
		n.MinDuration = upTo10ms(spare(e.amount), r.MinDuration)
	}
	if r.Compare != rulebook.Exact && e.widest > 0 {
		unit := math.Pow(10, math.Floor(math.Log10(e.widest))-2)
		off := math.Round(math.Ceil(1.01*e.widest/unit)*unit*1e9) / 1e9
		if off <= rulebook.KnobTimes*max(r.Tolerance, r.Quantum) {
			n.Tolerance = off
		}
	}
	if late := k.lateBy(); late > 0 && !r.TimeDriven {
		n.MaxDelay = upTo10ms(spare(late+min(v.beat(), 100*time.Millisecond)), r.MaxDelay)
	}
	return n
}

// spare is a little more than a time: what an episode keeps is thinned out.
func spare(d time.Duration) time.Duration { return d + d/20 }

// upTo10ms is a time as it is written in a plan, or 0 if a knob that is at now is not to be turned so far.
func upTo10ms(d, now time.Duration) Seconds {
	const step = 10 * time.Millisecond
	d = (d + step - 1) / step * step
	if d <= now || d > max(rulebook.KnobTimes*now, rulebook.KnobDelay) {
		return 0
	}
	return Seconds(d)
}

// lateBy is which max-delay would explain all that was seen of an episode, or 0 if none does.
func (k *tracker) lateBy() (late time.Duration) {
	e := k.run
	past := path{compare: k.path.compare, circle: k.path.circle, corners: e.history}
	if len(past.corners) == 0 {
		return 0
	}
	for i := -1; i < len(e.seen); i++ {
		s := e.final
		if i >= 0 {
			s = e.seen[i]
		}
		if s.ok {
			continue
		}
		moment, ok := past.latest(s.view, k.rule.Tolerance, past.corners[0].t, s.t)
		if !ok {
			return 0
		}
		late = max(late, k.rule.MaxDelay+s.t-s.late-moment)
	}
	return late
}

// knobOf says which knob of the rule of an incident's head would explain the incident. It is one
// that explains the head, if any does; of what is late max-delay, else the one that explains most
// findings, and of several the one that is turned least.
func knobOf(head *Finding, all []*Finding) *Knob {
	rule, now := head.knobRule()
	if rule == "" {
		return nil
	}
	best, ratio := &Knob{Rule: rule}, 0.0
	for _, f := range all {
		if name, _ := f.knobRule(); name == rule {
			best.Of++
		}
	}
	for i, name := range knobNames {
		if head.Knobs.by(i) == 0 {
			continue
		}
		k := Knob{Rule: rule, Name: name, From: now.by(i), Of: best.Of}
		for _, f := range all {
			if name, _ := f.knobRule(); name == rule && f.Knobs.by(i) > 0 {
				k.To = max(k.To, f.Knobs.by(i))
				k.Explains++
			}
		}
		turned := k.To / max(k.From, 1e-9)
		if best.Name == "" || k.Explains > best.Explains || k.Explains == best.Explains && turned < ratio {
			*best, ratio = k, turned
		}
		if i == 0 && (head.Kind == Late || head.Kind == EventLate) {
			break
		}
	}
	if best.Name == knobNames[0] && head.resends() {
		best.Name, best.From = "resent-within", 0
	}
	return best
}

// resends reports whether what a finding is about looks like something that was lost and sent again:
// it came in the end, and a packet to the view had been lost when it should have come.
func (f *Finding) resends() bool {
	if f.rule != nil && (f.rule.ResentWithin > 0 || f.rule.Compare != rulebook.Exact) || f.eventRule != nil && f.eventRule.ResentWithin > 0 || f.Open {
		return false
	}
	return slices.ContainsFunc(f.Evidence.Packets, func(p PacketRow) bool {
		return p.Direction == link.Down.String() && p.Outcome != "late" && (p.Link == "" || p.Link == f.View)
	})
}

// knobNames are as plans call them, in the order of Knobs.by.
var knobNames = [...]string{"max-delay", "tolerance", "min-duration"}

// by is the value of the knob of that number in knobNames, times in seconds.
func (n Knobs) by(i int) float64 {
	return [...]float64{time.Duration(n.MaxDelay).Seconds(), n.Tolerance, time.Duration(n.MinDuration).Seconds()}[i]
}

// knobRule names the rule that a finding stands under, and says how its knobs are.
func (f *Finding) knobRule() (name string, now Knobs) {
	switch {
	case f.Ticks || f.Invariant || f.Kind == Unvalidated:
	case f.rule != nil:
		name = f.rule.Name()
		now = Knobs{MaxDelay: Seconds(f.rule.MaxDelay), Tolerance: max(f.rule.Tolerance, f.rule.Quantum), MinDuration: Seconds(f.rule.MinDuration)}
	case f.eventRule != nil:
		name, now = "event "+f.eventRule.Event, Knobs{MaxDelay: Seconds(f.eventRule.MaxDelay)}
	}
	return name, now
}
