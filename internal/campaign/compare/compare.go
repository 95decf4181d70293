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

	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/stats"
	"zitherwheel/internal/verdict/judge"
)

// Side is one of two things that are compared: matches, by seed. Its JSON is a
// baseline, as zwheel compare --baseline keeps it.
type Side struct {
	Version int            `json:"version"`
	What    string         `json:"what"` // run, hunt or plan
	Title   string         `json:"title"`
	Matches []played.Match `json:"matches"`
	Learned string         `json:"learned_rules,omitempty"` // of a plan without rules: those that its first match taught, as YAML

	// Of a single run: what was measured of each view, by the names that limits have.
	Views map[string]map[string]float64 `json:"views,omitempty"`
}

// SideVersion is the version of a baseline's layout.
const sideVersion = 2

// State is what has become of a signature.
type State string

// What can become of a signature.
const (
	Gone        State = "fixed"       // it showed before and does no more, which is not by chance
	PerhapsGone State = "maybe fixed" // it does no more, but that may be chance
	New         State = "new"         // it did not show before, which is not by chance
	PerhapsNew  State = "maybe new"   // it did not show before, but that may be chance
	More        State = "more often"  // which is not by chance
	Less        State = "less often"  // which is not by chance
	Still       State = "still there"
	Never       State = "never" // on neither side
)

// Result is what has changed from the first side to the second. Its JSON is that of
// zwheel compare --json.
type Result struct {
	Before     Summary     `json:"before"`
	After      Summary     `json:"after"`
	SameSeeds  int         `json:"same_seeds"`  // matches with a seed that both sides have
	ErrorRate  float64     `json:"error_rate"`  // how often equals may be called anything but equal, over all that is asked
	OutOfSync  Signature   `json:"out_of_sync"` // the first question: how many matches are out of sync at all
	Signatures []Signature `json:"signatures"`  // what is new or more frequent first
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

// Signature is how often one thing went wrong on each side: a signature of findings, or a kind of lines
// about errors or warnings that a program logged.
type Signature struct {
	Signature   string  `json:"signature"`
	State       State   `json:"state"`
	Before      Count   `json:"before"`
	After       Count   `json:"after"`
	P           float64 `json:"p"`                      // how probable such a change, or a greater one, is if nothing has changed
	Below       float64 `json:"p_below"`                // p must be below this to count, with all that is asked
	MoreMatches int     `json:"more_matches,omitempty"` // on each side, that it takes to tell if it goes on like this
	OnlyA       int     `json:"same_seed_only_before"`
	OnlyB       int     `json:"same_seed_only_after"`

	of    [2]int  // matches of both sides
	least float64 // how surprising it could be at most

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
	Name   string  `json:"name"`
	Before float64 `json:"before"` // means
	After  float64 `json:"after"`
	Change float64 `json:"change"` // of the same seeds or views, with its 95% interval
	Low    float64 `json:"change_low"`
	High   float64 `json:"change_high"`
	Of     int     `json:"of"` // seeds or views
	P      float64 `json:"p"`
	Worse  bool    `json:"worse"`  // which is not by chance
	Better bool    `json:"better"` // likewise
}

// ErrorRate is how often equals are called anything but equal, unless another rate is
// asked for.
const ErrorRate = 0.05

const noticeable = 0.02 // of a measure's value: a change that is smaller is nobody's concern

// Sides compares two sides. errorRate bounds how often a comparison of equals says that
// anything has changed, over all questions together: half of it is for the share of
// matches out of sync, which is asked first, and half for the signatures and measures, a
// half of that for each; they have it all if the first question is answered with a change
// (the fallback procedure of Wiens, Pharmaceutical Statistics 2, 2003).
func Sides(before, after *Side, errorRate float64) *Result {
	r := &Result{Before: before.summary(), After: after.summary(), ErrorRate: errorRate, Signatures: []Signature{}, Measures: []Measure{}}
	causes := hunt.CausesIn(before.Matches, after.Matches) // so that one mistake has one name
	a, b := bySeed(causes.Told(before.Matches)), bySeed(causes.Told(after.Matches))
	for seed := range a {
		if _, both := b[seed]; both {
			r.SameSeeds++
		}
	}
	r.OutOfSync = r.signature("out of sync", a, b, func(m played.Match) bool { return m.Verdict == string(judge.OutOfSync) })
	r.OutOfSync.decide(errorRate / 2)
	rest := errorRate / 2
	if r.OutOfSync.changed() {
		rest = errorRate
	}
	r.signatures(a, b)
	r.measures(before, after, a, b)
	r.decide(rest)
	return r
}

// Worse reports whether anything is new, more frequent, or worse, which is not by chance.
func (r *Result) Worse() bool {
	return r.OutOfSync.State == New || r.OutOfSync.State == More || slices.ContainsFunc(r.Signatures, func(s Signature) bool { return s.State == New || s.State == More }) ||
		slices.ContainsFunc(r.Measures, func(m Measure) bool { return m.Worse })
}

func (s *Side) summary() Summary {
	sum := Summary{What: s.What, Title: s.Title}
	for _, m := range s.Matches {
		if m.Verdict == played.Failed {
			sum.Failed++
			continue
		}
		if judge.Outcome(m.Verdict).Passed() {
			sum.InSync++
		}
		sum.Matches++
	}
	return sum
}

// bySeed are the matches that could be played.
func bySeed(matches []played.Match) map[uint64]played.Match {
	all := map[uint64]played.Match{}
	for _, m := range matches {
		if m.Verdict != played.Failed {
			all[m.Seed] = m
		}
	}
	return all
}

func (r *Result) signatures(a, b map[uint64]played.Match) {
	var names []string
	for _, side := range []map[uint64]played.Match{a, b} {
		for _, m := range side {
			for _, f := range m.Found {
				names = append(names, f.Signature)
			}
			names = append(names, m.Logs...)
		}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		r.Signatures = append(r.Signatures, r.signature(name, a, b, func(m played.Match) bool { return has(m, name) }))
	}
}

// signature counts the matches of both sides that show something.
func (r *Result) signature(name string, a, b map[uint64]played.Match, shows func(played.Match) bool) Signature {
	s := Signature{Signature: name, Before: countOf(shows, a), After: countOf(shows, b), SeedsOnlyA: []uint64{}, SeedsOnlyB: []uint64{}}
	s.of = [2]int{len(a), len(b)}
	for _, seed := range slices.Sorted(maps.Keys(a)) {
		m := a[seed]
		other, both := b[seed]
		switch in, inOther := shows(m), shows(other); {
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
	if r.SameSeeds == len(a) && r.SameSeeds == len(b) { // pairs tell more, and are no two samples
		s.P, s.least = stats.McNemar(s.OnlyA, s.OnlyB), stats.McNemar(s.OnlyA+s.OnlyB, 0)
	} else {
		s.P = stats.FisherExact(s.Before.Matches, len(a), s.After.Matches, len(b))
		s.least = stats.LeastFisherExact(s.Before.Matches+s.After.Matches, len(a), len(b))
	}
	return s
}

// decide says what has become of all that is asked, so that equals are called changed at
// most at that rate. What cannot be surprising, however its few cases fall, takes nothing
// from the others (Tarone, Biometrics 46, 1990).
func (r *Result) decide(rate float64) {
	var least []float64
	for _, s := range r.Signatures {
		least = append(least, s.least)
	}
	below := rate / 2 / float64(stats.Questions(least, rate/2))
	for i := range r.Signatures {
		r.Signatures[i].decide(below)
	}
	least = nil
	for _, m := range r.Measures {
		if m.Of > 1 && (m.Low != 0 || m.High != 0) { // one that never differs surprises nobody
			least = append(least, 0)
		}
	}
	below = rate / 2 / float64(stats.Questions(least, rate/2))
	for i := range r.Measures {
		m := &r.Measures[i]
		certain := m.P < below && math.Abs(m.Change) > noticeable*math.Abs(m.Before)
		m.Worse, m.Better = certain && m.Change > 0, certain && m.Change < 0
		m.Before, m.After, m.Change = rounded(m.Before), rounded(m.After), rounded(m.Change)
	}
	rank := []State{New, More, PerhapsNew, Still, Less, PerhapsGone, Gone}
	slices.SortFunc(r.Signatures, func(x, y Signature) int {
		return cmp.Or(cmp.Compare(slices.Index(rank, x.State), slices.Index(rank, y.State)),
			cmp.Compare(y.Before.Matches+y.After.Matches, x.Before.Matches+x.After.Matches), cmp.Compare(x.Signature, y.Signature))
	})
}

// decide says what has become of it: a change counts if its p is below that.
func (s *Signature) decide(below float64) {
	s.Below = below
	certain := s.P < below
	switch {
	case s.Before.Matches == 0 && s.After.Matches == 0:
		s.State = Never
	case s.Before.Matches == 0 && certain:
		s.State = New
	case s.Before.Matches == 0:
		s.State = PerhapsNew
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
	if s.State == PerhapsNew || s.State == PerhapsGone {
		s.MoreMatches = stats.More(s.Before.Matches, s.of[0], s.After.Matches, s.of[1], below)
	}
}

// changed reports whether it has changed, which is not by chance.
func (s *Signature) changed() bool {
	return s.State == New || s.State == Gone || s.State == More || s.State == Less
}

func has(m played.Match, signature string) bool {
	return slices.ContainsFunc(m.Found, func(f played.Found) bool { return f.Signature == signature }) || slices.Contains(m.Logs, signature)
}

func countOf(shows func(played.Match) bool, side map[uint64]played.Match) (c Count) {
	for _, m := range side {
		if shows(m) {
			c.Matches++
		}
	}
	c.Share, c.Low, c.High = stats.Wilson(c.Matches, len(side))
	return c
}

// measures compares measures by seed, or between two runs by view.
func (r *Result) measures(before, after *Side, a, b map[uint64]played.Match) {
	if before.Views != nil && after.Views != nil {
		r.PairedBy = "view"
		r.paired(pair(before.Views, after.Views))
		return
	}
	values := func(side map[uint64]played.Match) map[uint64]map[string]float64 {
		all := map[uint64]map[string]float64{}
		for seed, m := range side {
			all[seed] = m.Measures
		}
		return all
	}
	r.PairedBy = "seed"
	r.paired(pair(values(a), values(b)))
}

// pair lists the values of each measure on both sides that go together, in the order of
// their keys: sums of the same numbers in another order are not the same.
func pair[K cmp.Ordered](x, y map[K]map[string]float64) map[string][][2]float64 {
	pairs := map[string][][2]float64{}
	for _, key := range slices.Sorted(maps.Keys(x)) {
		for name, v := range x[key] {
			if w, both := y[key][name]; both {
				pairs[name] = append(pairs[name], [2]float64{v, w})
			}
		}
	}
	return pairs
}

func (r *Result) paired(pairs map[string][][2]float64) {
	if len(pairs) == 0 {
		r.PairedBy = ""
	}
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		var differences []float64
		m := Measure{Name: name, Of: len(pairs[name])}
		for _, p := range pairs[name] {
			m.Before += p[0]
			m.After += p[1]
			differences = append(differences, p[1]-p[0])
		}
		m.Before, m.After = m.Before/float64(m.Of), m.After/float64(m.Of)
		m.Change, m.Low, m.High, m.P = stats.StudentT(differences)
		m.Low, m.High = rounded(max(m.Low, -math.MaxFloat32)), rounded(min(m.High, math.MaxFloat32))
		r.Measures = append(r.Measures, m)
	}
}

func rounded(v float64) float64 { return math.Round(v*1e3) / 1e3 }
