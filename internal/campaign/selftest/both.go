package selftest

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

// Pair is one match of a self-test, played on both clocks from the same plan.
type Pair struct {
	Fault    string       `json:"fault"`
	Link     string       `json:"link"`
	Seed     int          `json:"seed"`
	Expected []judge.Kind `json:"expected"` // kinds; none for a control or the healthy game
	Showed   bool         `json:"showed"`   // itself, on the virtual clock; nobody sees into processes
	Virtual  Side         `json:"virtual"`
	Real     Side         `json:"real"`
}

// Side is what came of a match on one of the clocks.
type Side struct {
	Kinds     []judge.Kind `json:"kinds"`            // found, the head of the first incident first
	Named     bool         `json:"named"`            // one of them is expected
	Compared  int          `json:"comparisons"`      //
	Failed    string       `json:"failed,omitempty"` // why it could not be played
	Untrusted string       `json:"untrusted,omitempty"`
}

// realAtOnce is how many matches are played at once on the wall clock: their
// processes wait most of the time.
const realAtOnce = 5

// Both plays every match of a self-test on the virtual and on the wall clock. options
// are those that a match on the wall clock needs; its folders are temporary. It
// returns what there is when ctx is done.
func Both(ctx context.Context, o Options, options match.Options) ([]Pair, error) {
	if o.Links == nil {
		o.Links = Links
	}
	rows, cells, err := layout(o)
	if err != nil {
		return nil, err
	}
	pairs := make([]Pair, len(cells))
	var lock sync.Mutex
	done := 0
	failed := campaign.Each(ctx, realAtOnce, campaign.Numbers(len(cells)), func(i int) error {
		c := cells[i]
		p, err := both(ctx, rows[c.row], c, options)
		lock.Lock()
		defer lock.Unlock()
		pairs[i] = p
		if done++; o.Progress != nil {
			o.Progress(done, len(cells))
		}
		return err
	})
	if ctx.Err() != nil {
		failed = nil
	}
	return slices.DeleteFunc(pairs, func(p Pair) bool { return p.Fault == "" }), failed
}

func both(ctx context.Context, row Row, c cell, options match.Options) (Pair, error) {
	first, err := planOf(row.Fault, c.link, c.seed)
	if err != nil {
		return Pair{}, err
	}
	seen, showed, err := played.Look(ctx, first)
	if err != nil {
		return Pair{}, err
	}
	p := Pair{Fault: row.Fault, Link: c.link, Seed: c.seed, Expected: row.Expected, Showed: showed, Virtual: sideOf(seen, row.Expected)}
	again, err := planOf(row.Fault, c.link, c.seed)
	if err != nil {
		return Pair{}, err
	}
	again.Clock = plan.Wall
	folder, err := os.MkdirTemp("", "zwheel-selftest-")
	if err != nil {
		return Pair{}, err
	}
	defer os.RemoveAll(folder)
	options.Folder = filepath.Join(folder, "run")
	r, err := match.Run(ctx, again, options)
	if err != nil || r.Ending.How == ending.Interrupted {
		return Pair{}, err
	}
	p.Real = sideOf(r, row.Expected)
	return p, nil
}

func sideOf(r *match.Result, expected []judge.Kind) Side {
	s := Side{Kinds: []judge.Kind{}, Failed: r.Ending.Why}
	if r.Measures != nil {
		s.Untrusted = r.Measures.Timing.Distrust()
	}
	if r.Verdict == nil {
		return s
	}
	s.Compared = r.Verdict.Comparisons
	add := func(kind judge.Kind) {
		if !slices.Contains(s.Kinds, kind) {
			s.Kinds = append(s.Kinds, kind)
			s.Named = s.Named || slices.Contains(expected, kind)
		}
	}
	for _, incident := range r.Verdict.Incidents {
		add(incident.Kind)
	}
	for _, f := range r.Verdict.Findings {
		add(f.Kind)
	}
	return s
}
