package judge

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// incidents joins findings that hang together: see ties.
func incidents(findings []*Finding) []Incident {
	group := make([]int, len(findings))
	for i := range group {
		group[i] = i
	}
	var root func(i int) int
	root = func(i int) int {
		if group[i] != i {
			group[i] = root(group[i])
		}
		return group[i]
	}
	join := func(i, k int) {
		a, b := root(i), root(k)
		group[max(a, b)] = min(a, b)
	}
	// Who a finding may hang together with, by what the two have in common, and until when.
	// Findings come in order of their beginning.
	type open struct {
		member int
		until  Seconds
	}
	latest := map[string]open{}
	for i, f := range findings {
		for _, tie := range ties(f) {
			o, ok := latest[tie.what]
			if ok = ok && f.BeganAt <= o.until; ok {
				join(i, o.member)
				tie.until = max(tie.until, o.until)
			}
			if !tie.follows {
				latest[tie.what] = open{i, tie.until}
			}
		}
	}
	jerkyFor(findings, root, join)
	members := map[int][]*Finding{}
	var order []int
	for i, f := range findings {
		r := root(i)
		if members[r] == nil {
			order = append(order, r)
		}
		members[r] = append(members[r], f)
	}
	list := make([]Incident, len(order))
	for i, r := range order {
		list[i] = incidentOf(members[r])
		list[i].ID = "I" + strconv.Itoa(i+1)
	}
	return list
}

// incidentOf is the incident of findings that hang together.
func incidentOf(all []*Finding) Incident {
	head := telling(all[0], all)
	in := Incident{BeganAt: all[0].BeganAt, Head: head.ID, Kind: head.Kind, Knob: knobOf(head, all)}
	for _, f := range all {
		in.Findings = append(in.Findings, f.ID)
		if !slices.Contains(in.Views, f.View) {
			in.Views = append(in.Views, f.View)
		}
		if !slices.Contains(in.Entities, f.Entity) {
			in.Entities = append(in.Entities, f.Entity)
		}
	}
	return in
}

// jerkyFor puts what a limit on motion tells of a view to the incident by which most of what it
// shows is in the wrong place, if that is much of it: whoever is in the wrong place does not move
// smoothly.
func jerkyFor(findings []*Finding, root func(int) int, join func(i, k int)) {
	const much = 0.1 // of the match
	for i, jerky := range findings {
		if jerky.Kind != Jerky {
			continue
		}
		apart := map[int]Seconds{}
		most := -1
		for k, f := range findings {
			if f.View == jerky.View && f.rule != nil && f.rule.Compare == rulebook.Distance && len(f.rule.Fields) > 1 && f.Own == strings.HasPrefix(jerky.Subject.Name, "own-") {
				r := root(k)
				if apart[r] += f.Apart; most < 0 || apart[r] > apart[root(most)] {
					most = k
				}
			}
		}
		if most >= 0 && float64(apart[root(most)]) >= much*float64(jerky.EndedAt-jerky.BeganAt) {
			join(i, most)
		}
	}
}

// overall is 1 for what is measured over the whole match, and comes last.
func (f *Finding) overall() int {
	if f.Kind == Jerky || f.Kind == OverLimit || f.Kind == Count {
		return 1
	}
	return 0
}

const (
	sameAgain = 20 * time.Second        // how soon the same must go wrong in the same view to be the same incident
	atOnce    = 1500 * time.Millisecond // how soon after one another what one cause does to an entity shows
)

// tie is what a finding has in common with others of an incident that begin until then.
type tie struct {
	what    string
	until   Seconds
	follows bool // it belongs to what others began, and begins nothing
}

// ties lists what findings of one incident have in common: the kind and the fields, in whatever
// view; the entity and the fields, in whatever way; the entity and the kind, in a view; the
// entity alone where the two begin at once, or the view puts them right at once, or where it lacks it or has it alone; a lost
// packet that may be the cause; that nothing is sent to the view any more; or that the same goes wrong again. Of ticks, all that differs in a view after another.
func ties(f *Finding) (list []tie) {
	end := f.EndedAt + Seconds(f.settle)
	while := func(format string, args ...any) {
		list = append(list, tie{what: fmt.Sprintf(format, args...), until: end})
	}
	again := func(format string, args ...any) {
		list = append(list, tie{what: fmt.Sprintf(format, args...), until: end + Seconds(sameAgain)})
	}
	again("again %s of %s in %s", f.About(), f.Entity, f.View)
	if f.Ticks {
		while("tick %d", f.Tick)
		while("view %s", f.View)
		return list
	}
	if since := f.Evidence.Silent; since != nil { // whatever comes of it
		list = append(list, tie{what: fmt.Sprintf("nothing sent to %s since %v", f.View, *since), until: Seconds(never)})
	}
	while("%s %s", f.Kind, f.Subject)
	if f.Subject.About == AboutEvent && f.overall() == 0 { // whatever loses or repeats one does it with others
		again("%s of events in %s", f.Kind, f.View)
	}
	if f.Entity != "" {
		if f.rule != nil {
			while("%s of %s", f.Subject, f.Entity)
		}
		while("%s of %s in %s", f.Kind, f.Entity, f.View)
		list = append(list, tie{what: fmt.Sprintf("beginning of %s in %s", f.Entity, f.View), until: f.BeganAt + Seconds(atOnce)})
		list = append(list, tie{what: fmt.Sprintf("existence of %s in %s", f.Entity, f.View), until: end, follows: !f.ofExistence()})
		if f.healed > 0 { // what a view puts right in one go has gone wrong together, in whatever way
			while("%s in %s right at %v", f.Entity, f.View, f.healed)
		}
	}
	if f.Like != "" {
		while("existence of %s in %s", f.Like, f.View)
	}
	for _, p := range f.Evidence.Packets {
		if p.Outcome != "late" && slices.Contains(ofLoss, f.Kind) {
			while("packet %s %s %d", f.View, p.Direction, p.Number)
		}
	}
	return list
}

// ofLoss are the kinds that one lost packet may make several of. Others have lost packets near
// their beginning by chance.
var ofLoss = []Kind{Missing, Ghost, Frozen, NeverArrived, LeftBehind, Skipped, Late, OutOfOrder, EventLost, EventLate, EventMisorder, Broken}

// ofExistence reports whether a finding is about an entity being there at all.
func (f *Finding) ofExistence() bool {
	return f.Subject == Subject{Name: rulebook.Existence} || f.Kind == DuplicateEntity || f.Kind == NotOne
}
