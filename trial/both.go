package trial

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"zitherwheel/ending"
	"zitherwheel/plan"
	"zitherwheel/stage"
)

// Pair is one match of a trial, played on both clocks from the same plan.
type Pair struct {
	Fault    string   `json:"fault"`
	Link     string   `json:"link"`
	Seed     int      `json:"seed"`
	Expected []string `json:"expected"` // kinds; none for a decoy or the healthy game
	Showed   bool     `json:"showed"`   // itself, on the virtual clock; nobody sees into processes
	Virtual  Side     `json:"virtual"`
	Real     Side     `json:"real"`
}

// Side is what came of a match on one of the clocks.
type Side struct {
	Kinds     []string `json:"kinds"`            // found, the head of the first incident first
	Named     bool     `json:"named"`            // one of them is expected
	Compared  int      `json:"comparisons"`      //
	Failed    string   `json:"failed,omitempty"` // why it could not be played
	Untrusted string   `json:"untrusted,omitempty"`
}

// realAtOnce is how many matches are played at once on the wall clock: their
// processes wait most of the time.
const realAtOnce = 5

// Both plays every match of a trial on the virtual and on the wall clock. options
// are those that a match on the wall clock needs; its folders are temporary. It
// returns what there is when ctx is done.
func Both(ctx context.Context, o Options, options stage.Options) ([]Pair, error) {
	if o.Links == nil {
		o.Links = Links
	}
	rows, cells, err := layout(o)
	if err != nil {
		return nil, err
	}
	pairs := make([]Pair, len(cells))
	next := make(chan int)
	var workers sync.WaitGroup
	var lock sync.Mutex
	var failed error
	done := 0
	for range realAtOnce {
		workers.Go(func() {
			for i := range next {
				c := cells[i]
				p, err := both(ctx, rows[c.row], c, options)
				lock.Lock()
				pairs[i] = p
				if failed == nil {
					failed = err
				}
				if done++; o.Progress != nil {
					o.Progress(done, len(cells))
				}
				lock.Unlock()
			}
		})
	}
	for i := range cells {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	workers.Wait()
	if ctx.Err() != nil {
		failed = nil
	}
	return slices.DeleteFunc(pairs, func(p Pair) bool { return p.Fault == "" }), failed
}

func both(ctx context.Context, row Row, c cell, options stage.Options) (Pair, error) {
	outcome, err := play(ctx, row.Fault, c)
	if err != nil {
		return Pair{}, err
	}
	p := Pair{Fault: row.Fault, Link: c.link, Seed: c.seed, Expected: row.Expected, Showed: outcome.showed, Virtual: sideOf(outcome.result, row.Expected)}
	again, err := Plan(row.Fault, c.link, c.seed)
	if err != nil {
		return Pair{}, err
	}
	again.Clock = plan.Wall
	folder, err := os.MkdirTemp("", "zwheel-trial-")
	if err != nil {
		return Pair{}, err
	}
	defer os.RemoveAll(folder)
	options.Folder = filepath.Join(folder, "run")
	r, err := stage.Run(ctx, again, options)
	if err != nil || r.Ending.How == ending.Interrupted {
		return Pair{}, err
	}
	p.Real = sideOf(r, row.Expected)
	return p, nil
}

func sideOf(r *stage.Result, expected []string) Side {
	s := Side{Kinds: []string{}, Failed: r.Ending.Why}
	if r.Measures != nil {
		s.Untrusted = r.Measures.Timing.Distrust()
	}
	if r.Verdict == nil {
		return s
	}
	s.Compared = r.Verdict.Comparisons
	add := func(kind string) {
		if !slices.Contains(s.Kinds, kind) {
			s.Kinds = append(s.Kinds, kind)
			s.Named = s.Named || slices.Contains(expected, kind)
		}
	}
	for _, incident := range r.Verdict.Incidents {
		add(string(incident.Kind))
	}
	for _, f := range r.Verdict.Findings {
		add(string(f.Kind))
	}
	return s
}
