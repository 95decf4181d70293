package judge

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// cheats asks what came of values that a player changed behind the game's back: whether the client
// showed them at all, whether the reference took them, and how soon they were corrected. It judges
// nothing: an attempt that was never made is warned of, because a match that survives it proves
// nothing.
type cheats struct {
	match *Judge
	made  []*attempt
}

// CheatReport is what came of one attempt.
type CheatReport struct {
	View  string   `json:"view"`
	At    Seconds  `json:"t_s"`
	Set   string   `json:"set"`
	Came  Came     `json:"came"`
	After *Seconds `json:"after_s,omitempty"` // until it was corrected
}

// Came is what came of an attempt to cheat.
type Came string

const (
	NeverTried Came = "never-tried" // the client did not change
	Taken      Came = "taken"       // the reference has it, too
	Corrected  Came = "corrected"   // the client went back to what the reference has
	Kept       Came = "kept"        // the client kept it to itself
)

// attempt is a value that a player set.
type attempt struct {
	view   *view
	t      time.Duration
	fields []trace.Field
	to     []float64 // where it was set to; nil if that is not known
	before []float64 // what the client showed then
	course []sample
	report CheatReport
	over   bool
}

// sample is what both sides had at a moment after it.
type sample struct {
	t                time.Duration
	shown, reference []float64 // reference is nil if it has none
}

const (
	triedWithin   = time.Second     // in which a client shows what was set
	decidedWithin = 3 * time.Second // in which the reference takes it, or the client goes back
	leapOf        = 5.0             // how much more than its usual change shows that a value was set
	near          = 0.25            // of how far a value was moved, that counts as there
)

// take takes in attempts, and what clients show after them.
func (c *cheats) take(v *view, r *trace.Record) {
	if v.number == 0 {
		return
	}
	if what, set := strings.CutPrefix(r.Input, trace.SetInput); set && v.in {
		c.begin(v, what, r)
	}
	for _, a := range c.made {
		if a.over || a.view != v || len(r.State) == 0 {
			continue
		}
		if now := a.values(v); now != nil {
			a.course = append(a.course, sample{r.T, now, c.reference(a, r.T)})
		}
	}
}

func (c *cheats) begin(v *view, what string, r *trace.Record) {
	m := v.mirrorOf(v.own)
	if m == nil || !m.isThere {
		return
	}
	names := []string{what}
	var data struct {
		To []float64 `json:"to"`
	}
	_ = json.Unmarshal([]byte(r.Data), &data) // without it where it went to is not known
	if what == "place" {
		if names = rulebook.PlaceOf(c.match.config.Rules.Fields, c.match.config.Names.EntityID(v.own)); names == nil {
			names = []string{"x", "y"}
		}
	}
	a := &attempt{view: v, t: r.T, report: CheatReport{View: v.name, At: Seconds(r.T), Set: what}}
	for _, name := range names {
		a.fields = append(a.fields, c.match.config.Names.Field(name))
	}
	if len(data.To) == len(a.fields) {
		a.to = data.To
	}
	if a.before = a.values(v); a.before == nil {
		return // the client tells no such thing: nothing can be said
	}
	c.made = append(c.made, a)
}

func (a *attempt) values(v *view) []float64 {
	if m := v.mirrorOf(v.own); m != nil && m.isThere {
		return numbersOf(m.values, a.fields)
	}
	return nil
}

// numbersOf are the numbers in some fields, nil if one has none.
func numbersOf(values []trace.Value, fields []trace.Field) (list []float64) {
	for _, f := range fields {
		if int(f) >= len(values) || values[f].Kind() != trace.KindNumber {
			return nil
		}
		list = append(list, values[f].Float())
	}
	return list
}

func apart(a, b []float64) float64 {
	sum := 0.0
	for i := range a {
		sum += (a[i] - b[i]) * (a[i] - b[i])
	}
	return math.Sqrt(sum)
}

// reference is what the reference had at t, or nil where no rule compares it.
func (c *cheats) reference(a *attempt, t time.Duration) []float64 {
	e := c.match.entityOf(a.view.own)
	if e == nil || !e.isThere {
		return nil
	}
	i := slices.IndexFunc(e.paths, func(p *path) bool { return slices.Equal(p.fields, a.fields) && len(p.corners) > 0 })
	if i < 0 {
		return nil
	}
	p := e.paths[i].at(t)
	return p[:len(a.fields)]
}

// come decides what came of attempts that are old enough.
func (c *cheats) come(t time.Duration) {
	for _, a := range c.made {
		if !a.over && t-a.t > decidedWithin {
			a.decide()
		}
	}
}

// decide says what came of it. That the client shows what was set is told by where it went, or
// else by a leap that is larger than its other changes in that time.
func (a *attempt) decide() {
	a.over = true
	tried := a.tried()
	if tried < 0 {
		a.report.Came = NeverTried
		return
	}
	set := a.course[tried].shown
	there := func(value []float64) bool { return value != nil && apart(value, set) <= near*apart(a.before, set) }
	a.report.Came = Kept
	for _, s := range a.course[tried:] {
		if there(s.reference) {
			a.report.Came = Taken
			return
		}
		if s.reference != nil && apart(s.shown, s.reference) <= near*apart(a.before, set) {
			after := Seconds(s.t - a.t)
			a.report.Came, a.report.After = Corrected, &after
			return
		}
	}
}

// tried is the first moment at which the client showed what was set, or -1.
func (a *attempt) tried() int {
	var steps []float64
	last := a.before
	for i, s := range a.course {
		if s.t-a.t > triedWithin {
			break
		}
		if a.to != nil && apart(s.shown, a.to) <= near*apart(a.before, a.to) {
			return i
		}
		steps, last = append(steps, apart(s.shown, last)), s.shown
	}
	if a.to != nil || len(steps) == 0 {
		return -1
	}
	usual := slices.Sorted(slices.Values(steps))[(len(steps)-1)/2]
	return slices.IndexFunc(steps, func(step float64) bool { return step > leapOf*usual })
}

func (c *cheats) end(t time.Duration) {
	c.come(t)
	for _, a := range c.made {
		if !a.over && t-a.t >= triedWithin { // otherwise nothing can have come of it yet
			a.decide()
		}
	}
}

func (c *cheats) reports() (list []CheatReport) {
	for _, a := range c.made {
		if a.report.Came != "" {
			list = append(list, a.report)
		}
	}
	return slices.Clip(list)
}

func (c *cheats) warnings() (list []Warning) {
	for _, r := range c.reports() {
		if r.Came == NeverTried {
			list = append(list, Warning{View: r.View, Text: r.View + " set its " + r.Set + " at " + r.At.String() + ", and its client never showed it: as far as its trace tells, the cheat was never tried"})
		}
	}
	return list
}
