package feed

import (
	"bytes"
	"encoding/json"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/logs"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Bench hears a match, live or from files: the judge, and beside it the one who
// measures. See [NewBench].
//
// The reference is the server, or a named view, or nobody: then every view is
// held against every other, and the odd one out is named.
type Bench struct {
	seats    []seat
	measures *metrics.Collector // nil without a server
	rules    rulebook.Rules
	peers    []string // without a reference
	logs     *logs.Rules
}

// seat is one judge and which of its views each view of the match is.
type seat struct {
	judge *judge.Judge
	views []int // by view of the match; -1 is not heard
}

// Setting is how a match is judged. The zero value is against the server, by a
// clock that all views share.
type Setting struct {
	Reference string // rulebook.Server or "", a view's name, or rulebook.NoReference
	Outcomes  bool   // the outcomes of all packets will be told
	Ticks     bool   // fields are compared at equal ticks: see judge.Config
	Timeless  bool   // times follow from ticks, so they tell nothing of how a match felt
	Strict    bool   // likewise
	Untraced  bool   // likewise

	Alert func(judge.Alert) // hears of findings as they become certain; may be nil
}

// NewBench returns a bench for the views of a match, the server's first if it has
// one.
func NewBench(names *trace.Names, views []string, rules rulebook.Rules, s Setting) *Bench {
	b := &Bench{rules: rules, logs: logs.NewRules(rules.Logs, views)}
	if !s.Timeless {
		b.measures = metrics.New(names, views, views[0] == rulebook.Server, rules)
		b.measures.Ticks = s.Ticks
	}
	sit := func(reference int, rules rulebook.Rules) {
		st := seat{views: make([]int, len(views))}
		order := []string{views[reference]}
		for i, v := range views {
			switch {
			case i == reference:
			case reference > 0 && v == rulebook.Server:
				st.views[i] = -1
			default:
				st.views[i] = len(order)
				order = append(order, v)
			}
		}
		st.judge = judge.New(judge.Config{Names: names, Rules: rules, Views: order, Outcomes: s.Outcomes, Peers: reference > 0 || views[0] != rulebook.Server, Ticks: s.Ticks, Strict: s.Strict, Untraced: s.Untraced, Alert: s.Alert})
		b.seats = append(b.seats, st)
	}
	switch s.Reference {
	case "", rulebook.Server:
		if views[0] != rulebook.Server {
			rules = amongClients(rules)
		}
		sit(0, rules)
	case rulebook.NoReference:
		peers := amongClients(rules)
		peers.Events = nil // who has not seen one may be right
		for i, v := range views {
			// Tick by tick the server has a voice as well: what it told of a tick is not old.
			if v != rulebook.Server || s.Ticks {
				b.peers = append(b.peers, v)
				sit(i, peers)
			}
		}
	default:
		sit(max(0, slices.Index(views, s.Reference)), amongClients(rules))
	}
	return b
}

// amongClients is rules for a reference that is a client itself: it is late and
// ahead as any client may be, and invariants and chains are not for it to keep.
// Of events those count that everybody is to see.
func amongClients(rules rulebook.Rules) rulebook.Rules {
	fields := slices.Clone(rules.Fields)
	for i := range fields {
		most := fields[i].MaxDelay
		for _, r := range rules.Fields {
			if r.Label() == fields[i].Label() && !r.TimeDriven {
				most = max(most, r.MaxDelay)
			}
		}
		if !fields[i].TimeDriven {
			fields[i].MaxDelay, fields[i].MaxAhead = most+fields[i].MaxAhead, most+fields[i].MaxAhead
		}
	}
	var events []rulebook.EventRule
	for _, r := range rules.Events {
		if r.SeenBy == rulebook.Everyone {
			r.MaxDelay, r.MaxAhead, r.Ordered = r.MaxDelay+r.MaxAhead, r.MaxDelay+r.MaxAhead, false // either may be first
			events = append(events, r)
		}
	}
	return rulebook.Rules{Fields: fields, Events: events, Limits: rules.Limits, Logs: rules.Logs, News: rules.News}
}

// Record takes in a record of a view, by its place among the views.
func (b *Bench) Record(view int, r *trace.Record) {
	for i := range b.seats {
		b.seats[i].Record(view, r)
	}
	(*measuring)(b).Record(view, r)
}

// Packet takes in the outcome of a packet on the link of a view.
func (b *Bench) Packet(view int, p link.Packet) {
	for i := range b.seats {
		b.seats[i].Packet(view, p)
	}
	(*measuring)(b).Packet(view, p)
}

// Parts are those of a bench that hear a match by themselves: each judge, and who measures.
func (b *Bench) Parts() (list []Listener) {
	for i := range b.seats {
		list = append(list, &b.seats[i])
	}
	return append(list, (*measuring)(b))
}

func (s *seat) Record(view int, r *trace.Record) {
	if n := s.views[view]; n >= 0 {
		s.judge.Record(n, r)
	}
}

func (s *seat) Packet(view int, p link.Packet) {
	if n := s.views[view]; n > 0 {
		s.judge.Packet(n, p)
	}
}

// measuring is the part of a bench that measures, and looks whether rules about logs are kept.
type measuring Bench

func (m *measuring) Record(view int, r *trace.Record) {
	if m.measures != nil {
		m.measures.Record(view, r)
	}
	m.logs.Record(view, r)
}

func (m *measuring) Packet(view int, p link.Packet) {
	if m.measures != nil {
		m.measures.Packet(view, p)
	}
}

// Broke takes in that something broke for a view, by its place among the views.
func (b *Bench) Broke(view int, what ending.Break) {
	for _, s := range b.seats {
		if n := s.views[view]; n >= 0 {
			s.judge.Broke(n, what)
		}
	}
	if b.measures != nil {
		b.measures.Broke(view)
	}
}

// Standing is how a view of the match stands while it goes on.
type Standing struct {
	judge.Standing
	Corrections int
}

// Standing is how a view stands now, by its place among the views.
func (b *Bench) Standing(view int) (s Standing) {
	if n := b.seats[0].views[view]; n > 0 {
		s.Standing = b.seats[0].judge.Standing(n)
	}
	if b.measures != nil {
		s.Corrections = b.measures.Corrections(view)
	}
	return s
}

// Behind is how far judging runs behind the newest record.
func (b *Bench) Behind() (behind time.Duration) {
	for _, s := range b.seats {
		behind = max(behind, s.judge.Behind())
	}
	return behind
}

// Sights says how an entity in a view stood at t, rule by rule: see [judge.Judge.Sights]. Without a
// reference each is held against the view that the most others agree with.
func (b *Bench) Sights(view int, e trace.Entity, t time.Duration) (list []judge.Sight) {
	best := map[*rulebook.Rule]int{}
	for i, s := range b.seats {
		n := s.views[view]
		if n <= 0 {
			continue
		}
		for _, sight := range s.judge.Sights(n, e, t) {
			agree := b.agreeing(i, e, t, sight.Rule)
			k := slices.IndexFunc(list, func(o judge.Sight) bool { return o.Rule == sight.Rule })
			if k < 0 {
				list = append(list, sight)
				best[sight.Rule] = agree
			} else if agree > best[sight.Rule] {
				list[k], best[sight.Rule] = sight, agree
			}
		}
	}
	return list
}

// agreeing is how many views agree with the reference of a seat.
func (b *Bench) agreeing(seat int, e trace.Entity, t time.Duration, rule *rulebook.Rule) (n int) {
	if len(b.seats) == 1 {
		return 0
	}
	s := b.seats[seat]
	for _, number := range s.views {
		if number <= 0 {
			continue
		}
		for _, sight := range s.judge.Sights(number, e, t) {
			if sight.Rule == rule && sight.Standing != judge.Differs && sight.Standing != judge.Unjudged {
				n++
			}
		}
	}
	return n
}

// Certain is how many findings have become certain so far.
func (b *Bench) Certain() (n int) {
	for _, s := range b.seats {
		n += s.judge.Certain()
	}
	return n
}

// Finish ends the match. Limits that were broken are findings.
func (b *Bench) Finish(how ending.Ending) (*judge.Verdict, *metrics.Measures) {
	m := &metrics.Measures{}
	var verdicts []*judge.Verdict
	for i, s := range b.seats {
		verdicts = append(verdicts, s.judge.FinishWith(how, func() judge.Outside {
			if b.measures == nil {
				return judge.Outside{Logs: b.brokenLogs(i)}
			}
			outside := func() judge.Outside {
				return judge.Outside{Unmeasured: m.Unmeasured(b.rules), Starving: m.Starving(float64(b.rules.TickRate)), Logs: b.brokenLogs(i)}
			}
			if i > 0 {
				return outside()
			}
			m = b.measures.Finish(func(view int) (known metrics.Known) {
				if n := s.views[view]; n > 0 {
					known.Age, known.Rollbacks = s.judge.Age(n), s.judge.Rollbacks(n)
				}
				return known
			})
			o := outside()
			o.Exceeded = m.Exceeded(b.rules.Limits)
			return o
		}))
	}
	if b.peers != nil {
		return judge.AmongPeers(b.peers, verdicts), m
	}
	return verdicts[0], m
}

// Log takes in a line that a view's program logged.
func (b *Bench) Log(view string, at time.Duration, text string) {
	b.logs.Line(view, at, text)
}

// brokenLogs are the rules about logs that were not kept: told once, by the first judge.
func (b *Bench) brokenLogs(seat int) []judge.BrokenLog {
	if seat > 0 {
		return nil
	}
	return b.logs.Broken()
}

// EncodeVerdict writes a verdict as findings.json has it.
func EncodeVerdict(v *judge.Verdict) ([]byte, error) {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	err := encoder.Encode(v)
	return text.Bytes(), err
}
