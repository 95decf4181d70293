package judge

import (
	"fmt"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// chains asks whether every sequence that begins completes.
type chains struct {
	match *Judge
	going []*chain
	begun map[*rulebook.Sequence]int
}

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

func newChains(j *Judge) *chains { return &chains{match: j, begun: map[*rulebook.Sequence]int{}} }

// take lets a mark or an event drive the sequences.
func (s *chains) take(v *view, r *trace.Record) {
	if r.Checkpoint == "" && r.Event == "" {
		return
	}
	rules := s.match.config.Rules.Sequences
	for i := range rules {
		rule := &rules[i]
		key := map[string]string{"by": r.By, "id": r.ID, "entity": r.Entity}[rule.By]
		kept := s.going[:0]
		for _, c := range s.going {
			if c.rule != rule || c.key != key || !s.advance(c, v, r) {
				kept = append(kept, c)
			}
		}
		s.going = kept
		if first := rule.Steps[0]; stepIs(first, r) && (first.In == rulebook.InServer) == (v.number == 0) {
			s.begun[rule]++
			s.going = append(s.going, &chain{rule: rule, key: key, by: v, step: 1, since: r.T, began: r.T})
		}
	}
}

// advance moves a chain on and reports whether it is complete.
func (s *chains) advance(c *chain, v *view, r *trace.Record) bool {
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
			if s.awaited(c, i) {
				return false
			}
		}
	}
	c.step++
	if c.step == len(c.rule.Steps) {
		return true
	}
	c.since, c.seen, c.due = r.T, make([]bool, len(s.match.views)), make([]bool, len(s.match.views))
	for i, other := range s.match.views {
		c.due[i] = i > 0 && other.in && !other.out()
	}
	return false
}

// come looks for steps that should have come by t and did not.
func (s *chains) come(t time.Duration) {
	kept := s.going[:0]
	for _, c := range s.going {
		step := c.rule.Steps[c.step]
		if t-c.since <= step.Within || step.In == rulebook.InAll && s.mayComeYet(c, t) {
			kept = append(kept, c)
			continue
		}
		where := []string{}
		view := c.by
		switch step.In {
		case rulebook.InServer:
			where, view = []string{s.match.views[0].name}, c.by
		case rulebook.InClient:
			where = []string{c.by.name}
		default:
			for i := range c.due {
				if s.awaited(c, i) {
					where, view = append(where, s.match.views[i].name), s.match.views[i]
				}
			}
		}
		if len(where) == 0 || c.by.number > 0 && !c.by.in {
			continue // whoever was waited for has left
		}
		f := &Finding{Kind: Broken, View: view.name, Entity: c.key, Subject: Subject{AboutSequence, c.rule.Name}, BeganAt: Seconds(c.began), EndedAt: Seconds(t),
			Open: true, Ended: "it never came", settle: rulebook.DefaultMinDuration,
			Why: fmt.Sprintf("step %d, %s in %s, never came within %v of step %d", c.step+1, step.What(), strings.Join(where, ", "), step.Within, c.step)}
		f.Evidence = s.match.circumstances(view, c.began, t)
		s.match.add(f)
	}
	s.going = kept
}

// end looks whether every sequence began as often as it must.
func (s *chains) end(t time.Duration) {
	rules := s.match.config.Rules.Sequences
	for i := range rules {
		s.match.often(Subject{AboutSequence, rules[i].Name}, rules[i].Begun, s.begun[&rules[i]], "began", "never began", t)
	}
}

// mayComeYet reports whether everybody who is waited for has heard nothing, or
// only just, since the step before.
func (s *chains) mayComeYet(c *chain, t time.Duration) bool {
	for i := range c.due {
		if s.awaited(c, i) && s.match.views[i].down.firstSince(c.since)+c.rule.Steps[c.step].Within <= t {
			return false
		}
	}
	return true
}

// awaited reports whether a view has still to see the step: it was there when it
// was due, has not seen it, and has not left since.
func (s *chains) awaited(c *chain, view int) bool {
	v := s.match.views[view]
	return c.due[view] && !c.seen[view] && v.in && !v.out() && v.joinedAt <= c.since
}

// stepIs reports whether a record is the step.
func stepIs(step rulebook.SequenceStep, r *trace.Record) bool {
	return step.Checkpoint != "" && step.Checkpoint == r.Checkpoint || step.Event != "" && step.Event == r.Event
}
