package hunt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"slices"

	"zitherwheel/judge"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
)

// Signature is one thing that goes wrong, over all matches of a hunt.
type Signature struct {
	Signature  string      `json:"signature"`
	Kind       judge.Kind  `json:"kind"`
	Matches    int         `json:"matches"` // in which it was found
	Share      float64     `json:"share"`
	Low        float64     `json:"share_low"`  // of the true share, with 95 % confidence
	High       float64     `json:"share_high"` //
	Seeds      []uint64    `json:"seeds"`      // the first of them
	Conditions []Condition `json:"conditions"` // what it is more frequent with stands first
	Example    Example     `json:"example"`
}

// Condition is how often a player under some condition was the one for whom it went
// wrong first.
type Condition struct {
	What  string  `json:"what"` // like "joined 3rd"
	Hit   int     `json:"hit"`
	Of    int     `json:"of"` // players under that condition, in all matches
	Share float64 `json:"share"`
	Low   float64 `json:"share_low"`
	High  float64 `json:"share_high"`
}

// Example is the match in which it showed soonest, which was played again with
// recording.
type Example struct {
	Seed   uint64        `json:"seed"`
	Began  judge.Seconds `json:"began_s"`
	Folder string        `json:"folder"`
	Same   bool          `json:"found_again"` // when it was played again; on the wall clock it need not be
}

const (
	seedsKept     = 50
	mostExamples  = 10
	mostOfOneKind = 12 // values of one kind of condition
)

// sumUp gathers the matches of a journal by signature.
func sumUp(p *plan.Plan, first uint64, matches map[uint64]Match) *Result {
	r := &Result{Title: p.Title, First: first, Matches: len(matches), Failed: []Failure{}, Signatures: []Signature{}}
	var seeds []uint64
	for seed := range matches {
		seeds = append(seeds, seed)
	}
	slices.Sort(seeds)
	by := map[string]*Signature{}
	var order []string
	played := 0
	for _, seed := range seeds {
		m := matches[seed]
		switch {
		case m.Verdict == Failed:
			r.Failed = append(r.Failed, Failure{seed, m.Why})
			continue
		case m.Verdict == string(judge.InSync):
			r.InSync++
		}
		played++
		seen := map[string]bool{}
		for _, f := range m.Found {
			s := by[f.Signature]
			if s == nil {
				s = &Signature{Signature: f.Signature, Kind: f.Kind, Example: Example{Seed: seed, Began: f.Began}}
				by[f.Signature] = s
				order = append(order, f.Signature)
			}
			if f.Began < s.Example.Began {
				s.Example = Example{Seed: seed, Began: f.Began}
			}
			if seen[f.Signature] {
				continue
			}
			seen[f.Signature] = true
			s.Matches++
			if len(s.Seeds) < seedsKept {
				s.Seeds = append(s.Seeds, seed)
			}
		}
	}
	for _, name := range order {
		s := by[name]
		s.Share, s.Low, s.High = share(s.Matches, played)
		s.Conditions = conditions(name, seeds, matches)
		r.Signatures = append(r.Signatures, *s)
	}
	slices.SortStableFunc(r.Signatures, func(a, b Signature) int { return b.Matches - a.Matches })
	return r
}

// share is k of n, with the interval that holds the true share with 95 % confidence:
// Wilson's score interval (J. Am. Stat. Assoc. 22, 1927), which is right for few and
// for rare ones too.
func share(k, n int) (p, low, high float64) {
	if n == 0 {
		return 0, 0, 1
	}
	const z = 1.959964
	m := float64(n)
	p = float64(k) / m
	middle := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	round := func(f float64) float64 { return math.Round(f*1e4) / 1e4 }
	return round(p), round(max(0, middle-half)), round(min(1, middle+half))
}

// conditions counts for each condition how many of the players under it were hit.
func conditions(signature string, seeds []uint64, matches map[uint64]Match) []Condition {
	type tally struct{ hit, of int }
	tallies := map[string]*tally{}
	var names []string
	// Losses are parted at the median over all players that lost anything to speak of.
	var losses []float64
	for _, seed := range seeds {
		for _, p := range matches[seed].Players {
			losses = append(losses, p.Loss)
		}
	}
	slices.Sort(losses)
	middle := 0.0
	if len(losses) > 0 {
		middle = losses[len(losses)/2]
	}
	for _, seed := range seeds {
		m := matches[seed]
		if m.Verdict == Failed {
			continue
		}
		hit := map[string]bool{}
		for _, f := range m.Found {
			if f.Signature == signature {
				hit[f.View] = true
			}
		}
		for _, p := range m.Players {
			lost := fmt.Sprintf("lost at most %.1f %%", 100*middle)
			switch {
			case middle == 0 && p.Loss == 0:
				lost = "lost no packet"
			case middle == 0:
				lost = "lost packets"
			case p.Loss > middle:
				lost = fmt.Sprintf("lost more than %.1f %%", 100*middle)
			}
			for _, name := range []string{"joined " + nth(p.Order), "on link " + p.Link, "is " + p.Name, lost} {
				t := tallies[name]
				if t == nil {
					t = &tally{}
					tallies[name] = t
					names = append(names, name)
				}
				if t.of++; hit[p.Name] {
					t.hit++
				}
			}
		}
	}
	var list []Condition
	for _, name := range names {
		c := Condition{What: name, Hit: tallies[name].hit, Of: tallies[name].of}
		c.Share, c.Low, c.High = share(c.Hit, c.Of)
		list = append(list, c)
	}
	slices.SortStableFunc(list, func(a, b Condition) int { return cmp.Compare(b.Share, a.Share) })
	return list[:min(len(list), 4*mostOfOneKind)]
}

func nth(n int) string {
	ending := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			ending = "st"
		case 2:
			ending = "nd"
		case 3:
			ending = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, ending)
}

// examples plays the soonest example of each signature again, with recording.
func (r *Result) examples(ctx context.Context, o Options) error {
	for i := range r.Signatures {
		if i == mostExamples || ctx.Err() != nil {
			return nil
		}
		s := &r.Signatures[i]
		p := *o.Plan
		p.Seed = s.Example.Seed
		options := o.Wall
		folder := filepath.Join(o.Folder, "examples", fmt.Sprintf("%s-seed%d", s.Kind, p.Seed))
		options.Folder = folder
		match, err := playDrawn(ctx, &p, options)
		if errors.Is(err, runfolder.ErrExists) { // of before it was gone on with, or of another signature in the same match
			s.Example.Folder, s.Example.Same = folder, true
			continue
		}
		if err != nil {
			return err
		}
		s.Example.Folder = folder
		for _, f := range match.Found {
			s.Example.Same = s.Example.Same || f.Signature == s.Signature
		}
	}
	return nil
}
