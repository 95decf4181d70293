package judge

import (
	"fmt"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// chain is a sequence under way.
type chain struct {
	rule  *rulebook.Sequence
	key   string
	by    *view // that began it
	step  int   // that is waited for
	since time.Duration
	began time.Duration
	seen  []bool // views that have seen it, for a step in all
	due   []bool
}

// follow lets a mark or an event of a view drive the sequences.
func (j *Judge) follow(v *view, r *trace.Record) {
	if r.Checkpoint == "" && r.Event == "" {
		return
	}
	for i := range j.config.Rules.Sequences {
		rule := &j.config.Rules.Sequences[i]
		key := map[string]string{"by": r.By, "id": r.ID, "entity": r.Entity}[rule.By]
		kept := j.chains[:0]
		for _, c := range j.chains {
			if c.rule != rule || c.key != key || !j.advanceChain(c, v, r) {
				kept = append(kept, c)
			}
		}
		j.chains = kept
		if first := rule.Steps[0]; stepIs(first, r) && (first.In == rulebook.InServer) == (v.number == 0) {
			j.begun[rule]++
			j.chains = append(j.chains, &chain{rule: rule, key: key, by: v, step: 1, since: r.T, began: r.T})
		}
	}
}

// advanceChain moves a chain on and reports whether it is complete.
func (j *Judge) advanceChain(c *chain, v *view, r *trace.Record) bool {
	if c.rule.Unless != "" && r.Checkpoint == c.rule.Unless {
		return true
	}
	step := c.rule.Steps[c.step]
	if !stepIs(step, r) {
		return false
	}
	switch step.In {
	case rulebook.InServer:
		if v.number != 0 {
			return false
		}
	case rulebook.InClient:
		if v != c.by {
			return false
		}
	default:
		if v.number == 0 {
			return false
		}
		c.seen[v.number] = true
		for i := range c.due {
			if j.awaited(c, i) {
				return false
			}
		}
	}
	c.step++
	if c.step == len(c.rule.Steps) {
		return true
	}
	c.since, c.seen, c.due = r.T, make([]bool, len(j.views)), make([]bool, len(j.views))
	for i, other := range j.views {
		c.due[i] = i > 0 && other.in && !other.phantom
	}
	return false
}

// sweepChains looks for steps that should have come by t and did not.
func (j *Judge) sweepChains(t time.Duration) {
	kept := j.chains[:0]
	for _, c := range j.chains {
		step := c.rule.Steps[c.step]
		if t-c.since <= step.Within || step.In == rulebook.InAll && j.mayComeYet(c, t) {
			kept = append(kept, c)
			continue
		}
		where := []string{}
		view := c.by
		switch step.In {
		case rulebook.InServer:
			where, view = []string{j.views[0].name}, c.by
		case rulebook.InClient:
			where = []string{c.by.name}
		default:
			for i := range c.due {
				if j.awaited(c, i) {
					where, view = append(where, j.views[i].name), j.views[i]
				}
			}
		}
		if len(where) == 0 || c.by.number > 0 && !c.by.in {
			continue // whoever was waited for has left
		}
		f := &Finding{Kind: Broken, View: view.name, Entity: c.key, Subject: Subject{AboutSequence, c.rule.Name}, BeganAt: Seconds(c.began), EndedAt: Seconds(t),
			Open: true, Ended: "it never came", settle: rulebook.DefaultMinDuration,
			Why: fmt.Sprintf("step %d, %s in %s, never came within %v of step %d", c.step+1, step.What(), strings.Join(where, ", "), step.Within, c.step)}
		f.Evidence = j.circumstances(view, c.began, t)
		j.add(f)
	}
	j.chains = kept
}

// mayComeYet reports whether everybody who is waited for has heard nothing, or
// only just, since the step before.
func (j *Judge) mayComeYet(c *chain, t time.Duration) bool {
	for i := range c.due {
		if j.awaited(c, i) && j.views[i].down.firstSince(c.since)+c.rule.Steps[c.step].Within <= t {
			return false
		}
	}
	return true
}

// awaited reports whether a view has still to see the step: it was there when it
// was due, has not seen it, and has not left since.
func (j *Judge) awaited(c *chain, view int) bool {
	v := j.views[view]
	return c.due[view] && !c.seen[view] && v.in && !v.phantom && v.joinedAt <= c.since
}

// stepIs reports whether a record is the step.
func stepIs(s rulebook.SequenceStep, r *trace.Record) bool {
	return s.Checkpoint != "" && s.Checkpoint == r.Checkpoint || s.Event != "" && s.Event == r.Event
}
