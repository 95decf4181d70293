package judge

import (
	"fmt"
	"math"

	"zitherwheel/internal/verdict/rulebook"
)

// What teleports leaps away from where the reference has it, and back, again and again: each time
// it is another difference, or another stretch of one.

// teleportsFrom is how many leaps away make it teleport.
const teleportsFrom = 3

// leap is how far the view leapt from one sighting to the next, beside what the reference did.
func (p *path) leap(a, b sighting) float64 {
	d := p.minus(p.minus(b.view, a.view), p.minus(b.there, a.there))
	return math.Sqrt(dot(d, d))
}

// leapsAway reports whether a view was right at one sighting and leapt away by the next.
func leapsAway(rule *rulebook.Rule, p *path, right, wrong sighting) bool {
	return rule.Compare == rulebook.Distance && right.ok && !wrong.ok && p.leap(right, wrong) > 4*rule.Tolerance
}

// teleports tests whether it leapt again and again within one difference.
func (d *difference) teleports() (n naming) {
	leaps, longest := 0, 0.0
	for i := 1; i < len(d.seen); i++ {
		if leapsAway(d.rule, d.path, d.seen[i-1], d.seen[i]) {
			leaps, longest = leaps+1, max(longest, d.path.leap(d.seen[i-1], d.seen[i]))
		}
	}
	if leaps < teleportsFrom {
		return n
	}
	return naming{kind: Teleports, why: fmt.Sprintf("%d times it leaps away from where the reference has it, and back, by up to %.3g", leaps, longest)}
}

// mayTeleport reports whether a kind is what one leap away and back may look like.
func (k Kind) mayTeleport() bool { return k.saysLittle() || k == Noisy || k == NeverSent }

// tellTeleports names differences that begin with a leap away and end with one back, if the same
// entity has several of them in a view.
func (j *Judge) tellTeleports() {
	type where struct {
		view, entity string
		subject      Subject
	}
	leaps := map[where][]*Finding{}
	for _, f := range j.findings {
		if f.leapt && f.Kind.mayTeleport() {
			w := where{f.View, f.Entity, f.Subject}
			leaps[w] = append(leaps[w], f)
		}
	}
	for _, list := range leaps {
		if len(list) < teleportsFrom {
			continue
		}
		for _, f := range list {
			f.Kind, f.Next = Teleports, nil
			f.Why = fmt.Sprintf("one of %d times that it leaps away from where the reference has it, and back; this time %s", len(list), f.Why)
			f.sign()
		}
	}
}
