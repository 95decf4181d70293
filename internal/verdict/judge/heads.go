package judge

import (
	"cmp"
	"slices"
	"strings"

	"zitherwheel/internal/verdict/rulebook"
)

// telling is the finding that tells most of all those of an incident, of which head is the first: see [Incident].
func telling(head *Finding, all []*Finding) *Finding {
	if whole := wholeView(head, all); whole != nil && (!head.Ticks || whole.BeganAt == head.BeganAt) {
		return whole
	}
	for _, f := range all { // what is missing under one id is there under another; who is taken for another has all that is theirs
		if f.Kind == OtherID && f.View == head.View && (head.Kind == Missing && f.Like == head.Entity || f.Entity == head.Entity && f.BeganAt <= head.BeganAt+Seconds(atOnce)) {
			return f
		}
	}
	if head.Ticks {
		for _, f := range all {
			if f.BeganAt == head.BeganAt && f.View == head.View && f.tells(head) < 0 {
				return f
			}
		}
		return head
	}
	// What differs at first may be too short to tell by. If the same differs for much longer
	// afterwards, that tells more.
	longest := head
	for _, f := range all {
		if head.rule != nil && head.rule.Compare != rulebook.Exact && f.View == head.View && f.Entity == head.Entity && f.Subject == head.Subject && f.Apart > longest.Apart {
			longest = f
		}
	}
	if longest.Apart > 3*head.Apart && !longest.Kind.saysLittle() {
		return longest
	}
	if late := mostlyLate(head, all); late != nil {
		return late
	}
	if !slices.Contains([]Kind{NoRelation, Offset, Rate, Scaled, Drift, Clamped, Noisy}, head.Kind) {
		return head
	}
	count, first := map[Kind]int{}, map[Kind]*Finding{}
	for _, f := range all {
		if f.About() == head.About() {
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
	for _, f := range all { // in their order, so that ties are always broken alike
		if first[f.Kind] == f && weight(f.Kind) > weight(best.Kind) && weight(f.Kind) >= enough {
			best = f
		}
	}
	return best
}

// mostlyLate is the first finding that tells that changes come late, if most of those about the
// same do. Where that begins a view may go back to what it had, as if it had changed by itself.
func mostlyLate(head *Finding, all []*Finding) (first *Finding) {
	if head.rule == nil || head.rule.Compare != rulebook.Exact || head.Kind == Late {
		return nil
	}
	late, others := 0, 0
	for _, f := range all {
		if f.View != head.View || f.Entity != head.Entity || f.Subject != head.Subject {
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
func wholeView(head *Finding, all []*Finding) *Finding {
	subjects, telling, first := map[string]bool{}, map[Kind]map[string]bool{}, map[Kind]*Finding{}
	for _, f := range all {
		if f.View != head.View || f.rule == nil {
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

// tells orders findings of one tick: a checksum tells less than a field, and that values differ
// less than how.
func (f *Finding) tells(other *Finding) int {
	little := func(f *Finding) int { return slices.Index([]Kind{Offset, NoRelation, ChecksumDiffers}, f.Kind) }
	return cmp.Compare(little(f), little(other))
}

// saysLittle reports whether a kind says no more than that values differ.
func (k Kind) saysLittle() bool { return k == NoRelation || k == Offset }

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
