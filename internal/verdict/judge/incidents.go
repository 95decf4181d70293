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

// incidents joins findings that hang together: those that overlap in time and
// are of the same entity, of the same kind on the same fields, or have a lost
// packet in common.
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
	// The latest end of each group that a finding may belong to, by what it has
	// in common with it. Findings come in order of their beginning.
	type open struct {
		member int
		until  Seconds
	}
	latest := map[string]open{}
	for i, f := range findings {
		for _, common := range common(f) {
			until := f.EndedAt + Seconds(f.settle)
			if strings.HasPrefix(common, "again ") {
				until += Seconds(sameAgain)
			}
			if o, ok := latest[common]; ok && f.BeganAt <= o.until {
				a, b := root(i), root(o.member)
				group[max(a, b)] = min(a, b)
				until = max(until, o.until)
			}
			latest[common] = open{i, until}
		}
	}
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
		if root(i) == r && f.about() == head.about() {
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

// about is what a finding is about: fields of a kind of entity.
func (f *Finding) about() string {
	kind, _, _ := strings.Cut(f.Entity, "/")
	return kind + " " + f.Subject.String()
}

// sameAgain is how soon the same thing must go wrong in the same view to be the same
// incident.
const sameAgain = 20 * time.Second

// common lists what findings of one incident have in common.
func common(f *Finding) []string {
	again := fmt.Sprintf("again %s of %s in %s", f.about(), f.Entity, f.View)
	if f.Ticks {
		return []string{fmt.Sprint("tick ", f.Tick), "view " + f.View, again}
	}
	list := []string{string(f.Kind) + " " + f.Subject.String(), again}
	if f.Entity != "" {
		list = append(list, "entity "+f.Entity)
	}
	if f.Like != "" {
		list = append(list, "entity "+f.Like)
	}
	for _, p := range f.Evidence.Packets {
		if p.Outcome != "late" {
			list = append(list, fmt.Sprintf("packet %s %s %d", f.View, p.Direction, p.Number))
		}
	}
	return list
}
