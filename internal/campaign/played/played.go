// Package played is what is kept of one match among many, and who plays them: this process, or others.
//
// It knows plans and how to have one played, and nothing of what many matches are played for.
package played

import (
	"slices"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

// Match is what is kept of one match: a line of a hunt's journal.
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

func matchOf(p *plan.Plan, r *match.Result) Match {
	m := Match{Seed: p.Seed, Verdict: Failed, Players: players(p, r), Measures: headlines(r.Measures)}
	if why := r.Verdict.Ending.Unrepeatable; why != "" { // what it shows says nothing of another match
		m.Why = why
		return m
	}
	if r.Verdict.Outcome == judge.Inconclusive {
		m.Why = r.Verdict.NotWell()
		return m
	}
	if r.Verdict.Outcome == judge.NothingCompared {
		m.Why = r.Verdict.NotWell()
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

// mostKin is how many signatures are kept of one incident.
const mostKin = 16

// kin are the other signatures that may be of the same cause as the head of an incident.
func kin(head *judge.Finding, in judge.Incident, findings []*judge.Finding) (list []string) {
	for _, f := range findings {
		related := f.Kind == head.Kind && slices.Contains(in.Findings, f.ID) || head.Vague() && f.About() == head.About()
		if related && f.Signature != head.Signature && !slices.Contains(list, f.Signature) && len(list) < mostKin {
			list = append(list, f.Signature)
		}
	}
	return list
}
