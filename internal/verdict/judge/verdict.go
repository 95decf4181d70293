package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/clocksync"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Seconds is a time that is written as seconds with at most six decimals.
type Seconds = trace.Seconds

// Outcome is the verdict in a word.
type Outcome string

const (
	InSync          Outcome = "in sync"
	OutOfSync       Outcome = "out of sync"
	NothingCompared Outcome = "nothing compared"
	RulesKept       Outcome = "rules kept"   // of a match without traces: whatever else was asked of it is right
	Inconclusive    Outcome = "inconclusive" // nothing was found, but the match did not go as it was to
)

// Passed reports whether nothing is wrong.
func (o Outcome) Passed() bool { return o == InSync || o == RulesKept }

// Verdict is what the judge says of a match. Its JSON is findings.json.
type Verdict struct {
	Outcome     Outcome                  `json:"verdict"`
	From        Seconds                  `json:"from_s"`
	To          Seconds                  `json:"to_s"`
	Alignment   string                   `json:"alignment"`        // how the views' clocks were brought together
	Clocks      map[string]clocksync.Fit `json:"clocks,omitempty"` // of views whose clock was estimated
	Reference   string                   `json:"reference"`
	Packets     bool                     `json:"packets_known"` // whether it was known what each view could know
	Comparisons int                      `json:"comparisons"`
	Excused     int                      `json:"excused"`  // comparisons that only what the link withheld explains
	Doubtful    int                      `json:"doubtful"` // disagreements still too short to count when the match ended
	Views       []ViewReport             `json:"views"`
	Events      []*EventReport           `json:"events"`
	Counts      []CountReport            `json:"counts,omitempty"` // of rules that count by player
	Cheats      []CheatReport            `json:"cheats,omitempty"`
	Rules       []RuleReport             `json:"rules"`
	Incidents   []Incident               `json:"incidents"`
	Findings    []*Finding               `json:"findings"`
	Aside       []*Finding               `json:"set_aside,omitempty"` // what stalls of the machine explain
	Ending      ending.Ending            `json:"ending"`
	Warnings    []Warning                `json:"warnings"` // what was not judged, beside what is in Ending
	Strict      bool                     `json:"strict,omitempty"`
	Provisional bool                     `json:"provisional,omitempty"` // the rules were learned from the match itself
	Untraced    bool                     `json:"untraced,omitempty"`    // no program told a trace
}

// Warning says that something was not compared that was to be.
type Warning struct {
	View    string `json:"view,omitempty"`
	Rule    string `json:"rule,omitempty"`    // of a watch rule
	Event   string `json:"event,omitempty"`   // of an event rule
	Measure string `json:"measure,omitempty"` // one that has a limit
	Text    string `json:"text"`
	Grave   bool   `json:"grave,omitempty"` // it alone keeps the match from being a pass
}

// ViewReport says how much of a view was compared.
type ViewReport struct {
	Name        string          `json:"name"`
	Records     int             `json:"records"`
	From        Seconds         `json:"from_s"`
	To          Seconds         `json:"to_s"`
	Judged      Seconds         `json:"judged_s"` // how long it was in the match
	Stays       []Stay          `json:"stays"`    // when
	Entities    int             `json:"entities"`
	Comparisons int             `json:"comparisons"`
	Excused     int             `json:"excused"`
	Findings    int             `json:"findings"`
	Age         *metrics.Spread `json:"age_ms,omitempty"` // how old what it shows of moving entities is
	Ticks       *TickReport     `json:"ticks,omitempty"`  // where ticks are compared
}

// Stay is a time for which a view was in the match.
type Stay struct {
	From   Seconds `json:"from_s"`
	Until  Seconds `json:"until_s"`
	Entity string  `json:"entity,omitempty"` // its own, if it has one
}

// RuleReport says whether a watch rule found anything to compare.
type RuleReport struct {
	Entities string `json:"entities"`
	Of       string `json:"of"`
	Fields   string `json:"fields"`
	Judged   bool   `json:"judged"` // false for what is cosmetic
	Fits     int    `json:"fits"`   // how many pairs of view and entity it was used for
	Findings int    `json:"findings"`

	Age      *metrics.Spread `json:"age_ms,omitempty"`      // how old what is right by it was shown
	AgeBars  []int           `json:"age_bars,omitempty"`    // how often, up to twice max-delay in bars of one width; the last, beyond
	MaxDelay Seconds         `json:"max_delay_s,omitempty"` // where that is known

	// What is not right is not seen if it is over sooner: a wrong value that lasts shorter, or one that
	// comes less late.
	WrongFor Seconds `json:"wrong_from_s,omitempty"`
	LateBy   Seconds `json:"late_from_s,omitempty"`
}

// Name is the rule's, as rulebook.Rule has it.
func (r *RuleReport) Name() string { return rulebook.RuleName(r.Entities, r.Fields, r.Of) }

// Incident is a number of findings that hang together. The earliest is its head;
// but offset says the least of all kinds, so if the earliest is one and more
// findings about the same fields are of a kind that says more, the first of
// those is.
type Incident struct {
	ID       string   `json:"id"`
	Kind     Kind     `json:"kind"`
	Head     string   `json:"head"` // id of a finding
	BeganAt  Seconds  `json:"began_s"`
	Findings []string `json:"findings"`
	Views    []string `json:"views"`
	Entities []string `json:"entities"`
	Knob     *Knob    `json:"knob,omitempty"` // nil if there is none for what is wrong
}

// Finding is a disagreement that lasted.
type Finding struct {
	ID         string    `json:"id"`
	Kind       Kind      `json:"kind"`
	Signature  string    `json:"signature"`
	View       string    `json:"view"`
	Entity     string    `json:"entity"`
	Like       string    `json:"like,omitempty"` // the entity of the reference that it is, once more or under another id
	Subject    Subject   `json:"fields"`
	Own        bool      `json:"own"` // the entity is the view's own
	BeganAt    Seconds   `json:"began_s"`
	Ticks      bool      `json:"by_tick,omitempty"`     // ticks were compared, and not moments
	Tick       int64     `json:"tick,omitempty"`        // of the beginning
	LastTick   int64     `json:"last_tick,omitempty"`   // the last at which the two sides differed
	TicksApart int       `json:"ticks_apart,omitempty"` // at how many compared ticks they did
	EndedAt    Seconds   `json:"ended_s"`               // or the end of the match
	Open       bool      `json:"open"`                  // it never ended
	Ended      string    `json:"ended"`                 // how
	Apart      Seconds   `json:"apart_s"`               // unexplained time in it
	Gap        *float64  `json:"worst_gap,omitempty"`
	Why        string    `json:"why"`                 // what the kind was told by
	Next       *RunnerUp `json:"next,omitempty"`      // the explanation that fits second best
	Invariant  bool      `json:"invariant,omitempty"` // it is about an invariant
	Linked     bool      `json:"linked,omitempty"`    // packets of the view's link are known

	Knobs    Knobs          `json:"knobs,omitzero"`  // what would explain it
	Stall    *metrics.Stall `json:"stall,omitempty"` // of what is set aside: why
	Evidence Evidence       `json:"evidence"`

	rule      *rulebook.Rule      // of a field, or nil
	eventRule *rulebook.EventRule // of an event, or nil
	settle    time.Duration
	leapt     bool          // it began with a leap away and ended with one back
	healed    time.Duration // when the view came to what the reference has, if that ended it
	cause     string        // of a crash: how, and what was said last
	first     string        // Why of the first of several that count as one
	times     int
}

// add takes a finding into the verdict.
func (j *Judge) add(f *Finding) {
	f.sign()
	f.Linked = j.config.Outcomes && f.View != j.views[0].name && f.overall() == 0
	j.findings = append(j.findings, f)
	if f.rule == nil && !j.ended { // episodes have been told of before
		j.alert(Alert{Began: time.Duration(f.BeganAt), Kind: f.Kind, View: f.View, Entity: f.Entity, Subject: f.Subject})
	}
}

// sign gives a finding its signature, which reads like a title: ghost: sheep (other player's view).
func (f *Finding) sign() {
	if f.Kind == Crashed {
		who := "client"
		if !f.Own {
			who = rulebook.Server
		}
		f.Signature = fmt.Sprintf("%s: %s, %s", f.Kind, who, f.cause)
		return
	}
	kindOfEntity, _, named := strings.Cut(f.Entity, "/")
	if !named {
		kindOfEntity = "" // a player's name
	}
	subject := f.Subject.String()
	if subject == rulebook.Existence {
		subject = ""
	}
	whose := "(other player's view)"
	if f.Own {
		whose = "(own)"
	}
	f.Signature = fmt.Sprintf("%s: %s", f.Kind, strings.Join(strings.Fields(kindOfEntity+" "+subject+" "+whose), " "))
}

// found makes a finding of an episode that is over.
func (j *Judge) found(v *view, k *tracker, end time.Duration, open bool) {
	e := k.run
	named := j.kindOf(k, v, open)
	f := &Finding{
		Kind: named.kind, Why: named.why, Next: named.next, Like: named.like, View: v.name, Entity: k.mirror.known.name, Subject: Subject{Name: k.rule.Label()}, Own: k.mirror.own,
		BeganAt: Seconds(e.began), EndedAt: Seconds(end), Open: open, Apart: Seconds(e.amount), Evidence: e.evidence, rule: k.rule, settle: k.rule.MinDuration,
	}
	switch {
	case open:
		f.Ended = "still so at the end"
	case !v.in || end < e.last:
		f.Ended = "the view leaving the match"
	case !k.active:
		f.Ended = "the entity no longer being expected"
	case e.healed.ok && e.healed.byView:
		f.Ended = fmt.Sprintf("the view changing to %s at %s", j.format(k.rule, e.healed.value), Seconds(e.healed.t))
	case e.healed.ok:
		coming := map[bool]string{false: "coming to", true: "passing"}[e.healed.passing]
		f.Ended = fmt.Sprintf("the reference %s %s by %s, as the view shows", coming, j.format(k.rule, e.healed.value), Seconds(e.healed.by))
	default:
		f.Ended = "what the link may still hold back"
	}
	if k.rule.Compare != rulebook.Exact && e.worst > 0 {
		gap := math.Round(e.worst*1e3) / 1e3
		f.Gap = &gap
	}
	f.Knobs = k.knobsOf(v, open)
	if e.healed.ok && e.healed.byView && !open {
		f.healed = e.healed.t
	}
	f.leapt = e.before.ok && e.healed.byView && leapsAway(k.rule, k.path, e.before, e.early[0])
	f.Evidence.complete(j, k)
	j.add(f)
}

// verdict sums everything up.
func (j *Judge) verdict(end time.Duration, how ending.Ending) *Verdict {
	j.tellTeleports()
	d := &Verdict{From: Seconds(j.first), To: Seconds(end), Alignment: "shared", Packets: j.config.Outcomes,
		Doubtful: j.doubtful, Findings: j.findings, Incidents: []Incident{}}
	if len(j.views) > 0 {
		d.Reference = j.views[0].name
	}
	for _, f := range d.Findings {
		if f.Open {
			f.EndedAt = max(f.EndedAt, Seconds(end))
		}
	}
	slices.Sort(j.ledger.names)
	d.Events = []*EventReport{}
	for _, name := range j.ledger.names {
		d.Events = append(d.Events, j.ledger.reports[name])
	}
	d.Counts, d.Cheats = j.tally.reports(), j.cheats.reports()
	fits := map[*rulebook.Rule]int{}
	for _, v := range j.views[1:] {
		r := ViewReport{Name: v.name, Records: v.records, From: Seconds(v.from), To: Seconds(v.to), Judged: Seconds(v.inFor), Stays: v.stays,
			Comparisons: v.comparisons, Excused: v.excused, Age: v.ages.spread()}
		for _, m := range v.mirrors {
			if m != nil && m.known != nil {
				r.Entities++
			}
		}
		v.each(func(k *tracker) {
			if k.holds || k.run.count > 0 {
				fits[k.rule]++
			}
		})
		if j.ticks != nil {
			j.ticks.sumUp(&r, v.number, fits)
		}
		d.Views = append(d.Views, r)
		d.Comparisons += r.Comparisons
		d.Excused += v.excused
	}
	rules := j.config.Rules.Fields
	if j.ticks != nil {
		d.Alignment, rules = "tick", j.ticks.rules
	}
	for i := range rules {
		rule := &rules[i]
		r := RuleReport{Entities: rule.Entities, Of: rule.Of.String(), Fields: rule.Label(), Judged: rule.Judged(), Fits: fits[rule]}
		if ages := j.ages[rule]; ages != nil && rule.Judged() {
			r.Age, r.AgeBars = ages.spread(), ages.bars(ageBars, 2*rule.MaxDelay)
			r.MaxDelay = Seconds(rule.MaxDelay)
			r.WrongFor, r.LateBy = j.seenFrom(rule)
		}
		for _, f := range d.Findings {
			if f.rule == rule {
				r.Findings++
			}
		}
		d.Rules = append(d.Rules, r)
	}
	d.Ending, d.Strict, d.Untraced = how, j.config.Strict, j.config.Untraced
	d.number(func() { d.warn(j) })
	return d
}

// number puts the findings in order, numbers them and draws the conclusions.
func (d *Verdict) number(warn func()) {
	slices.SortStableFunc(d.Findings, func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(a.overall(), b.overall()), cmp.Compare(a.BeganAt, b.BeganAt), cmp.Compare(a.View, b.View), a.tells(b), cmp.Compare(a.Entity, b.Entity), cmp.Compare(a.Subject.String(), b.Subject.String()))
	})
	if d.Findings == nil {
		d.Findings = []*Finding{}
	}
	for i, f := range d.Findings {
		f.ID = "F" + strconv.Itoa(i+1)
	}
	for i := range d.Views {
		d.Views[i].Findings = 0
		for _, f := range d.Findings {
			if f.View == d.Views[i].Name {
				d.Views[i].Findings++
			}
		}
	}
	warn()
	d.Incidents = append([]Incident{}, incidents(d.Findings)...)
	switch {
	case len(d.Findings) > 0:
		d.Outcome = OutOfSync
	case d.Untraced:
		d.Outcome = RulesKept
	case d.Comparisons == 0:
		d.Outcome = NothingCompared
	default:
		d.Outcome = InSync
	}
	d.conclude()
}

// conclude keeps what did not go as it was to from being a pass.
func (d *Verdict) conclude() {
	if len(d.Ending.Damage) > 0 { // what shows in it may be of the damage
		d.Outcome = Inconclusive
		return
	}
	if d.Outcome == OutOfSync {
		return
	}
	grave := func(w Warning) bool { return w.Grave || d.Strict }
	if !d.Ending.Well() || d.Strict && d.Ending.Unrepeatable != "" || (d.Comparisons > 0 || d.Untraced) && slices.ContainsFunc(d.Warnings, grave) {
		d.Outcome = Inconclusive
	}
}

// NotWell says in a sentence why a match that nothing was found in is no pass, or "".
func (d *Verdict) NotWell() string {
	if d.Strict && d.Ending.Unrepeatable != "" {
		return d.Ending.Unrepeatable
	}
	if !d.Ending.Well() {
		for _, text := range d.Ending.Sentences(time.Duration(d.To)) {
			return text
		}
	}
	for _, w := range d.Warnings {
		if w.Grave || d.Strict {
			return w.Text
		}
	}
	return ""
}

// crawls is below which share of the ticks that a side should tell a match is no good one.
const crawls = 0.5

// warn says what was to be compared and was not.
func (d *Verdict) warn(j *Judge) {
	d.Warnings = []Warning{}
	if j.ticks != nil {
		d.Warnings = j.ticks.warnings()
	}
	for i, r := range d.Views {
		v := j.views[i+1]
		switch {
		case slices.ContainsFunc(d.Warnings, func(w Warning) bool { return w.View == r.Name && w.Grave }): // it says why
		case !v.everJoined && slices.Contains(j.config.Rules.Refused, r.Name): // as it must be
		case !v.everJoined:
			refused := j.roster.refused(r.Name)
			text := " was never in the match, so nothing of it was compared"
			if refused {
				text = " was refused, so nothing of it was compared"
			}
			d.Warnings = append(d.Warnings, Warning{View: r.Name, Text: r.Name + text, Grave: !refused})
		case v.broken && v.resumed(d.Ending):
			d.Warnings = append(d.Warnings, Warning{View: r.Name, Text: "after its trace had broken off, " + r.Name + " told neither a full snapshot nor that it joined, so what it showed from then on was not compared", Grave: true})
		case r.Comparisons == 0 && r.Findings == 0 && !d.Untraced:
			d.Warnings = append(d.Warnings, Warning{View: r.Name, Text: r.Name + " was in the match, and nothing that it shows was compared", Grave: true})
		}
	}
	for _, v := range j.views[1:] {
		d.Warnings = append(d.Warnings, v.neverTold(j.config.Rules.Fields)...)
	}
	for _, r := range d.Rules {
		if r.Fits == 0 && r.Judged {
			rule := fmt.Sprintf("%s of %s (%s)", r.Fields, r.Entities, r.Of)
			d.Warnings = append(d.Warnings, Warning{Rule: rule, Text: "the watch rule for " + rule + " met nothing"})
		}
	}
	for _, more := range [][]Warning{j.warnOfRareRecords(), j.warnOfNeglect(), j.warnOfNames(), j.ledger.warnOfNames(), j.warnOfFlicker()} {
		d.Warnings = append(d.Warnings, more...)
	}
	d.Warnings = append(d.Warnings, j.cheats.warnings()...)
	for _, s := range j.starving {
		d.Warnings = append(d.Warnings, Warning{View: s.View, Grave: s.Share < crawls,
			Text: fmt.Sprintf("%s told %.3g ticks a second of the %d that the plan says", s.View, s.PerSecond, j.config.Rules.TickRate)})
	}
	for _, measure := range j.unmeasured {
		d.Warnings = append(d.Warnings, Warning{Measure: measure, Text: "the limit on " + measure + " met nothing: it could not be measured in any view"})
	}
	for i, r := range j.config.Rules.Effects {
		if j.effects.judged[i] == 0 {
			d.Warnings = append(d.Warnings, Warning{Event: r.Event, Text: "the effect rule for " + r.Label() + " met no event after which the number is known"})
		}
	}
	for _, r := range j.config.Rules.Events {
		if r.Event != "" && r.SeenBy != rulebook.Nobody && !slices.ContainsFunc(d.Events, func(e *EventReport) bool { return rulebook.FindEvent([]rulebook.EventRule{r}, e.Event) != nil }) {
			d.Warnings = append(d.Warnings, Warning{Event: r.Event, Text: "the event rule for " + r.Event + " met no event"})
		}
	}
}

// neverTold warns of rules that would have been asked of entities which the view shows, had it
// told their fields of any.
func (v *view) neverTold(rules []rulebook.Rule) (list []Warning) {
	wanted, told := map[*rulebook.Rule]bool{}, map[*rulebook.Rule]bool{}
	v.each(func(k *tracker) {
		wanted[k.rule] = wanted[k.rule] || k.wanted
		told[k.rule] = told[k.rule] || k.holds || k.run.count > 0
	})
	for i := range rules {
		if r := &rules[i]; wanted[r] && !told[r] {
			rule := fmt.Sprintf("%s of %s (%s)", r.Label(), r.Entities, r.Of)
			list = append(list, Warning{View: v.name, Rule: rule, Text: v.name + " never tells " + r.Label() + " of any " + r.Entities + " that it shows, so the watch rule for it was asked of nothing there"})
		}
	}
	return list
}
