package judge

import (
	"cmp"
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
	byRoot := map[int]*Incident{}
	heads := map[int]*Finding{}
	var order []int
	for i, f := range findings {
		r := root(i)
		in := byRoot[r]
		if in == nil {
			in = &Incident{BeganAt: f.BeganAt}
			byRoot[r], heads[r] = in, f
			order = append(order, r)
		}
		in.Findings = append(in.Findings, f.ID)
		if !slices.Contains(in.Views, f.View) {
			in.Views = append(in.Views, f.View)
		}
		if !slices.Contains(in.Entities, f.Entity) {
			in.Entities = append(in.Entities, f.Entity)
		}
	}
	list := make([]Incident, len(order))
	for i, r := range order {
		heads[r] = telling(heads[r], findings, r, root)
		list[i] = *byRoot[r]
		list[i].ID, list[i].Head, list[i].Kind = "I"+strconv.Itoa(i+1), heads[r].ID, heads[r].Kind
	}
	return list
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

// telling is the finding that tells most of an incident: see [Incident].
func telling(head *Finding, findings []*Finding, r int, root func(int) int) *Finding {
	if whole := wholeView(head, findings, r, root); whole != nil && (!head.Ticks || whole.BeganAt == head.BeganAt) {
		return whole
	}
	for i, f := range findings { // what is missing under one id is there under another
		if root(i) == r && f.Kind == OtherID && head.Kind == Missing && f.Like == head.Entity && f.View == head.View {
			return f
		}
	}
	if head.Ticks {
		for i, f := range findings {
			if root(i) == r && f.BeganAt == head.BeganAt && f.View == head.View && f.tells(head) < 0 {
				return f
			}
		}
		return head
	}
	// What differs at first may be too short to tell by. If the same differs for much longer
	// afterwards, that tells more.
	longest := head
	for i, f := range findings {
		if root(i) == r && head.rule != nil && head.rule.Compare != rulebook.Exact && f.View == head.View && f.Entity == head.Entity && f.Subject == head.Subject && f.Apart > longest.Apart {
			longest = f
		}
	}
	if longest.Apart > 3*head.Apart && !longest.Kind.saysLittle() {
		return longest
	}
	if late := mostlyLate(head, findings, r, root); late != nil {
		return late
	}
	if !slices.Contains([]Kind{NoRelation, Offset, Rate, Scaled, Drift, Clamped, Noisy}, head.Kind) {
		return head
	}
	count, first := map[Kind]int{}, map[Kind]*Finding{}
	for i, f := range findings {
		if root(i) == r && f.About() == head.About() {
			if count[f.Kind]++; first[f.Kind] == nil {
				first[f.Kind] = f
			}
		}
	}
	weight := func(k Kind) int {
		if k.saysLittle() {
			return count[k]
		}
		return 2 * count[k]
	}
	best := head
	// Relations between numbers are told by few values each; what most of them are, all are.
	enough := 1
	if !head.Kind.saysLittle() {
		enough = 2 * weight(head.Kind)
	}
	for i, f := range findings { // in their order, so that ties are always broken alike
		if root(i) == r && first[f.Kind] == f && weight(f.Kind) > weight(best.Kind) && weight(f.Kind) >= enough {
			best = f
		}
	}
	return best
}

// mostlyLate is the first finding that tells that changes come late, if most of those about the
// same do. Where that begins a view may go back to what it had, as if it had changed by itself.
func mostlyLate(head *Finding, findings []*Finding, r int, root func(int) int) (first *Finding) {
	if head.rule == nil || head.rule.Compare != rulebook.Exact || head.Kind == Late {
		return nil
	}
	late, others := 0, 0
	for i, f := range findings {
		if root(i) != r || f.View != head.View || f.Entity != head.Entity || f.Subject != head.Subject {
			continue
		}
		if f.Kind != Late {
			others++
			continue
		}
		if late++; first == nil {
			first = f
		}
	}
	if late <= others {
		return nil
	}
	return first
}

// wholeView is the first finding that tells what is wrong with everything that a view
// shows, if that is it: that it is late, or has frozen. Other findings of the incident are
// then what that does to them.
func wholeView(head *Finding, findings []*Finding, r int, root func(int) int) *Finding {
	subjects, telling, first := map[string]bool{}, map[Kind]map[string]bool{}, map[Kind]*Finding{}
	for i, f := range findings {
		if root(i) != r || f.View != head.View || f.rule == nil {
			continue
		}
		what := f.Entity + " " + f.Subject.String()
		subjects[what] = true
		kind := f.Kind
		if kind == NeverArrived {
			kind = Frozen
		}
		if telling[kind] == nil {
			telling[kind] = map[string]bool{}
		}
		telling[kind][what] = true
		if first[f.Kind] == nil {
			first[f.Kind] = f
		}
	}
	for _, kind := range []Kind{Late, Creeping, Frozen} {
		if n := len(telling[kind]); n >= 3 && 5*n >= 2*len(subjects) && first[kind] != nil {
			return first[kind]
		}
	}
	return nil
}

// saysLittle reports whether a kind says no more than that values differ.
func (k Kind) saysLittle() bool { return k == NoRelation || k == Offset }

// overall is 1 for what is measured over the whole match, and comes last.
func (f *Finding) overall() int {
	if f.Kind == Jerky || f.Kind == OverLimit || f.Kind == Count {
		return 1
	}
	return 0
}

// tells orders findings of one tick: a checksum tells less than a field, and that values differ
// less than how.
func (f *Finding) tells(other *Finding) int {
	little := func(f *Finding) int { return slices.Index([]Kind{Offset, NoRelation, ChecksumDiffers}, f.Kind) }
	return cmp.Compare(little(f), little(other))
}

// Vague reports whether a finding's kind is one that any motion may look like which is wrong for
// short.
func (f *Finding) Vague() bool {
	return f.rule != nil && f.rule.Compare != rulebook.Exact &&
		slices.Contains([]Kind{NoRelation, Offset, Drift, Noisy, Rate, Scaled, NeverSent, Frozen}, f.Kind)
}

// About is what a finding is about: fields of a kind of entity.
func (f *Finding) About() string {
	kind, _, _ := strings.Cut(f.Entity, "/")
	return kind + " " + f.Subject.String()
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
// entity alone where the two begin at once, or where the view lacks it or has it alone; a lost
// packet that may be the cause; or that the same goes wrong again. Of ticks, all that differs in a view after another.
func ties(f *Finding) (list []tie) {
	end := f.EndedAt + Seconds(f.settle)
	while := func(format string, args ...any) { list = append(list, tie{what: fmt.Sprintf(format, args...), until: end}) }
	again := func(format string, args ...any) {
		list = append(list, tie{what: fmt.Sprintf(format, args...), until: end + Seconds(sameAgain)})
	}
	again("again %s of %s in %s", f.About(), f.Entity, f.View)
	if f.Ticks {
		while("tick %d", f.Tick)
		while("view %s", f.View)
		return list
	}
	while("%s %s", f.Kind, f.Subject)
	if f.Subject.About == AboutEvent { // whatever loses or repeats one does it with others
		again("%s of events in %s", f.Kind, f.View)
	}
	if f.Entity != "" {
		if f.rule != nil {
			while("%s of %s", f.Subject, f.Entity)
		}
		while("%s of %s in %s", f.Kind, f.Entity, f.View)
		list = append(list, tie{what: fmt.Sprintf("beginning of %s in %s", f.Entity, f.View), until: f.BeganAt + Seconds(atOnce)})
		list = append(list, tie{what: fmt.Sprintf("existence of %s in %s", f.Entity, f.View), until: end, follows: !f.ofExistence()})
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
