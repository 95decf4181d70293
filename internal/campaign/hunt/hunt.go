// Package hunt plays a match again and again with different seeds, and gathers what
// goes wrong by signature: how often, in which seeds, for whom, and under what
// conditions more often than elsewhere. Nothing is recorded of a match but a line in
// a journal; the shortest example of each signature is played again with recording.
//
// It knows plans and how to have one played, and nothing of how results are shown.
package hunt

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"
	"zitherwheel/internal/campaign"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

// Options say what is hunted, and for how long: until one of the ends that are given
// is reached.
type Options struct {
	Plan       *plan.Plan
	Folder     string        // for the journal, the result and the examples; "" leaves nothing behind
	Resume     bool          // go on with the journal that is there
	First      uint64        // seed of the first match; the others follow it
	Times      int           // matches in all; 0 means no such end
	For        time.Duration // 0 means no such end
	UntilFound int           // matches in which something was found; 0 means no such end
	Workers    int           // matches at once; 0 means one for each core, or on the wall clock two
	Wall       match.Options // what a match on the wall clock needs
	Progress   func(Progress)
}

// Progress is how far a hunt is.
type Progress struct {
	Matches, Found, Failed int
	Of                     int // Times, or 0
	Now                    int // matches since it was begun or resumed
	Took                   time.Duration
}

// Match is what is kept of one match: a line of the journal.
type Match struct {
	Seed    uint64   `json:"seed"`
	Verdict string   `json:"verdict"` // as judge.Outcome has it, or Failed
	Why     string   `json:"why,omitempty"`
	Found   []Found  `json:"found,omitempty"` // the heads of incidents
	Logs    []string `json:"logs,omitempty"`  // what its programs logged of errors and warnings: see logs.Report.Signatures
	Players []Player `json:"players"`
	Drawn   []string `json:"drawn,omitempty"` // values of the plan that its seed drew

	Measures map[string]float64 `json:"measures,omitempty"` // by their names in limits: the worst of all views
}

// Failed is the verdict of a match that could not be played: a result of its own.
const Failed = "failed"

// Found is an incident, by its head.
type Found struct {
	Signature string        `json:"signature"`
	Kind      judge.Kind    `json:"kind"`
	View      string        `json:"view"`
	Entity    string        `json:"entity"`
	Began     judge.Seconds `json:"began_s"`
	Findings  int           `json:"findings"`
	Kin       []string      `json:"kin,omitempty"` // other signatures in the incident that may be of the same cause, as heads of other matches
}

// Player is under what conditions one player played.
type Player struct {
	Name  string  `json:"name"`
	Order int     `json:"order"` // in which it was to join, from 1
	Link  string  `json:"link"`
	Loss  float64 `json:"loss"`     // share of its packets, both ways
	Delay float64 `json:"delay_ms"` // of its packets, on average
	Host  bool    `json:"host,omitempty"`
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

	Played []Match `json:"-"` // of a hunt that has no folder: in order of their seeds
}

// Failure is a match that could not be played.
type Failure struct {
	Seed uint64 `json:"seed"`
	Why  string `json:"why"`
}

// ErrJournal is the error of a journal that is there and is not to be resumed.
var ErrJournal = errors.New("a hunt's journal is there already")

// ErrOther is the error of a journal that is of another plan.
var ErrOther = errors.New("the journal is of another plan or another first seed")

// Run hunts. When ctx is done, or an end is reached, it sums up what there is.
func Run(ctx context.Context, o Options) (*Result, error) {
	j, err := openJournal(o)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(j.hunt(ctx, o), j.close()); err != nil {
		return nil, err
	}
	r, err := sumUp(o.Plan, o.First, j)
	if err != nil {
		return nil, err
	}
	r.Stopped = ctx.Err() != nil
	if o.Folder == "" {
		return r, nil
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
	if err := j.each(func(m Match) { count(m, &found, &failures) }); err != nil {
		return err
	}
	before := len(j.played)
	missing := func(yield func(uint64) bool) {
		for n := uint64(0); o.Times == 0 || n < uint64(o.Times); n++ {
			seed := o.First + n
			lock.Lock()
			played := j.played[seed]
			ended := o.Times > 0 && len(j.played) >= o.Times || o.UntilFound > 0 && found >= o.UntilFound || o.For > 0 && time.Since(began) >= o.For
			lock.Unlock()
			if ended || !played && !yield(seed) {
				return
			}
		}
	}
	return campaign.Each(ctx, campaign.AtOnce(o.Workers, o.Plan.Clock == plan.Wall), missing, func(seed uint64) error {
		m, err := play(ctx, o, seed)
		lock.Lock()
		defer lock.Unlock()
		if ctx.Err() != nil {
			return nil // one that was cut off has not happened
		}
		if err == nil {
			err = j.add(m)
		}
		count(m, &found, &failures)
		if o.Progress != nil {
			o.Progress(Progress{len(j.played), found, failures, o.Times, len(j.played) - before, time.Since(began)})
		}
		return err
	})
}

func count(m Match, found, failures *int) {
	if len(m.Found) > 0 {
		*found++
	}
	if m.Verdict == Failed {
		*failures++
	}
}

// play plays one match without leaving anything behind.
func play(ctx context.Context, o Options, seed uint64) (Match, error) {
	p := *o.Plan
	p.Seed = seed
	return playDrawn(ctx, &p, o.Wall)
}

// playDrawn plays a match as its seed has it.
func playDrawn(ctx context.Context, p *plan.Plan, options match.Options) (Match, error) {
	drawn, values, err := p.Drawn()
	if err != nil {
		return Match{}, err
	}
	options.Logs = true
	r, err := match.Run(ctx, drawn, options)
	if err != nil {
		return Match{}, err
	}
	m := matchOf(drawn, r)
	for _, v := range values {
		m.Drawn = append(m.Drawn, v.Path+" "+v.Value)
	}
	return m, nil
}

func matchOf(p *plan.Plan, r *match.Result) Match {
	m := Match{Seed: p.Seed, Verdict: Failed, Players: players(p, r), Measures: headlines(r.Measures)}
	if r.Verdict.Outcome == judge.Inconclusive {
		m.Why = r.Verdict.NotWell()
		return m
	}
	m.Verdict, m.Found = string(r.Verdict.Outcome), Heads(r.Verdict)
	if r.Logs != nil {
		m.Logs = r.Logs.Signatures()
	}
	return m
}

// Heads are the incidents of a verdict.
func Heads(v *judge.Verdict) (list []Found) {
	for _, in := range v.Incidents {
		for _, f := range v.Findings {
			if f.ID == in.Head {
				list = append(list, Found{f.Signature, f.Kind, f.View, f.Entity, f.BeganAt, len(in.Findings), kin(f, in, v.Findings)})
			}
		}
	}
	return list
}

// headlines are the measures of a match by which matches are compared.
func headlines(m *metrics.Measures) map[string]float64 {
	if m == nil {
		return nil
	}
	return m.Worst()
}

// players says under what conditions each played.
func players(p *plan.Plan, r *match.Result) (list []Player) {
	for _, b := range p.Bots {
		one := Player{Name: b.Name, Order: 1, Link: b.Link, Host: b.Name == p.Game.Host}
		if one.Link == "" {
			one.Link = "perfect"
		}
		for _, other := range p.Bots {
			if joinsAt(other) < joinsAt(b) {
				one.Order++
			}
		}
		if r.Measures != nil {
			for _, v := range r.Measures.Views {
				if packets := v.Up.Packets + v.Down.Packets; v.Name == b.Name && packets > 0 {
					one.Loss = float64(v.Up.Lost+v.Down.Lost) / float64(packets)
					one.Delay = (v.Up.Delay*float64(v.Up.Packets-v.Up.Lost) + v.Down.Delay*float64(v.Down.Packets-v.Down.Lost)) / float64(max(1, packets-v.Up.Lost-v.Down.Lost))
				}
			}
		}
		list = append(list, one)
	}
	return list
}

// joinsAt is when a bot joins first.
func joinsAt(b plan.Bot) time.Duration {
	for _, s := range b.Steps {
		if s.Do == bot.Join {
			return s.At
		}
	}
	return 0
}
