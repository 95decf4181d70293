package hunt

import (
	"cmp"
	"maps"
	"slices"

	"zitherwheel/internal/campaign/played"
)

// Causes tells by which signature a cause is known, of the signatures at the heads of incidents.
//
// One mistake comes to the fore in one way or another: what differs first is now a sheep, now a
// bell, and a motion that is wrong for short fits this relation or that. Of matches together it can
// be told: where most incidents with one head hold what is the head of others as well, and that is
// of the same kind, both are the more frequent of the two. And a motion that is wrong for so short
// that its name says little is what else is wrong, in the same match, with the same fields of such
// entities.
type Causes map[string]string

// Of is the signature of the cause.
func (c Causes) Of(signature string) string {
	for c[signature] != "" {
		signature = c[signature]
	}
	return signature
}

// together is in which share of the incidents with one head the other must be.
const together = 0.5

// CausesOf finds the causes in matches.
func CausesOf(each func(func(played.Match)) error) (Causes, error) {
	heads, seen := map[string]int{}, map[string]int{} // in how many incidents, as the head or at all
	with := map[string]map[string]int{}
	err := each(func(m played.Match) {
		for _, f := range m.Found {
			heads[f.Signature]++
			seen[f.Signature]++
			for _, other := range f.Kin {
				seen[other]++
				if with[f.Signature] == nil {
					with[f.Signature] = map[string]int{}
				}
				with[f.Signature][other]++
			}
		}
	})
	before := func(a, b string) int { // the more frequent first
		return cmp.Or(cmp.Compare(seen[b], seen[a]), cmp.Compare(heads[b], heads[a]), cmp.Compare(a, b))
	}
	causes := Causes{}
	for _, a := range slices.SortedFunc(maps.Keys(heads), before) {
		best := ""
		for b, n := range with[a] {
			if heads[b] > 0 && before(b, a) < 0 && float64(n) >= together*float64(heads[a]) && (best == "" || before(b, best) < 0) {
				best = b
			}
		}
		if best != "" {
			causes[a] = best
		}
	}
	return causes, err
}

// CausesIn is CausesOf matches in memory.
func CausesIn(matches ...[]played.Match) Causes {
	causes, _ := CausesOf(func(take func(played.Match)) error { // which has no error
		for _, list := range matches {
			for _, m := range list {
				take(m)
			}
		}
		return nil
	})
	return causes
}

// told is a match as its causes tell it.
func (c Causes) told(m played.Match) played.Match {
	m.Found = slices.Clone(m.Found)
	for i := range m.Found {
		m.Found[i].Signature = c.Of(m.Found[i].Signature)
	}
	return m
}

// Told are matches as their causes tell them.
func (c Causes) Told(matches []played.Match) []played.Match {
	list := make([]played.Match, len(matches))
	for i, m := range matches {
		list[i] = c.told(m)
	}
	return list
}
