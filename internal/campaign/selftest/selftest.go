// Package selftest measures the judge: it plays the demo game with and without
// injected faults, on many links and seeds, and counts what was found, how it
// was named, and what was flagged although nothing was wrong. Whether a fault
// showed itself at all is told by a witness inside the game.
package selftest

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/verdict/judge"
)

// Links are the links of a self-test, from clean to terrible.
var Links = []string{"same-room", "village", "hill-farm", "train-window", "far-shore", "lost-valley"}

// Healthy is the name of the game without a fault.
const healthy = "healthy"

// Options say what is tried.
type Options struct {
	Faults   []string    // names, Healthy among them; nil means all
	Links    []string    // nil means Links
	Seeds    int         // of each fault on each link
	Matches  int         // of the healthy game, in all; 0 means Seeds on each link
	Crew     played.Crew // who plays; nil is this process
	Progress func(done, all int)
}

// Row is what came of one fault, or of the healthy game.
type Row struct {
	Fault    string       `json:"fault"`
	Expected []judge.Kind `json:"expected"`
	Matches  int          `json:"matches"`
	Showed   int          `json:"showed"` // matches in which it showed itself
	Found    int          `json:"found"`  // of those, flagged
	Named    int          `json:"named"`  // of those, with a finding of an expected kind
	First    int          `json:"first"`  // of those, with an expected kind at the head of the first incident
	Unshown  int          `json:"found_without_showing"`
	Alarms   int          `json:"false_alarms"` // matches flagged though nothing is wrong
	Compared int          `json:"comparisons"`

	Signatures []string `json:"signatures"` // that matches in which it showed are known by; one mistake should have one

	Oddities []Oddity `json:"oddities"` // matches worth looking at

	found []played.Match
}

// Oddity is a match that did not go as it should have.
type Oddity struct {
	Link string `json:"link"`
	Seed int    `json:"seed"`
	What string `json:"what"`
}

const oddities = 12 // kept of each row

// cell is one match of a self-test.
type cell struct {
	row  int
	link string
	seed int
}

// Check says what is wrong with options, before anything is played.
func (o Options) Check() error {
	_, _, err := layout(o)
	return err
}

// Run plays a self-test. It returns what there is when ctx is done.
func Run(ctx context.Context, o Options) ([]Row, error) {
	if o.Links == nil {
		o.Links = Links
	}
	if o.Crew == nil {
		o.Crew = played.Here{}
	}
	rows, cells, err := layout(o)
	if err != nil {
		return nil, err
	}
	came := make([]*played.Witnessed, len(cells))
	var lock sync.Mutex
	done := 0
	failed := campaign.EachWithin(ctx, func() int { return o.Crew.AtOnce(false) }, campaign.Numbers(len(cells)), func(i int) error {
		c := cells[i]
		p, err := planOf(rows[c.row].Fault, c.link, c.seed)
		if err != nil {
			return err
		}
		w, err := o.Crew.Witness(ctx, p)
		if ctx.Err() != nil {
			return nil // one that was cut off has not happened
		}
		if err != nil {
			return fmt.Errorf("%s, seed %d on %s: %w", rows[c.row].Fault, c.seed, c.link, err)
		}
		lock.Lock()
		defer lock.Unlock()
		came[i] = &w
		if done++; o.Progress != nil {
			o.Progress(done, len(cells))
		}
		return nil
	})
	for i, w := range came {
		if w != nil {
			rows[cells[i].row].add(cells[i], *w)
		}
	}
	for i := range rows {
		rows[i].Signatures = signatures(rows[i].found)
		slices.SortStableFunc(rows[i].Oddities, func(a, b Oddity) int {
			return 1000*(slices.Index(o.Links, a.Link)-slices.Index(o.Links, b.Link)) + a.Seed - b.Seed
		})
		rows[i].Oddities = rows[i].Oddities[:min(oddities, len(rows[i].Oddities))]
	}
	return rows, failed
}

// layout lists what is to be played.
func layout(o Options) (rows []Row, cells []cell, err error) {
	if o.Links == nil {
		o.Links = Links
	}
	wanted := func(name string) bool { return o.Faults == nil || slices.Contains(o.Faults, name) }
	if wanted(healthy) {
		rows = append(rows, Row{Fault: healthy})
	}
	for _, f := range hillfold.AllFaults {
		if wanted(f.Name) {
			rows = append(rows, Row{Fault: f.Name, Expected: expected[f.Name]})
		}
	}
	for _, name := range o.Faults {
		if !slices.ContainsFunc(rows, func(r Row) bool { return r.Fault == name }) {
			_, err := hillfold.ParseFaults([]string{name})
			return nil, nil, err
		}
	}
	for i := range rows {
		seeds := o.Seeds
		if rows[i].Fault == healthy && o.Matches > 0 {
			seeds = (o.Matches + len(o.Links) - 1) / len(o.Links)
		}
		for seed := range seeds {
			for _, link := range o.Links {
				cells = append(cells, cell{i, link, seed})
			}
		}
	}
	return rows, cells, nil
}

// signatures are those of the causes that were found in matches.
func signatures(matches []played.Match) []string {
	list := []string{}
	for _, m := range hunt.CausesIn(matches).Told(matches) {
		for _, f := range m.Found {
			if !slices.Contains(list, f.Signature) {
				list = append(list, f.Signature)
			}
		}
	}
	slices.Sort(list)
	return list
}

func (row *Row) add(c cell, w played.Witnessed) {
	odd := func(format string, args ...any) {
		row.Oddities = append(row.Oddities, Oddity{c.link, c.seed, fmt.Sprintf(format, args...)})
	}
	row.Matches++
	row.Compared += w.Compared
	flagged := len(w.Kinds) > 0
	for _, what := range w.Odd {
		odd("%s", what)
	}
	if len(row.Expected) == 0 {
		if flagged {
			row.Alarms++
			odd("flagged: %s", w.First)
		}
		return
	}
	if !w.Showed {
		if flagged {
			row.Unshown++
		}
		return
	}
	row.Showed++
	row.found = append(row.found, played.Match{Found: w.Heads})
	if !flagged {
		odd("not found")
		return
	}
	row.Found++
	named := slices.ContainsFunc(w.Kinds, func(k judge.Kind) bool { return slices.Contains(row.Expected, k) })
	if named {
		row.Named++
	}
	head := w.Heads[0].Kind
	if slices.Contains(row.Expected, head) {
		row.First++
	}
	if !named {
		odd("named %s", w.First)
	} else if !slices.Contains(row.Expected, head) {
		odd("first is %s", head)
	}
}
