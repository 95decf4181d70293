// Package hunt plays a match again and again with different seeds, and gathers what
// goes wrong by signature: how often, in which seeds, for whom, and under what
// conditions more often than elsewhere. Nothing is recorded of a match but a line in
// a journal; the shortest example of each signature is played again with recording.
//
// It knows plans and how to have one played, and nothing of how results are shown.
package hunt

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/stats"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/rulebook"
)

// Options say what is hunted, and for how long: until one of the ends that are given
// is reached.
type Options struct {
	Plan       *plan.Plan
	Folder     string          // for the journal, the result and the examples; "" leaves nothing behind
	Resume     bool            // go on with the journal that is there
	First      uint64          // seed of the first match; the others follow it
	Times      int             // matches in all; 0 means no such end
	For        time.Duration   // 0 means no such end
	UntilFound int             // matches in which something was found; 0 means no such end
	Crew       played.Crew     // who plays; nil is this process
	Rules      *rulebook.Rules // of a plan without any; nil learns them from the first match
	Progress   func(Progress)
}

// Progress is how far a hunt is.
type Progress struct {
	Matches, Found, Failed int
	Of                     int // Times, or 0
	Now                    int // matches since it was begun or resumed
	Took                   time.Duration
}

// Result is what came of a hunt. Its JSON is hunt.json.
type Result struct {
	Title      string      `json:"title"`
	First      uint64      `json:"first_seed"`
	Matches    int         `json:"matches"`
	InSync     int         `json:"in_sync"`
	Failed     []Failure   `json:"failed"`
	Signatures []Signature `json:"signatures"` // the most frequent first
	Stopped    bool        `json:"interrupted"`
	Learned    int         `json:"learned_rules,omitempty"` // by which all were judged, because the plan has none: from its first match

	Rules  *rulebook.Rules `json:"-"` // those that were learned
	Played []played.Match  `json:"-"` // of a hunt that has no folder: in order of their seeds
}

// Failure is a match that could not be played.
type Failure struct {
	Seed uint64 `json:"seed"`
	Why  string `json:"why"`
}

// ErrJournal is the error of a journal that is there and is not to be resumed.
var ErrJournal = errors.New("a hunt's journal is there already")

// Errors of a journal that is not of the matches that are asked for.
var (
	ErrOther = errors.New("the journal is of another plan or another first seed, or another version of this program began it")
	ErrBuild = errors.New("the build has changed since this hunt was begun, and matches of two builds are not mixed")
)

// Run hunts. When ctx is done, or an end is reached, it sums up what there is.
func Run(ctx context.Context, o Options) (*Result, error) {
	if o.Crew == nil {
		o.Crew = played.Here{}
	}
	j, err := openJournal(o)
	if err != nil {
		return nil, err
	}
	learned, err := o.learn(ctx)
	if err != nil {
		return nil, errors.Join(err, j.close())
	}
	if err := errors.Join(j.hunt(ctx, o), j.close()); err != nil {
		return nil, err
	}
	row := rowOf(o)
	if o.UntilFound > 0 {
		if err := j.each(row.add); err != nil {
			return nil, err
		}
	}
	each := func(match func(played.Match)) error {
		return j.each(func(m played.Match) {
			if row.within(m.Seed) {
				match(m)
			}
		})
	}
	share := interval(stats.Wilson)
	if o.UntilFound > 0 { // how many were played follows from what was found
		share = stats.ClopperPearson
	}
	r, err := sumUp(o.Plan, o.First, share, each)
	if err != nil {
		return nil, err
	}
	if learned > 0 {
		r.Rules = &o.Plan.Rules
	}
	r.Stopped, r.Learned = ctx.Err() != nil, learned
	if o.Folder == "" {
		err := each(func(m played.Match) { r.Played = append(r.Played, m) })
		slices.SortFunc(r.Played, func(a, b played.Match) int { return cmp.Compare(a.Seed, b.Seed) })
		return r, err
	}
	if err := r.examples(ctx, o); err != nil {
		return nil, err
	}
	return r, atomicfile.JSON(filepath.Join(o.Folder, "hunt.json"), r)
}

// hunt plays the matches that are missing.
func (j *journal) hunt(ctx context.Context, o Options) error {
	began := time.Now()
	var lock sync.Mutex
	found, failures := 0, 0
	row := rowOf(o)
	if err := j.each(func(m played.Match) { count(m, &found, &failures); row.add(m) }); err != nil {
		return err
	}
	before := len(j.played)
	missing := func(yield func(uint64) bool) {
		for n := uint64(0); o.Times == 0 || n < uint64(o.Times); n++ {
			seed := o.First + n
			lock.Lock()
			played := j.played[seed]
			ended := o.Times > 0 && len(j.played) >= o.Times || row.complete() || o.For > 0 && time.Since(began) >= o.For
			lock.Unlock()
			if ended || !played && !yield(seed) {
				return
			}
		}
	}
	return campaign.EachWithin(ctx, func() int { return o.Crew.AtOnce(o.Plan.Clock == plan.Wall) }, missing, func(seed uint64) error {
		p := *o.Plan
		p.Seed = seed
		m, err := o.Crew.Play(ctx, &p)
		lock.Lock()
		defer lock.Unlock()
		if ctx.Err() != nil {
			return nil // one that was cut off has not happened
		}
		if err == nil {
			err = j.add(m)
		}
		count(m, &found, &failures)
		row.add(m)
		if o.Progress != nil {
			o.Progress(Progress{len(j.played), found, failures, o.Times, len(j.played) - before, time.Since(began)})
		}
		return err
	})
}

// row tells when enough was found, in order of seeds and whatever the order in which matches end: so a hunt until something was
// found is of the same matches wherever they are played.
type row struct {
	next   uint64          // the first seed that has not been played
	beyond map[uint64]bool // seeds after it that have, and whether something was found there
	wanted int             // 0 is no such end
	found  int             // before next
	last   uint64          // the seed with which there was enough
}

func rowOf(o Options) *row {
	return &row{next: o.First, beyond: map[uint64]bool{}, wanted: o.UntilFound}
}

func (r *row) add(m played.Match) {
	r.beyond[m.Seed] = len(m.Found) > 0
	for !r.complete() {
		hit, played := r.beyond[r.next]
		if !played {
			return
		}
		delete(r.beyond, r.next)
		if hit {
			r.found, r.last = r.found+1, r.next
		}
		r.next++
	}
}

func (r *row) complete() bool { return r.wanted > 0 && r.found >= r.wanted }

// within reports whether a match counts: those after enough was found do not.
func (r *row) within(seed uint64) bool { return !r.complete() || seed <= r.last }

func count(m played.Match, found, failures *int) {
	if len(m.Found) > 0 {
		*found++
	}
	if m.Verdict == played.Failed {
		*failures++
	}
}
