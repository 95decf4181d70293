package hunt

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// Signature is one thing that goes wrong, over all matches of a hunt.
type Signature struct {
	Signature  string      `json:"signature"`
	Kind       judge.Kind  `json:"kind"`
	Matches    int         `json:"matches"` // in which it was found
	Share      float64     `json:"share"`
	Low        float64     `json:"share_low"`      // of the true share, with 95% confidence
	High       float64     `json:"share_high"`     //
	Seeds      []uint64    `json:"seeds"`          // the first of them
	Also       []string    `json:"also,omitempty"` // other heads of the same cause
	Conditions []Condition `json:"conditions"`     // what it is more frequent with stands first
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

// Example is the match in which it showed earliest, which was played again with
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

// interval is a share and what it may be.
type interval func(k, n int) (p, low, high float64)

// sumUp gathers matches by signature. each hands them on, in no order, and may be called several times.
func sumUp(p *plan.Plan, first uint64, share interval, each func(func(played.Match)) error) (*Result, error) {
	r := &Result{Title: p.Title, First: first, Failed: []Failure{}, Signatures: []Signature{}}
	by := map[string]*Signature{}
	playable := 0
	var losses, delays []float64
	causes, err := CausesOf(each)
	if err != nil {
		return nil, err
	}
	err = each(func(m played.Match) {
		r.Matches++
		if m.Verdict == played.Failed {
			r.Failed = append(r.Failed, Failure{m.Seed, m.Why})
			return
		}
		if judge.Outcome(m.Verdict).Passed() {
			r.InSync++
		}
		playable++
		for _, p := range m.Players {
			losses, delays = append(losses, p.Loss), append(delays, p.Delay)
		}
		seen := map[string]bool{}
		for _, f := range m.Found {
			head := f.Signature
			f.Signature = causes.Of(head)
			s := by[f.Signature]
			if s == nil {
				s = &Signature{Signature: f.Signature, Example: Example{Seed: m.Seed, Began: f.Began}}
				by[f.Signature] = s
			}
			if head == f.Signature {
				s.Kind = f.Kind
			} else if !slices.Contains(s.Also, head) {
				s.Also = append(s.Also, head)
			}
			if f.Began < s.Example.Began || f.Began == s.Example.Began && m.Seed < s.Example.Seed {
				s.Example = Example{Seed: m.Seed, Began: f.Began}
			}
			if !seen[f.Signature] {
				seen[f.Signature] = true
				s.Matches++
				s.Seeds = append(s.Seeds, m.Seed)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(r.Failed, func(a, b Failure) int { return cmp.Compare(a.Seed, b.Seed) })
	counts := newTallies(middle(losses), middle(delays))
	if err := each(func(m played.Match) { counts.add(causes.told(m)) }); err != nil {
		return nil, err
	}
	for name, s := range by {
		s.Share, s.Low, s.High = share(s.Matches, playable)
		slices.Sort(s.Seeds)
		slices.Sort(s.Also)
		s.Seeds = s.Seeds[:min(len(s.Seeds), seedsKept)]
		s.Conditions = counts.of(name, share)
		r.Signatures = append(r.Signatures, *s)
	}
	slices.SortFunc(r.Signatures, func(a, b Signature) int {
		return cmp.Or(cmp.Compare(b.Matches, a.Matches), cmp.Compare(a.Signature, b.Signature))
	})
	return r, nil
}

// tallies counts for each condition how many players were under it, and how many of
// them each signature hit first.
type tallies struct {
	loss, delay float64 // medians over all players, at which they are parted
	players     map[string]int
	hit         map[string]map[string]int // by signature
}

func newTallies(loss, delay float64) *tallies {
	return &tallies{loss, delay, map[string]int{}, map[string]map[string]int{}}
}

func (t *tallies) add(m played.Match) {
	if m.Verdict == played.Failed {
		return
	}
	hit := map[string]map[string]bool{} // by player, the signatures
	for _, f := range m.Found {
		if hit[f.View] == nil {
			hit[f.View] = map[string]bool{}
		}
		hit[f.View][f.Signature] = true
	}
	for _, p := range m.Players {
		for _, condition := range t.conditions(m, p) {
			t.players[condition]++
			for signature := range hit[p.Name] {
				if t.hit[signature] == nil {
					t.hit[signature] = map[string]int{}
				}
				t.hit[signature][condition]++
			}
		}
	}
}

// conditions are those under which a player played.
func (t *tallies) conditions(m played.Match, p played.Player) []string {
	lost := fmt.Sprintf("lost at most %.1f%%", 100*t.loss)
	switch {
	case t.loss == 0 && p.Loss == 0:
		lost = "lost no packet"
	case t.loss == 0:
		lost = "lost packets"
	case p.Loss > t.loss:
		lost = fmt.Sprintf("lost more than %.1f%%", 100*t.loss)
	}
	late := fmt.Sprintf("had at most %.0f ms of delay", t.delay)
	if p.Delay > t.delay {
		late = fmt.Sprintf("had more than %.0f ms of delay", t.delay)
	}
	list := []string{"joined " + nth(p.Order), "on link " + p.Link, "is " + p.Name, lost, late}
	if p.Host {
		list = append(list, "is the host")
	}
	for _, drawn := range m.Drawn {
		list = append(list, "in matches with "+drawn)
	}
	return list
}

// of are the conditions of a signature, those that it is more frequent with first.
func (t *tallies) of(signature string, share interval) (list []Condition) {
	for what, of := range t.players {
		c := Condition{What: what, Hit: t.hit[signature][what], Of: of}
		c.Share, c.Low, c.High = share(c.Hit, c.Of)
		list = append(list, c)
	}
	slices.SortFunc(list, func(a, b Condition) int {
		return cmp.Or(cmp.Compare(b.Share, a.Share), cmp.Compare(a.What, b.What))
	})
	return list[:min(len(list), 4*mostOfOneKind)]
}

// middle is the median.
func middle(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	slices.Sort(values)
	return values[len(values)/2]
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

// examples plays the earliest example of each signature again, with recording.
func (r *Result) examples(ctx context.Context, o Options) error {
	for i := range r.Signatures {
		if i == mostExamples || ctx.Err() != nil {
			return nil
		}
		s := &r.Signatures[i]
		p := *o.Plan
		p.Seed = s.Example.Seed
		folder := filepath.Join(o.Folder, "examples", fmt.Sprintf("%s-seed%d", s.Kind, p.Seed))
		match, err := recordExample(ctx, &p, folder, o.Crew)
		if err != nil {
			return err
		}
		s.Example.Folder = folder
		for _, f := range match.Found {
			s.Example.Same = s.Example.Same || f.Signature == s.Signature || slices.Contains(s.Also, f.Signature)
		}
	}
	return nil
}

// recordExample plays a match with recording, unless it was recorded to its end before:
// by the hunt that is resumed, or for another signature in the same match.
func recordExample(ctx context.Context, p *plan.Plan, folder string, crew played.Crew) (played.Match, error) {
	run, err := run.Open(folder)
	if err == nil && run.About.Well() {
		match, _, err := played.Recorded(ctx, run)
		return match, err
	}
	if err == nil { // whoever recorded it was killed
		if err := os.RemoveAll(folder); err != nil {
			return played.Match{}, err
		}
	}
	return crew.Record(ctx, p, folder)
}
