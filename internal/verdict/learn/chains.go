package learn

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// Chain is a sequence that completed every time it began. It is offered and not judged: that B came after
// A each time does not say that it must.
type Chain struct {
	rulebook.Sequence
	Why []string
}

const (
	fewChains     = 5 // a chain that began less often is not offered
	mostOccasions = 20_000
)

// stepKind is what a step of a chain may be: what is told, and on which side.
type stepKind struct {
	mark bool
	name string
	in   string // one of rulebook.SequenceViews
}

// happened is one occurrence of a step, by whoever told it.
type happened struct {
	occasion
	match *Match
	view  int
}

// keys are what the steps of one chain may have in common.
var keys = []struct {
	name string
	of   func(o occasion) string
}{
	{"id", func(o occasion) string { return o.id }},
	{"by", func(o occasion) string { return o.by }},
	{"entity", func(o occasion) string { return o.entity }},
}

// chains learns which marks are followed by others, or by events, each time.
func (l *Lesson) chains(matches []*Match) {
	told := map[stepKind][]happened{}
	for _, m := range matches {
		for i, v := range m.views {
			in := rulebook.InClient
			if i == 0 {
				in = rulebook.InServer
			}
			for kind, list := range map[bool][]occasion{true: v.clock.marks, false: v.clock.events} {
				for _, o := range list {
					step := stepKind{kind, o.name, in}
					if len(told[step]) < mostOccasions {
						told[step] = append(told[step], happened{o, m, i})
					}
				}
			}
		}
	}
	var marks []stepKind
	for step := range told {
		if step.mark && len(told[step]) >= fewChains {
			marks = append(marks, step)
		}
	}
	slices.SortFunc(marks, func(a, b stepKind) int { return cmp.Or(cmp.Compare(a.in, b.in), cmp.Compare(a.name, b.name)) })
	later := map[stepKind]bool{}
	var found []Chain
	for _, first := range marks {
		if c, steps, ok := chainFrom(first, told); ok {
			found = append(found, c)
			for _, step := range steps[1:] {
				later[step] = true
			}
		}
	}
	for _, c := range found { // what begins in the middle of another is part of it
		first := c.Steps[0]
		if !later[stepKind{true, first.Checkpoint, first.In}] {
			l.Chains = append(l.Chains, c)
		}
	}
}

// follower is what came after a step each time, and how long after.
type follower struct {
	step    stepKind
	after   []time.Duration
	matched []happened
}

// chainFrom is the longest chain that begins with a step, each of whose steps came every time.
func chainFrom(first stepKind, told map[stepKind][]happened) (best Chain, steps []stepKind, ok bool) {
	for _, key := range keys {
		sequence := rulebook.Sequence{Name: first.name, By: key.name, Steps: []rulebook.SequenceStep{first.asStep(0)}}
		kinds, now := []stepKind{first}, told[first]
		if slices.ContainsFunc(now, func(h happened) bool { return key.of(h.occasion) == "" }) {
			continue
		}
		begun := slices.DeleteFunc(slices.Clone(now), func(h happened) bool {
			return h.t+longest > h.match.views[0].clock.last || h.t+longest > h.match.views[h.view].clock.last
		})
		now = begun
		for {
			next, ok := follows(kinds, begun, now, told, key.of)
			if !ok {
				break
			}
			sequence.Steps = append(sequence.Steps, next.step.asStep(span(next.after, 250*time.Millisecond)))
			kinds, now = append(kinds, next.step), next.matched
		}
		if len(kinds) > len(steps) && len(kinds) > 1 {
			best, steps, ok = Chain{sequence, []string{fmt.Sprintf("began %d times and completed each time", len(begun))}}, kinds, true
		}
	}
	return best, steps, ok
}

func (k stepKind) asStep(within time.Duration) rulebook.SequenceStep {
	step := rulebook.SequenceStep{In: k.in, Within: within}
	if k.mark {
		step.Checkpoint = k.name
	} else {
		step.Event = k.name
	}
	return step
}

// follows is the step that came soonest after each of those that happened last: with the same key, of the same match, in
// the server or in the client that began the chain.
func follows(kinds []stepKind, begun, now []happened, told map[stepKind][]happened, key func(occasion) string) (best follower, ok bool) {
	type place struct {
		match *Match
		view  int
		key   string
	}
	soonest := time.Duration(0)
	for step, list := range told {
		if slices.Contains(kinds, step) {
			continue
		}
		byPlace := map[place][]happened{}
		for _, h := range list {
			at := place{h.match, h.view, key(h.occasion)}
			byPlace[at] = append(byPlace[at], h)
		}
		f := follower{step: step}
		for i, h := range now {
			view := 0
			if step.in == rulebook.InClient {
				view = begun[i].view
			}
			came := byPlace[place{h.match, view, key(h.occasion)}]
			n, _ := slices.BinarySearchFunc(came, h.t, func(c happened, t time.Duration) int { return cmp.Compare(c.t, t) })
			if n == len(came) || came[n].t-h.t > longest {
				f.after = nil
				break
			}
			f.after, f.matched = append(f.after, came[n].t-h.t), append(f.matched, came[n])
		}
		if len(f.after) < fewChains || step.in == rulebook.InClient && begun[0].view == 0 {
			continue
		}
		middle := quantile(f.after, 0.5)
		if !ok || middle < soonest || middle == soonest && step.before(best.step) {
			best, soonest, ok = f, middle, true
		}
	}
	return best, ok
}

func (k stepKind) before(other stepKind) bool {
	return cmp.Or(cmp.Compare(k.in, other.in), cmp.Compare(k.name, other.name)) < 0
}
