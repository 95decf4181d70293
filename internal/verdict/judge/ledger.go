package judge

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/gonum/stat"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// ledger asks whether every one-off arrives where it should, once, in time and in order. It keeps
// the books: what the reference told, who should have got it, and what arrived where.
type ledger struct {
	match   *Judge
	sent    []*occasion            // lately, in the reference's order
	byID    map[string][]*occasion // ids may start again
	early   []arrival              // told by a view before the reference told it
	count   int
	reports map[string]*EventReport // by event name
	names   []string                // of the reports, in order of first mention
	running map[string]*Finding     // that may be extended, by view, kind and name
	said    []map[string]bool       // by view: the events and checkpoints since it joined that others may not come before
	awaited map[string]bool         // the names of those
	untold  map[string]map[int]bool // the names that views told of before the reference did, and which views
}

// occasion is one event of the reference.
type occasion struct {
	name, id, entity, by, to string
	data                     string
	t                        time.Duration
	number                   int
	rule                     *rulebook.EventRule
	slips                    []slip // by view number
}

// slip is what is known of an occasion in one view.
type slip struct {
	due  bool // it should come
	soon bool // it was told within the grace of joining, so only if the view had shown the whole world before
	seen int
	at   time.Duration // when it came
	lost *Finding
}

// arrival is an event as a view told it.
type arrival struct {
	view *view
	t    time.Duration
	r    trace.Record
	rule *rulebook.EventRule
}

// occasionsKept is how long a repetition is still known as one.
const occasionsKept = time.Minute

// EventReport is one line of the table of events: what was told and what came.
type EventReport struct {
	Event string           `json:"event"`
	Sent  int              `json:"sent"`
	Views []EventViewCount `json:"views"`
}

// EventViewCount is one cell of it.
type EventViewCount struct {
	View       string `json:"view"`
	Expected   int    `json:"expected"`
	Seen       int    `json:"seen"` // of the expected
	Lost       int    `json:"lost"`
	Late       int    `json:"late"`
	Repeated   int    `json:"repeated"`
	Misplaced  int    `json:"misplaced"`
	Misordered int    `json:"misordered"`
	Graced     int    `json:"not_expected_yet,omitempty"` // told so soon after the view joined that it need not come
}

func newLedger(j *Judge) *ledger {
	l := &ledger{match: j, byID: map[string][]*occasion{}, reports: map[string]*EventReport{}, running: map[string]*Finding{}, awaited: map[string]bool{}, untold: map[string]map[int]bool{}}
	for i := range j.config.Rules.Events {
		l.awaited[j.config.Rules.Events[i].NotBefore] = true
	}
	delete(l.awaited, "")
	return l
}

func (l *ledger) report(name string) *EventReport {
	r := l.reports[name]
	if r == nil {
		r = &EventReport{Event: name, Views: make([]EventViewCount, len(l.match.views)-1)}
		for i, v := range l.match.views[1:] {
			r.Views[i].View = v.name
		}
		l.reports[name] = r
		l.names = append(l.names, name)
	}
	return r
}

// take takes in an event.
func (l *ledger) take(v *view, r *trace.Record) {
	if len(l.awaited) > 0 && v.number > 0 {
		l.order(v, r)
	}
	switch {
	case r.Event == "":
	case v.number == 0:
		l.told(r)
	default:
		l.heard(v, r)
	}
}

// order asks whether a view told before what must come before.
func (l *ledger) order(v *view, r *trace.Record) {
	if l.said == nil {
		l.said = make([]map[string]bool, len(l.match.views))
	}
	if r.Joined == v.name || l.said[v.number] == nil {
		l.said[v.number] = map[string]bool{}
	}
	rules := l.match.config.Rules.Events
	for _, told := range []struct {
		name string
		rule *rulebook.EventRule
	}{{r.Event, rulebook.FindEvent(rules, r.Event)}, {r.Checkpoint, rulebook.FindCheckpoint(rules, r.OwnCheckpoint())}} {
		if told.rule != nil && told.rule.NotBefore != "" && v.in && !v.out() && !l.said[v.number][told.rule.NotBefore] {
			l.finding(EventMisorder, v, told.name, r.Entity, r.T, r.T, told.rule, fmt.Sprintf("%s came before any %s since it joined", told.name, told.rule.NotBefore))
		}
		if l.awaited[told.name] {
			l.said[v.number][told.name] = true
		}
	}
}

// told takes in an event of the reference.
func (l *ledger) told(r *trace.Record) {
	l.count++
	o := &occasion{name: r.Event, id: r.ID, entity: r.Entity, by: r.By, to: r.To, data: r.Data, t: r.T, number: l.count,
		rule: rulebook.FindEvent(l.match.config.Rules.Events, r.Event), slips: make([]slip, len(l.match.views))}
	l.report(o.name).Sent++
	l.sent = append(l.sent, o)
	if o.id != "" {
		l.byID[o.key()] = append(l.byID[o.key()], o)
	}
	for _, v := range l.match.views[1:] {
		// Without a rule it is counted, and not judged.
		switch cell := &l.report(o.name).Views[v.number-1]; {
		case !v.in || v.out() || o.rule != nil && (o.rule.SeenBy == rulebook.Nobody || !o.isFor(v)):
		case o.rule != nil && r.T < v.joinedAt+o.rule.Grace && !(o.rule.SeenBy == rulebook.OwnerOnly && o.to == v.name):
			cell.Graced++
			o.slips[v.number].due, o.slips[v.number].soon = true, true
		default:
			o.slips[v.number].due = true
			cell.Expected++
		}
	}
	for i := 0; i < len(l.early); i++ {
		// Without an id the next may be of another.
		if a := l.early[i]; o.is(&a.r) && (o.id != "" && a.r.ID != "" || o.slips[a.view.number].seen == 0) {
			l.early = append(l.early[:i], l.early[i+1:]...)
			i--
			l.arrived(a.view, &a.r, o, false)
		}
	}
}

func (o *occasion) key() string { return o.name + "\x00" + o.id }

// isFor applies the rule's audience.
func (o *occasion) isFor(v *view) bool {
	switch {
	case o.rule == nil:
		return true
	case o.rule.SeenBy == rulebook.OwnerOnly:
		return v.name == o.to
	case o.rule.SeenBy == rulebook.AllButOwner:
		return v.name != o.by
	}
	return true
}

// is reports whether a view's event is this one, by its id where both sides have one, or else by what it says.
func (o *occasion) is(r *trace.Record) bool {
	if o.name != r.Event {
		return false
	}
	if o.id != "" && r.ID != "" {
		return o.id == r.ID
	}
	return o.says(r)
}

// interchangeable reports whether nobody can tell one occasion from the other.
func (o *occasion) interchangeable(other *occasion) bool {
	return o.id == other.id && o.name == other.name && o.entity == other.entity && o.by == other.by && o.to == other.to && o.data == other.data
}

// says reports whether what a view says of the event is what the reference said.
func (o *occasion) says(r *trace.Record) bool {
	var data rulebook.DataRule
	if o.rule != nil {
		data = o.rule.Data
	}
	return same(o.entity, r.Entity) && same(o.by, r.By) && same(o.to, r.To) && (same(o.data, r.Data) || data.Same(o.data, r.Data))
}

// same compares what both sides say; what one leaves out is no difference.
func same(a, b string) bool { return a == b || a == "" || b == "" }

// heard takes in an event that a view told.
func (l *ledger) heard(v *view, r *trace.Record) {
	if l.report(r.Event).Sent == 0 {
		if l.untold[r.Event] == nil {
			l.untold[r.Event] = map[int]bool{}
		}
		l.untold[r.Event][v.number] = true
	}
	rule := rulebook.FindEvent(l.match.config.Rules.Events, r.Event)
	o, before, unsure := l.of(v, r, rule)
	ahead := r.ID == "" && rule != nil && rule.MaxAhead > 0 // it may be one that the reference is about to tell
	if o == nil && !ahead {
		o = before
	}
	if o != nil {
		l.arrived(v, r, o, unsure)
		return
	}
	if rule != nil && rule.SeenBy != rulebook.Nobody && v.in {
		var kept trace.Record
		kept.CopyFrom(r)
		l.early = append(l.early, arrival{v, r.T, kept, rule})
	}
}

// of is the occasion that a view most likely tells, of those that it has not told yet, and the
// newest that it has. Where an event has no id, or its id stands for several, it is the oldest that
// may still come, or else the newest; which it is is then not sure.
func (l *ledger) of(v *view, r *trace.Record, rule *rulebook.EventRule) (best, before *occasion, unsure bool) {
	list := l.sent
	if known := l.byID[r.Event+"\x00"+r.ID]; r.ID != "" && len(known) > 0 {
		list = known
	}
	inTime := time.Second
	if rule != nil {
		inTime = rule.MaxDelay + rule.MinDuration
	}
	for i := len(list) - 1; i >= 0 && r.T-list[i].t < occasionsKept; i-- {
		switch o := list[i]; {
		case !o.is(r):
		case o.slips[v.number].seen > 0:
			if before == nil {
				before = o
			}
		case best == nil || r.T-o.t <= inTime:
			unsure = best != nil
			best = o
		}
	}
	return best, before, unsure
}

// likelyLost is which of a row of events that nobody can tell apart was lost in a view, when the
// last of them has not come: the one without which all others took most nearly the same time. The
// others are put in their places.
func (l *ledger) likelyLost(v *view, last *occasion) *occasion {
	var row []*occasion // the last first
	for i := len(l.sent) - 1; i >= 0 && len(row) < longestRow; i-- {
		o := l.sent[i]
		if o.number > last.number || !o.interchangeable(last) {
			continue
		}
		s := &o.slips[v.number]
		if o != last && (s.seen != 1 || !s.due || s.soon || s.lost != nil) {
			break
		}
		row = append(row, o)
	}
	best, least := 0, math.Inf(1)
	for lost := range row {
		var ages []float64
		for i := range row {
			switch {
			case i < lost: // it came as the one before it
				ages = append(ages, (row[i+1].slips[v.number].at - row[i].t).Seconds())
			case i > lost:
				ages = append(ages, (row[i].slips[v.number].at - row[i].t).Seconds())
			}
		}
		if spread := stat.PopVariance(ages, nil); len(ages) > 0 && spread < least-1e-9 && slices.Min(ages) >= 0 {
			best, least = lost, spread
		}
	}
	for i := range best {
		row[i].slips[v.number].at, row[i].slips[v.number].seen = row[i+1].slips[v.number].at, 1
	}
	row[best].slips[v.number].seen = 0
	return row[best]
}

// longestRow is how far back is looked for the one that was lost.
const longestRow = 64

// arrived: that occasion was seen in a view. Unless that is sure its order tells nothing.
func (l *ledger) arrived(v *view, r *trace.Record, o *occasion, unsure bool) {
	s, cell := &o.slips[v.number], &l.report(o.name).Views[v.number-1]
	if s.seen++; s.seen == 1 {
		s.at = r.T
	}
	if s.due && !s.soon && s.seen == 1 {
		cell.Seen++
	}
	if o.rule == nil || o.rule.SeenBy == rulebook.Nobody || !v.in || v.out() {
		return
	}
	switch {
	case s.seen > 1:
		cell.Repeated++
		l.finding(EventRepeated, v, o.name, o.entity, r.T, r.T, o.rule, fmt.Sprintf("%s came again, for the %s time", o.what(), ordinal(s.seen)))
		return
	case !o.isFor(v):
		cell.Misplaced++
		l.finding(EventUnexpected, v, o.name, o.entity, r.T, r.T, o.rule, o.what()+" is not for this view")
	case !o.says(r):
		cell.Misplaced++
		l.finding(EventUnexpected, v, o.name, o.entity, r.T, r.T, o.rule,
			fmt.Sprintf("%s was %s, the view says %s", o.what(), content(o.entity, o.by, o.to, o.data), content(r.Entity, r.By, r.To, r.Data)))
	case s.lost != nil:
		cell.Lost--
		cell.Late++
		s.lost.Kind, s.lost.EndedAt, s.lost.Why = EventLate, Seconds(r.T), fmt.Sprintf("%s came after %.2f s", o.what(), (r.T-o.t).Seconds())
		s.lost.Open, s.lost.Ended, s.lost.Knobs.MaxDelay = false, "its arrival", upTo10ms(r.T-o.t, o.rule.MaxDelay)
		s.lost.sign()
	}
	if o.rule.Ordered && !unsure {
		if latest := v.latestEvent[o.rule]; latest != nil && o.number < latest.number && s.seen == 1 {
			cell.Misordered++
			l.finding(EventMisorder, v, o.name, o.entity, r.T, r.T, o.rule, fmt.Sprintf("%s came after %s, which the reference told later", o.what(), latest.what()))
		} else {
			v.latestEvent[o.rule] = o
		}
	}
}

// content tells of whom an event was, by whom, to whom, and with what.
func content(entity, by, to, data string) string {
	var words []string
	for _, part := range [...][2]string{{"of", entity}, {"by", by}, {"to", to}, {"with", data}} {
		if part[1] != "" {
			words = append(words, part[0]+" "+part[1])
		}
	}
	return strings.Join(words, " ")
}

func (o *occasion) what() string {
	if o.id != "" {
		return o.name + " " + o.id
	}
	return fmt.Sprintf("%s of %.3f s", o.name, o.t.Seconds())
}

func ordinal(n int) string {
	switch n {
	case 2:
		return "second"
	case 3:
		return "third"
	}
	return fmt.Sprintf("%dth", n)
}

// come looks for what should have come by t and did not.
func (l *ledger) come(t time.Duration) {
	for _, o := range l.sent {
		if o.rule == nil || t-o.t > occasionsKept {
			continue
		}
		for _, v := range l.match.views[1:] {
			s := &o.slips[v.number]
			if !s.due || s.seen > 0 || s.lost != nil {
				continue
			}
			if !v.in || v.out() || v.joinedAt > o.t {
				s.due = false // it left before, or is out to the reference
				if !s.soon {
					l.report(o.name).Views[v.number-1].Expected--
				}
				continue
			}
			if deadline := v.resentBy(o.t, v.expiry(o.t, o.rule.MaxDelay, o.t), o.rule) + o.rule.MinDuration; deadline <= t {
				cell := &l.report(o.name).Views[v.number-1]
				if s.soon {
					if !v.wholeBy(o.t) {
						s.due = false
						continue
					}
					s.soon = false
					cell.Graced--
					cell.Expected++
				}
				cell.Lost++
				o := l.likelyLost(v, o)
				lost := l.finding(EventLost, v, o.name, o.entity, o.t, t, o.rule, o.what()+" never came")
				lost.Open, lost.Ended = true, "it never came"
				o.slips[v.number].lost = lost
			}
		}
	}
	for len(l.sent) > 0 && t-l.sent[0].t > occasionsKept {
		if key := l.sent[0].key(); len(l.byID[key]) > 1 { // the oldest comes first
			l.byID[key] = l.byID[key][1:]
		} else {
			delete(l.byID, key)
		}
		l.sent = l.sent[1:]
	}
	kept := l.early[:0]
	for _, a := range l.early {
		if t-a.t <= a.rule.MaxAhead+a.rule.MinDuration {
			kept = append(kept, a)
			continue
		}
		if o, before, _ := l.of(a.view, &a.r, a.rule); o == nil && before != nil { // so it was no new one
			l.arrived(a.view, &a.r, before, false)
			continue
		}
		l.report(a.r.Event).Views[a.view.number-1].Misplaced++
		l.finding(EventUnexpected, a.view, a.r.Event, a.r.Entity, a.t, t, a.rule, a.r.Event+" "+a.r.ID+" was never told by the reference")
	}
	l.early = kept
}

// eventsTogether is how close findings of the same kind about the same event in
// one view may be to count as one; what is lost stays apart, because it may come.
const eventsTogether = 10 * time.Second

// eventFinding makes a finding about an event, or adds to one that is under way.
func (l *ledger) finding(kind Kind, v *view, name, entity string, began, ended time.Duration, rule *rulebook.EventRule, why string) *Finding {
	key := fmt.Sprint(v.number, kind, name)
	if f := l.running[key]; f != nil && kind != EventLost && began-time.Duration(f.EndedAt) < eventsTogether {
		f.times++
		f.EndedAt = Seconds(ended)
		f.Why = fmt.Sprintf("%s; %d such in a row", f.first, f.times)
		return f
	}
	f := &Finding{Kind: kind, View: v.name, Entity: entity, Subject: Subject{AboutEvent, name}, BeganAt: Seconds(began), EndedAt: Seconds(ended),
		Why: why, first: why, times: 1, settle: rule.MinDuration, Ended: "the event itself", eventRule: rule}
	f.Evidence = l.match.circumstances(v, began, ended)
	l.match.add(f)
	l.running[key] = f
	return f
}

func (l *ledger) end(t time.Duration) { l.come(t) }
