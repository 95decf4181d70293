// Package suggest looks for the smallest changes of watch and event rules by which a run that
// is known to be healthy is in sync: which knob was wrong, and by how much. It judges the run
// again with one knob turned after the other, so what it says is what the judge says.
//
// It knows rules and verdicts, and how a run is judged; nothing of how results are shown.
package suggest

import (
	"context"
	"fmt"
	"maps"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Change is one knob of a rule, turned as little as it takes.
type Change struct {
	Rule     string   `json:"rule"` // "duck/* x, y" or "event quack"
	Knob     string   `json:"knob"` // as plans call it
	From     string   `json:"from"` // "" if it was not set
	To       string   `json:"to"`
	Explains []string `json:"explains"` // findings that are gone with this alone
	Of       int      `json:"of"`       // findings under the rule

	ratio float64 // how far it was turned
	turn  func(*rulebook.Rules)
}

// Advice is what can be said of a run that is out of sync by its rules.
type Advice struct {
	Findings int      `json:"findings"` // by the rules as they are
	Changes  []Change `json:"changes"`  // for each rule the smallest first
	Left     []string `json:"left"`     // findings that no knob explains
	InSync   bool     `json:"in_sync"`  // with the first change of each rule
	Hides    []Hidden `json:"hides"`    // what these would hide elsewhere
}

// Hidden is a finding of another run that the changed rules do not have.
type Hidden struct {
	Run     string `json:"run"`
	Finding string `json:"finding"`
	What    string `json:"what"` // its signature
}

// Other is a run in which something must be found.
type Other struct {
	Name   string
	Traces feed.Traces
}

// steps is in how many halvings, by ratio, the way to the most that a knob is turned is searched.
const steps = 7

// For looks for what to change so that a run is in sync, and what that would hide in others.
func For(ctx context.Context, traces feed.Traces, others []Other) (*Advice, error) {
	before, err := findings(ctx, traces, traces.Rules)
	if err != nil {
		return nil, err
	}
	a := &Advice{Findings: len(before), Changes: []Change{}, Left: []string{}, Hides: []Hidden{}}
	under := map[string][]*judge.Finding{}
	for _, f := range before {
		name := ruleOf(&traces.Rules, f)
		if name == "" {
			a.Left = append(a.Left, f.ID)
			continue
		}
		under[name] = append(under[name], f)
	}
	changed := copied(traces.Rules)
	for _, name := range slices.Sorted(maps.Keys(under)) {
		list, err := turns(ctx, traces, name, under[name])
		if err != nil {
			return nil, err
		}
		slices.SortStableFunc(list, func(a, b Change) int {
			if len(a.Explains) != len(b.Explains) {
				return len(b.Explains) - len(a.Explains)
			}
			return int(math.Copysign(1, a.ratio-b.ratio))
		})
		if len(list) == 0 || len(list[0].Explains) < len(under[name]) {
			explained := []string{}
			if len(list) > 0 {
				explained = list[0].Explains
			}
			for _, f := range under[name] {
				if !slices.Contains(explained, f.ID) {
					a.Left = append(a.Left, f.ID)
				}
			}
		}
		if len(list) > 0 {
			list[0].turn(&changed)
			a.Changes = append(a.Changes, list...)
		}
	}
	after, err := findings(ctx, traces, changed)
	if err != nil {
		return nil, err
	}
	a.InSync = len(after) == 0
	for _, other := range others {
		hidden, err := hides(ctx, other, traces.Rules, changed)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", other.Name, err)
		}
		a.Hides = append(a.Hides, hidden...)
	}
	return a, nil
}

// hides lists what rules find in a run and changed ones do not.
func hides(ctx context.Context, other Other, rules, changed rulebook.Rules) (list []Hidden, err error) {
	before, err := findings(ctx, other.Traces, rules)
	if err != nil {
		return nil, err
	}
	after, err := findings(ctx, other.Traces, changed)
	if err != nil {
		return nil, err
	}
	for _, f := range before {
		same := func(g *judge.Finding) bool {
			return g.View == f.View && g.Entity == f.Entity && g.Subject == f.Subject
		}
		if !slices.ContainsFunc(after, same) {
			list = append(list, Hidden{other.Name, f.ID, f.Signature})
		}
	}
	return list, nil
}

func findings(ctx context.Context, traces feed.Traces, rules rulebook.Rules) ([]*judge.Finding, error) {
	traces.Rules = copied(rules)
	result, err := feed.Judge(ctx, traces)
	if err != nil {
		return nil, err
	}
	return result.Verdict.Findings, nil
}

// copied are rules that can be changed without changing those.
func copied(r rulebook.Rules) rulebook.Rules {
	r.Fields, r.Events = slices.Clone(r.Fields), slices.Clone(r.Events)
	return r
}

// ruleOf names the rule that a finding is under, or is "" if that has no knobs.
func ruleOf(rules *rulebook.Rules, f *judge.Finding) string {
	switch f.Subject.About {
	case judge.AboutFields:
		if i := fieldRule(rules, f); i >= 0 && !f.Invariant && !f.Ticks {
			return rules.Fields[i].Name()
		}
	case judge.AboutEvent:
		if i := eventRule(rules, f); i >= 0 {
			return "event " + rules.Events[i].Event
		}
	}
	return ""
}

func fieldRule(rules *rulebook.Rules, f *judge.Finding) int {
	field, _, _ := strings.Cut(f.Subject.Name, ", ")
	return rulebook.Find(rules.Fields, f.Entity, f.Own, field)
}

func eventRule(rules *rulebook.Rules, f *judge.Finding) int {
	return slices.IndexFunc(rules.Events, func(r rulebook.EventRule) bool {
		fits, err := path.Match(r.Event, f.Subject.Name) // the rules were checked
		return fits && err == nil
	})
}

// knob is a number of a rule that can be turned.
type knob struct {
	name  string
	value float64         // as it is
	from  float64         // where turning begins
	most  float64         // and ends
	set   func(v float64) // in the rules that are tried
	text  func(v float64) string
}

// turns are the knobs of a rule that explain some of its findings, each turned as little as explains as many as
// it can.
func turns(ctx context.Context, traces feed.Traces, rule string, list []*judge.Finding) (changes []Change, err error) {
	for n := range len(knobs(&traces.Rules, list[0])) {
		try := func(v float64) ([]string, error) {
			rules := copied(traces.Rules)
			knobs(&rules, list[0])[n].set(v)
			after, err := findings(ctx, traces, rules)
			if err != nil {
				return nil, err
			}
			return gone(list, after), nil
		}
		k := knobs(&traces.Rules, list[0])[n]
		best, err := try(k.most)
		if err != nil {
			return nil, err
		}
		if len(best) == 0 {
			continue
		}
		low, high := k.from, k.most
		for range steps {
			middle := math.Sqrt(low * high)
			explained, err := try(middle)
			if err != nil {
				return nil, err
			}
			if len(explained) == len(best) {
				high, best = middle, explained
			} else {
				low = middle
			}
		}
		to := high
		c := Change{Rule: rule, Knob: k.name, To: k.text(to), Explains: best, Of: len(list), ratio: to / k.from}
		if k.value > 0 {
			c.From = k.text(k.value)
		}
		c.turn = func(rules *rulebook.Rules) { knobs(rules, list[0])[n].set(rounded(k, to)) }
		changes = append(changes, c)
	}
	return changes, nil
}

// rounded is a value as it is written: never below what was found to do.
func rounded(k knob, v float64) float64 {
	if k.name == "tolerance" {
		f, err := strconv.ParseFloat(k.text(v), 64)
		if err == nil {
			return f
		}
	}
	return math.Ceil(v*100) / 100
}

// gone lists which findings are not among those any more.
func gone(before, after []*judge.Finding) (ids []string) {
	for _, f := range before {
		overlaps := func(g *judge.Finding) bool {
			return g.View == f.View && g.Entity == f.Entity && g.Subject == f.Subject && g.BeganAt <= f.EndedAt && f.BeganAt <= g.EndedAt
		}
		if !slices.ContainsFunc(after, overlaps) {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// knobs are those of the rule that a finding is under.
func knobs(rules *rulebook.Rules, f *judge.Finding) []knob {
	span := func(name string, into *time.Duration) knob {
		return knob{name: name, value: into.Seconds(), from: max(into.Seconds(), 0.02), most: max(rulebook.KnobTimes**into, rulebook.KnobDelay).Seconds(),
			set:  func(v float64) { *into = time.Duration(math.Ceil(v*100) * 1e7) },
			text: func(v float64) string { return time.Duration(math.Ceil(v*100) * 1e7).String() }}
	}
	if f.Subject.About == judge.AboutEvent {
		r := &rules.Events[eventRule(rules, f)]
		return []knob{span("max-delay", &r.MaxDelay), span("grace", &r.Grace)}
	}
	r := &rules.Fields[fieldRule(rules, f)]
	list := []knob{span("max-delay", &r.MaxDelay), span("max-ahead", &r.MaxAhead), span("grace", &r.Grace), span("min-duration", &r.MinDuration)}
	if r.Compare != rulebook.Exact && r.Label() != rulebook.Existence {
		from := r.Tolerance
		if from == 0 {
			from = max(r.Quantum, 1e-3)
		}
		list = append(list, knob{name: "tolerance", value: r.Tolerance, from: from, most: rulebook.KnobTimes * from,
			set:  func(v float64) { r.Tolerance = v },
			text: func(v float64) string { return upTo3(v) }})
	}
	return list
}

// upTo3 writes a number with three digits that count, rounded up.
func upTo3(v float64) string {
	unit := math.Pow(10, math.Floor(math.Log10(v))-2)
	return strconv.FormatFloat(math.Ceil(v/unit)*unit, 'g', 6, 64)
}
