// Package judge compares what every view of a match believed with what the
// reference (the server) believed, and says who disagreed about what, from when
// to when, by how much, of what kind the disagreement is, and what happened on
// the wire just before. docs/findings.md explains the definitions.
//
// It works in one pass in time order on trace records, watch rules and, where
// they are known, the outcomes of packets; it needs memory for the length of its
// windows, not of the match. It knows nothing of how the traces came about.
package judge

import (
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Config is what a judge is told beforehand.
type Config struct {
	Names    *trace.Names // that the records' names come from
	Rules    rulebook.Rules
	Views    []string // names of the views; the first is the reference
	Outcomes bool     // the outcomes of all packets will be told

	// Peers says that the reference is a client as well: what went over a view's link does
	// not tell what it could know of the reference, and is evidence alone.
	Peers bool

	// Ticks says that fields and existence are compared at equal ticks, and not by time:
	// see ticks. Everything else is judged by the times of the records.
	Ticks bool

	Untraced bool // no program tells a trace: nothing can be compared, and need not be

	Strict bool // a match is no pass if anything that should have been compared was not

	Alert func(Alert) // hears of findings as they become certain; may be nil
}

// Judge takes in records and packets and gives a verdict. See [New].
type Judge struct {
	config   Config
	fields   [][]trace.Field // of each rule; nil for existence
	places   []nearRule      // what rules of entities seen from near hold positions in
	views    []*view
	entities []*entity // by trace.Entity; nil for those the reference never named
	known    []*entity // in the order the reference named them
	now      time.Duration
	began    bool
	first    time.Duration // time of the first record
	wait     time.Duration // how long after a moment it is known what may explain it, if the reference tells everything at once
	behind   time.Duration // how far judging runs behind the newest record: that, and until the reference has told
	waiting  queue
	swept    time.Duration

	ages   map[*rulebook.Rule]*histogram // of what is shown by each rule
	rhythm rhythm                        // in which the reference tells its state
	stamp  int                           // counts full snapshots
	epoch  int                           // counts what was taken in

	listened time.Duration // when it was last looked who hears nothing

	certain  int // findings, so far
	likened  int // entities that were looked at for where another one is: see likeInAll
	ended    bool
	thorough bool // in tests: the latest moment that explains a value is looked for each time

	questions []question
	roster    *roster
	ledger    *ledger
	tally     *tally
	effects   *effects
	cheats    *cheats
	laws      *laws
	ticks     *ticks // nil where fields are compared by time

	findings   []*Finding
	unmeasured []string // what has a limit and was not measured in any view
	starving   []metrics.Short
	doubtful   int
	members    []membership
}

// question is one thing that is asked of a match: whether what views show agrees, whether events
// arrive. Only the reference's paths, who is in, and what had been heard are known to all; how
// each question is asked is in a file of its own.
type question interface {
	// take takes in a line of a side when all that was said before it has been judged. Of the
	// reference's these are those that say more than its state.
	take(v *view, r *trace.Record)
	come(t time.Duration) // all that may explain what was so up to t is known
	end(t time.Duration)  // the match is over
}

// sweepEvery is how often everything that nobody spoke about is looked at.
const sweepEvery = 200 * time.Millisecond

// keptToExplain is how long what the reference had is kept at least: what is wrong may be
// explained by it.
const keptToExplain = 3500 * time.Millisecond

// longSilence is how long everybody must be silent for time to be skipped, as
// when a clock jumps.
const longSilence = 2 * time.Minute

// patience is how much longer than a lead the judge waits to learn whether the
// reference could know of what a view predicted.
const patience = time.Second

// New returns a judge. The rules must be valid.
func New(config Config) *Judge {
	rules := config.Rules.Fields
	if config.Ticks {
		config.Rules.Fields = nil
	}
	j := &Judge{config: config}
	j.tally, j.effects = newTally(j), newEffects(j)
	j.laws = newLaws(j, config.Names, config.Rules.Invariants)
	j.roster, j.ledger = newRoster(j), newLedger(j)
	j.questions = []question{j.roster, j.ledger, j.tally, newChains(j), j.effects}
	for _, rule := range config.Rules.Fields {
		var list []trace.Field
		for _, f := range rule.Fields {
			if f != rulebook.Existence {
				list = append(list, config.Names.Field(f))
			}
		}
		j.fields = append(j.fields, list)
		if rule.SeenBy == rulebook.InRange {
			near := nearRule{compare: rulebook.Rule{Compare: rulebook.Distance}}
			for _, f := range rule.Place {
				near.fields = append(near.fields, config.Names.Field(f))
			}
			j.places = append(j.places, near)
		}
		if rule.MaxAhead > 0 {
			wait := rule.MaxAhead
			if config.Outcomes && !config.Peers {
				wait += patience
			}
			j.wait = max(j.wait, wait)
		}
		if rule.TimeDriven {
			j.wait = max(j.wait, sweepEvery) // the reference's path must be known at the moment itself
		}
	}
	j.behind = j.wait
	for i, name := range config.Views {
		v := &view{judge: j, name: name, number: i, stays: []Stay{}}
		knowing := config.Outcomes && !config.Peers
		v.down.known, v.up.known, v.asked, v.lostLast = knowing, knowing, -never, -never
		j.views = append(j.views, v)
	}
	if config.Ticks {
		j.ticks = newTicks(j, rules)
	} else {
		j.questions = append(j.questions, &fields{j})
	}
	j.cheats = &cheats{match: j}
	j.questions = append(j.questions, j.cheats) // behind the fields: it looks at what they say of a client
	return j
}

// Record takes in one record of a view, by the view's place in Config.Views.
// Records of one view must come in time order, and those of different views and
// packets in time order too; at the same instant any order will do. The record
// is copied.
func (j *Judge) Record(view int, r *trace.Record) {
	j.epoch++
	j.advance(r.T)
	v := j.views[view]
	if !v.spoke {
		v.spoke, v.from = true, r.T
	}
	v.to = r.T
	v.records++
	if r.Input != "" {
		v.did(r)
	}
	if j.ticks != nil {
		j.ticks.record(view, r)
	}
	if view == 0 {
		j.reference(r)
		if r.Event == "" && r.Checkpoint == "" && r.Joined == "" && r.Left == "" && r.Refused == "" && len(j.effects.rules) == 0 {
			return
		}
		// What else it says is compared when the views are judged up to then.
	}
	j.waiting.push(view, r)
}

// Packet takes in the outcome of a packet on the link of a view.
func (j *Judge) Packet(view int, p link.Packet) {
	j.epoch++
	j.advance(p.Sent)
	j.views[view].packet(p)
}

// Age is how old what a view shows of moving entities is, in ms, or nil if nothing
// was seen moving.
func (j *Judge) Age(view int) *metrics.Spread { return j.views[view].ages.spread() }

// Rollbacks is how often a view rolled back, or nil where ticks are not compared.
func (j *Judge) Rollbacks(view int) *metrics.Rollbacks {
	if j.ticks == nil {
		return nil
	}
	r := &j.ticks.views[view-1].report
	return &metrics.Rollbacks{PerMinute: r.PerMinute, Deepest: float64(r.Deepest)}
}

// advance lets time pass: all client records that no later record can change
// the meaning of are judged.
func (j *Judge) advance(t time.Duration) {
	if !j.began {
		j.began, j.first, j.now, j.swept = true, t, t, t
	}
	if t <= j.now {
		return
	}
	j.now = t
	j.listenToSilence(t)
	j.catchUp(t - j.behind)
}

// catchUp judges everything before t.
func (j *Judge) catchUp(t time.Duration) {
	for {
		next, ok := j.waiting.peek()
		for j.swept+sweepEvery < t && (!ok || j.swept+sweepEvery <= next) {
			j.swept += sweepEvery
			j.sweep(j.swept)
			until := t
			if ok {
				until = min(t, next)
			}
			if until-j.swept > longSilence { // nothing happens in between that the last sweep does not see
				j.swept = until - longSilence/2
			}
		}
		if !ok || next >= t {
			return
		}
		number, r := j.waiting.pop()
		switch {
		case r == nil: // something that waited for this moment, and is done
		case number == 0:
			for _, q := range j.questions {
				q.take(j.views[0], r)
			}
		default:
			j.client(j.views[number], r)
		}
	}
}

// Finish ends a match that was complete: whatever is still going on is left open.
func (j *Judge) Finish() *Verdict {
	return j.FinishWith(ending.Ending{How: ending.Complete}, nil)
}

// FinishWith is Finish of a match that ended as it may, and with what others know of it, who are
// asked at the end.
func (j *Judge) FinishWith(how ending.Ending, outside func() Outside) *Verdict {
	defer func() { j.ended = true }()
	end := j.now
	j.catchUp(end + 1)
	if j.ticks != nil {
		j.ticks.finish(end)
	}
	for _, v := range j.views[1:] {
		if v.in {
			v.stayed(end)
		}
	}
	for _, q := range j.questions {
		q.end(end)
	}
	if outside != nil {
		j.outside(outside(), end)
	}
	return j.verdict(end, how)
}

// sweep lets everything be asked up to t, and forgets what no question needs any more.
func (j *Judge) sweep(t time.Duration) {
	for _, q := range j.questions {
		q.come(t)
	}
	oldest := t
	for _, v := range j.views[1:] {
		if !v.in {
			continue
		}
		if heard := v.down.newest(t); heard > -never {
			oldest = min(oldest, heard)
		}
	}
	oldest -= max(j.longestLag()+2*sweepEvery, keptToExplain)
	for _, entity := range j.known {
		entity.exists.forget(oldest)
		for _, p := range entity.paths {
			p.forget(oldest)
		}
	}
	j.rhythm.forget(oldest)
	for _, v := range j.views[1:] {
		v.rhythm.forget(oldest)
		v.down.forget(oldest)
		v.up.forget(oldest)
	}
}

func (j *Judge) longestLag() (longest time.Duration) {
	for i := range j.config.Rules.Fields {
		r := &j.config.Rules.Fields[i]
		longest = max(longest, r.MaxDelay+resends*r.ResentWithin)
	}
	return longest
}
