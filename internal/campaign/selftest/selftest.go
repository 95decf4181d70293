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
	"zitherwheel/internal/match"
	"zitherwheel/internal/verdict/judge"
)

// Links are the links of a self-test, from clean to terrible.
var Links = []string{"same-room", "village", "hill-farm", "train-window", "far-shore", "lost-valley"}

// Healthy is the name of the game without a fault.
const healthy = "healthy"

// Options say what is tried.
type Options struct {
	Faults   []string // names, Healthy among them; nil means all
	Links    []string // nil means Links
	Seeds    int      // of each fault on each link
	Matches  int      // of the healthy game, in all; 0 means Seeds on each link
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

// Run plays a self-test on all cores. It returns what there is when ctx is done.
func Run(ctx context.Context, o Options) ([]Row, error) {
	if o.Links == nil {
		o.Links = Links
	}
	rows, cells, err := layout(o)
	if err != nil {
		return nil, err
	}
	var lock sync.Mutex
	done := 0
	failed := campaign.Each(ctx, campaign.AtOnce(0, false), slices.Values(cells), func(c cell) error {
		result, err := play(ctx, rows[c.row].Fault, c)
		lock.Lock()
		defer lock.Unlock()
		if err == nil && ctx.Err() == nil {
			rows[c.row].add(c, result)
		}
		if done++; o.Progress != nil {
			o.Progress(done, len(cells))
		}
		return err
	})
	for i := range rows {
		rows[i].Signatures = signatures(rows[i].found)
		slices.SortFunc(rows[i].Oddities, func(a, b Oddity) int {
			return 1000*(slices.Index(o.Links, a.Link)-slices.Index(o.Links, b.Link)) + a.Seed - b.Seed
		})
		rows[i].Oddities = rows[i].Oddities[:min(oddities, len(rows[i].Oddities))]
	}
	return rows, failed
}

// layout lists what is to be played.
func layout(o Options) (rows []Row, cells []cell, err error) {
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

// outcome is what came of one match.
type outcome struct {
	showed   bool
	result   *match.Result
	expected []judge.Kind
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

func play(ctx context.Context, fault string, c cell) (outcome, error) {
	p, err := planOf(fault, c.link, c.seed)
	if err != nil {
		return outcome{}, err
	}
	info := hillfold.FaultInfo{}
	for _, f := range hillfold.AllFaults {
		if f.Name == fault {
			info = f
		}
	}
	witness := hillfold.NewWitness(info.Fault)
	r, err := match.Run(ctx, p, match.Options{Look: witness.Look})
	return outcome{witness.Showed(), r, expected[fault]}, err
}

func (row *Row) add(c cell, o outcome) {
	odd := func(format string, args ...any) {
		row.Oddities = append(row.Oddities, Oddity{c.link, c.seed, fmt.Sprintf(format, args...)})
	}
	v := o.result.Verdict
	row.Matches++
	row.Compared += v.Comparisons
	flagged := len(v.Findings) > 0
	if o.result.Malformed > 0 {
		odd("%d malformed packets", o.result.Malformed)
	}
	if len(o.result.NeverIn) > 0 {
		odd("never in: %v", o.result.NeverIn)
	}
	if len(o.expected) == 0 {
		if flagged {
			row.Alarms++
			odd("flagged: %s: %s", v.Findings[0].Signature, v.Findings[0].Why)
		}
		return
	}
	if !o.showed {
		if flagged {
			row.Unshown++
		}
		return
	}
	row.Showed++
	row.found = append(row.found, played.Match{Found: played.Heads(v)})
	if !flagged {
		odd("not found")
		return
	}
	row.Found++
	named := false
	for _, f := range v.Findings {
		named = named || slices.Contains(o.expected, f.Kind)
	}
	if named {
		row.Named++
	}
	head := v.Incidents[0].Kind
	if slices.Contains(o.expected, head) {
		row.First++
	}
	if !named {
		odd("named %s: %s", v.Findings[0].Signature, v.Findings[0].Why)
	} else if !slices.Contains(o.expected, head) {
		odd("first is %s", v.Incidents[0].Kind)
	}
}
