// Package compare holds two sides against each other: a run, a hunt or a plan before and
// after a change. It says which signatures are gone, new or still there, and whether
// that is more than chance; and how measures have changed.
//
// It knows what hunts and run folders hold, and nothing of how results are shown.
package compare

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"zitherwheel/hunt"
	"zitherwheel/judge"
	"zitherwheel/odds"
)

// Side is one of two things that are compared: matches, by seed. Its JSON is a
// yardstick, as zwheel compare --baseline keeps it.
type Side struct {
	Version int          `json:"version"`
	What    string       `json:"what"` // run, hunt or plan
	Title   string       `json:"title"`
	Matches []hunt.Match `json:"matches"`

	// Of a single run: what was measured of each view, by the names that limits have.
	Views map[string]map[string]float64 `json:"views,omitempty"`
}

// SideVersion is the version of a yardstick's layout.
const SideVersion = 1

// State is what has become of a signature.
type State string

// What can become of a signature.
const (
	Gone        State = "gone"         // it showed before and does no more, which is not by chance
	PerhapsGone State = "perhaps gone" // it does no more, but that may be chance
	New         State = "new"          // it did not show before
	More        State = "more often"   // which is not by chance
	Less        State = "less often"   // which is not by chance
	Still       State = "still there"
)

// Result is what has changed from the first side to the second. Its JSON is that of
// zwheel compare --json.
type Result struct {
	Before     Summary     `json:"before"`
	After      Summary     `json:"after"`
	SameSeeds  int         `json:"same_seeds"` // matches with a seed that both sides have
	Signatures []Signature `json:"signatures"` // what is new or more frequent first
	Measures   []Measure   `json:"measures"`
	PairedBy   string      `json:"measures_paired_by"` // seed, view, or nothing
}

// Summary is a side in short.
type Summary struct {
	What    string `json:"what"`
	Title   string `json:"title"`
	Matches int    `json:"matches"` // that could be played
	InSync  int    `json:"in_sync"`
	Failed  int    `json:"failed"`
}

// Signature is how often one thing went wrong on each side.
type Signature struct {
	Signature string  `json:"signature"`
	State     State   `json:"state"`
	Before    Count   `json:"before"`
	After     Count   `json:"after"`
	Surprise  float64 `json:"surprise"`             // how probable such a change is if nothing has changed
	ToBelieve int     `json:"to_believe,omitempty"` // matches without it that it takes to believe that it is gone
	OnlyA     int     `json:"same_seed_only_before"`
	OnlyB     int     `json:"same_seed_only_after"`

	SeedsOnlyA []uint64 `json:"seeds_only_before"` // the first of them
	SeedsOnlyB []uint64 `json:"seeds_only_after"`
}

const seedsKept = 20

// Count is how often of how many.
type Count struct {
	Matches int     `json:"matches"`
	Share   float64 `json:"share"`
	Low     float64 `json:"share_low"`
	High    float64 `json:"share_high"`
}

// Measure is how one measure has changed. Larger is worse, for all of them.
type Measure struct {
	Name     string  `json:"name"`
	Before   float64 `json:"before"` // means
	After    float64 `json:"after"`
	Change   float64 `json:"change"` // of the same seeds or views, with its 95 % interval
	Low      float64 `json:"change_low"`
	High     float64 `json:"change_high"`
	Of       int     `json:"of"` // seeds or views
	Surprise float64 `json:"surprise"`
	Worse    bool    `json:"worse"`  // which is not by chance
	Better   bool    `json:"better"` // likewise
}

const (
	surprising = 0.05
	noticeable = 0.02 // of its value: a change that is smaller is nobody's concern
)

// Sides compares two sides.
func Sides(before, after *Side) *Result {
	r := &Result{Before: before.summary(), After: after.summary(), Signatures: []Signature{}, Measures: []Measure{}}
	a, b := bySeed(before), bySeed(after)
	for seed := range a {
		if _, both := b[seed]; both {
			r.SameSeeds++
		}
	}
	r.signatures(a, b)
	r.measures(before, after, a, b)
	return r
}

// Worse reports whether anything is new, more frequent, or significantly worse.
func (r *Result) Worse() bool {
	return slices.ContainsFunc(r.Signatures, func(s Signature) bool { return s.State == New || s.State == More }) ||
		slices.ContainsFunc(r.Measures, func(m Measure) bool { return m.Worse })
}

func (s *Side) summary() Summary {
	sum := Summary{What: s.What, Title: s.Title}
	for _, m := range s.Matches {
		switch m.Verdict {
		case hunt.Failed:
			sum.Failed++
			continue
		case string(judge.InSync):
			sum.InSync++
		}
		sum.Matches++
	}
	return sum
}

// bySeed are the matches that could be played.
func bySeed(s *Side) map[uint64]hunt.Match {
	all := map[uint64]hunt.Match{}
	for _, m := range s.Matches {
		if m.Verdict != hunt.Failed {
			all[m.Seed] = m
		}
	}
	return all
}

func (r *Result) signatures(a, b map[uint64]hunt.Match) {
	var names []string
	for _, side := range []map[uint64]hunt.Match{a, b} {
		for _, m := range side {
			for _, f := range m.Found {
				if !slices.Contains(names, f.Signature) {
					names = append(names, f.Signature)
				}
			}
		}
	}
	for _, name := range names {
		s := Signature{Signature: name, Before: countOf(name, a), After: countOf(name, b), SeedsOnlyA: []uint64{}, SeedsOnlyB: []uint64{}}
		for _, seed := range slices.Sorted(maps.Keys(a)) {
			m := a[seed]
			other, both := b[seed]
			switch in, inOther := has(m, name), has(other, name); {
			case !both:
			case in && !inOther:
				if s.OnlyA++; s.OnlyA <= seedsKept {
					s.SeedsOnlyA = append(s.SeedsOnlyA, seed)
				}
			case inOther && !in:
				if s.OnlyB++; s.OnlyB <= seedsKept {
					s.SeedsOnlyB = append(s.SeedsOnlyB, seed)
				}
			}
		}
		s.Surprise = odds.Surprise(s.Before.Matches, len(a), s.After.Matches, len(b))
		if r.SameSeeds == len(a) && r.SameSeeds == len(b) { // the pairs tell more
			s.Surprise = min(s.Surprise, odds.SurprisePaired(s.OnlyA, s.OnlyB))
		}
		certain := s.Surprise < surprising
		switch {
		case s.Before.Matches == 0:
			s.State = New
		case s.After.Matches == 0 && certain:
			s.State = Gone
		case s.After.Matches == 0:
			s.State = PerhapsGone
		case certain && s.After.Share > s.Before.Share:
			s.State = More
		case certain:
			s.State = Less
		default:
			s.State = Still
		}
		if s.Before.Matches > 0 {
			s.ToBelieve = odds.ToBelieve(s.Before.Matches, len(a))
		}
		r.Signatures = append(r.Signatures, s)
	}
	rank := []State{New, More, Still, Less, PerhapsGone, Gone}
	slices.SortFunc(r.Signatures, func(x, y Signature) int {
		return cmp.Or(cmp.Compare(slices.Index(rank, x.State), slices.Index(rank, y.State)),
			cmp.Compare(y.Before.Matches+y.After.Matches, x.Before.Matches+x.After.Matches), cmp.Compare(x.Signature, y.Signature))
	})
}

func has(m hunt.Match, signature string) bool {
	return slices.ContainsFunc(m.Found, func(f hunt.Found) bool { return f.Signature == signature })
}

func countOf(signature string, side map[uint64]hunt.Match) (c Count) {
	for _, m := range side {
		if has(m, signature) {
			c.Matches++
		}
	}
	c.Share, c.Low, c.High = odds.Share(c.Matches, len(side))
	return c
}

// measures compares measures by seed, or between two runs by view.
func (r *Result) measures(before, after *Side, a, b map[uint64]hunt.Match) {
	x, y := map[any]map[string]float64{}, map[any]map[string]float64{}
	if before.Views != nil && after.Views != nil {
		r.PairedBy = "view"
		for view, values := range before.Views {
			x[view] = values
		}
		for view, values := range after.Views {
			y[view] = values
		}
	} else {
		r.PairedBy = "seed"
		for seed, m := range a {
			x[seed] = m.Measures
		}
		for seed, m := range b {
			y[seed] = m.Measures
		}
	}
	differences, sums := map[string][]float64{}, map[string][2]float64{}
	for key, values := range x {
		for name, v := range values {
			if w, both := y[key][name]; both {
				differences[name] = append(differences[name], w-v)
				sums[name] = [2]float64{sums[name][0] + v, sums[name][1] + w}
			}
		}
	}
	if len(differences) == 0 {
		r.PairedBy = ""
	}
	for name, list := range differences {
		n := float64(len(list))
		m := Measure{Name: name, Before: sums[name][0] / n, After: sums[name][1] / n, Of: len(list)}
		m.Change, m.Low, m.High, m.Surprise = odds.Mean(list)
		// Many measures are looked at, so each must be the more surprising (Bonferroni).
		certain := m.Surprise < surprising/float64(len(differences)) && math.Abs(m.Change) > noticeable*math.Abs(m.Before)
		m.Worse, m.Better = certain && m.Change > 0, certain && m.Change < 0
		m.Before, m.After, m.Change = rounded(m.Before), rounded(m.After), rounded(m.Change)
		m.Low, m.High = rounded(max(m.Low, -math.MaxFloat32)), rounded(min(m.High, math.MaxFloat32))
		r.Measures = append(r.Measures, m)
	}
	slices.SortFunc(r.Measures, func(x, y Measure) int { return cmp.Compare(x.Name, y.Name) })
}

func rounded(v float64) float64 { return math.Round(v*1e3) / 1e3 }
