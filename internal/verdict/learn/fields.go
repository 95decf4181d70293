package learn

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/cost"
	"zitherwheel/internal/verdict/rulebook"
)

// subject is what one rule compares: fields of a kind that go together, or one alone.
type subject struct {
	kind   *kind
	names  []string
	circle float64
	step   float64
	place  bool // several numbers, or one that goes
}

// track is a subject of one entity in one client's view.
type track struct {
	match   *Match
	view    *teller
	entity  trace.Entity
	own     bool
	samples []sample
	wrong   int // samples that nothing explains
}

// sample is what a view showed at a moment.
type sample struct {
	t     time.Duration
	value [3]float64
}

// lateness is how late or early samples are, beside how far they are off.
type lateness struct {
	tracks, samples, wrong int
	ages, ahead            []time.Duration
	resent                 resent
	residuals              []float64
	shownStep              float64   // the coarsest decimal step on which all that is shown lies
	now                    []float64 // how far off from what the server had at the same moment
	standing               []float64 // the same, where it has stood for a while
	interval               float64   // how far it goes from one of the server's records to the next, at its fastest
	views                  map[string]bool
	steady                 string // what is said of it if it disagrees steadily
}

// learn draws the rules of a kind.
func (k *kind) learn(l *Lesson) {
	taken := map[string]bool{}
	var subjects []subject
	for _, group := range k.vectors() {
		s := subject{kind: k, place: true, step: math.Inf(1)}
		for _, f := range group {
			s.names, s.step = append(s.names, f.name), min(s.step, f.step)
			taken[f.name] = true
		}
		subjects = append(subjects, s)
	}
	for _, f := range k.order {
		if !taken[f.name] {
			subjects = append(subjects, subject{kind: k, names: []string{f.name}, circle: f.circle(), step: f.step, place: f.moving()})
		}
	}
	first, apart := len(l.Rules), false
	for _, s := range subjects {
		apart = s.learn(l, apart) && len(s.names) > 1 || apart
	}
	siblings(l.Rules[first:])
	k.existence(l)
	k.laws(l)
}

const (
	afterJoining   = time.Second // what is shown so soon after joining tells nothing of how late a view is
	mostOfTrack    = 400         // samples of one track
	mostTracks     = 240         // of one subject, spread over all
	fewSamples     = 200         // a rule that rests on fewer says so
	cameToRest     = 1500 * time.Millisecond
	neverAgrees    = 0.95 // share of samples that nothing explains, above which a person is asked
	seldomExplains = 0.02 // above which it is said
)

// tracks are all of a subject that can be compared.
func (s *subject) tracks() (list []*track) {
	for _, e := range s.kind.entries {
		for _, v := range e.match.views[1:] {
			if v.there[e.entity] == nil {
				continue
			}
			told := true
			for _, name := range s.names {
				told = told && v.courses[place{e.entity, e.match.names.Field(name)}] != nil && e.match.views[0].courses[place{e.entity, e.match.names.Field(name)}] != nil
			}
			if told {
				list = append(list, &track{match: e.match, view: v, entity: e.entity, own: v.own[e.entity]})
			}
		}
	}
	if len(list) > mostTracks {
		var some []*track
		for i := range mostTracks {
			some = append(some, list[i*len(list)/mostTracks])
		}
		list = some
	}
	return list
}

// siblings gives the fields of an entity the time that its place takes at least: what comes with the same
// messages is as late, and predicted as far ahead, also where the values themselves do not show it.
func siblings(rules []Rule) {
	for i := range rules {
		r := &rules[i]
		for _, place := range rules {
			if len(place.Fields) > 1 && !place.still && !r.still && place.SeenBy == rulebook.Everyone && (place.Of == r.Of || place.Of == rulebook.Any || r.Of == rulebook.Any) {
				r.MaxDelay, r.MaxAhead = max(r.MaxDelay, place.MaxDelay), max(r.MaxAhead, place.MaxAhead)
			}
		}
	}
}

// learn draws the rules of a subject, one for what a view shows of its own entity and one for that of
// others, and reports whether they are two. Unless apart says so, one rule is made of two that are alike.
func (s *subject) learn(l *Lesson, apart bool) (two bool) {
	tracks := s.tracks()
	if len(tracks) == 0 {
		return false // no client tells it, so nothing could be compared
	}
	var own, others []*track
	for _, t := range tracks {
		if t.own {
			own = append(own, t)
		} else {
			others = append(others, t)
		}
	}
	a, b := s.rule(own, rulebook.Own), s.rule(others, rulebook.Others)
	if a != nil && b != nil {
		a.correct(b)
		b.correct(a)
		b.tighten(a)
	}
	switch {
	case a == nil || b == nil:
	case !apart && alike(a, b):
		b.Of, b.MaxDelay, b.MaxAhead, b.Tolerance = rulebook.Any, max(a.MaxDelay, b.MaxDelay), max(a.MaxAhead, b.MaxAhead), max(a.Tolerance, b.Tolerance)
		b.Why = append(a.Why, b.Why...)
		a = nil
	}
	for _, r := range []*Rule{a, b} {
		if r == nil {
			continue
		}
		if len(own) == 0 || len(others) == 0 {
			r.Of = rulebook.Any
		}
		if r.SeenBy == rulebook.Nobody {
			l.Asked = append(l.Asked, fmt.Sprintf("%s of %s (%s) never agrees with the server's: cosmetic, or a bug? It is not judged as long as its rule says seen-by: nobody", r.Label(), r.Entities, r.Of))
		}
		l.Rules = append(l.Rules, *r)
	}
	return a != nil && b != nil
}

// correct takes what never agrees for wrong and not for cosmetic if it does agree where somebody else
// shows it: what is shown of one's own is the same thing.
func (r *Rule) correct(by *Rule) {
	if r.SeenBy != rulebook.Nobody || by.SeenBy == rulebook.Nobody {
		return
	}
	r.SeenBy, r.Compare, r.Circle, r.Tolerance, r.MaxDelay = by.SeenBy, by.Compare, by.Circle, by.Tolerance, by.MaxDelay
	r.Why = append(r.Why, "SUSPICIOUS: it never agrees, where others show the same and do; the rule is written as if it must")
}

// tighten takes what is shown of others for wrong if it is off far more than one's own: what is predicted
// may err, what is only shown need not.
func (r *Rule) tighten(own *Rule) {
	const far = 5
	if r.Compare == rulebook.Exact || own.Compare != r.Compare || own.still || own.Tolerance == 0 || r.Tolerance <= far*own.Tolerance {
		return
	}
	r.Why = append(r.Why, fmt.Sprintf("SUSPICIOUS: what is shown of others would take a tolerance of %g, and one's own %g; the rule is written as if they were shown as well", r.Tolerance, own.Tolerance))
	r.Tolerance = 2 * own.Tolerance
}

// alike reports whether one rule would do for what a view shows of its own and of others'.
func alike(a, b *Rule) bool {
	near := func(x, y, least float64) bool { return math.Abs(x-y) <= max(0.35*max(x, y), least) }
	return a.Compare == b.Compare && a.SeenBy == b.SeenBy && a.Role == b.Role && near(a.MaxDelay.Seconds(), b.MaxDelay.Seconds(), 0.1) &&
		near(a.MaxAhead.Seconds(), b.MaxAhead.Seconds(), 0.05) && near(a.Tolerance, b.Tolerance, 0)
}

// rule draws the rule for some of the tracks.
func (s *subject) rule(tracks []*track, of rulebook.Relation) *Rule {
	if len(tracks) == 0 {
		return nil
	}
	r := &Rule{Rule: rulebook.Rule{Entities: s.kind.pattern(), Of: of, Fields: s.names, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace}}
	f := s.kind.fields[s.names[0]]
	if len(s.names) == 1 && f.owners > 0 && 2*f.owners >= f.others {
		r.Role = rulebook.Owner
	}
	rounded := f.fractions > 0 && f.others+f.flags == 0
	var late *lateness
	byTicks := tracks[0].match.ticks
	if byTicks {
		late = s.atTicks(tracks, r)
	} else if s.place {
		late = s.follow(tracks, r)
	} else if late = s.exact(tracks); rounded && late.samples > 0 && 2*late.wrong > late.samples {
		late = s.follow(tracks, r) // perhaps it is rounded
	}
	if late.samples == 0 {
		return nil
	}
	r.MaxDelay, r.MaxAhead = span(late.ages, 100*time.Millisecond), time.Duration(0)
	if byTicks {
		r.MaxDelay = rulebook.DefaultMaxDelay // which plays no part
	}
	r.resent, r.steady = late.resent, late.steady != ""
	if len(late.ahead)*200 >= late.samples {
		r.MaxAhead = span(late.ahead, 0)
	}
	if float64(late.wrong) > neverAgrees*float64(late.samples) && late.tracks > 2 && late.steady == "" {
		r.SeenBy = rulebook.Nobody
	}
	r.Thin = late.samples < fewSamples
	if len(late.now) > 0 {
		r.atOnce = quantile(late.now, 0.999)
	}
	if r.moves = s.place; len(late.ages) > 0 {
		r.late = quantile(late.ages, 0.9)
	}
	r.still = r.MaxDelay <= 100*time.Millisecond && s.still()
	if r.Why = s.why(late, r); byTicks {
		r.Why = s.whyAtTicks(late, r)
	}
	return r
}

// still reports whether it never changed, so that nothing shows how late it is.
func (s *subject) still() bool {
	for _, name := range s.names {
		if s.kind.fields[name].changes > 0 {
			return false
		}
	}
	return true
}

// span is how long a time must be to hold a list of such, with a margin, in steps of 50 ms.
func span(list []time.Duration, least time.Duration) time.Duration {
	if len(list) == 0 {
		return max(least, 0)
	}
	const step = 50 * time.Millisecond
	d := quantile(list, 0.999)
	d += max(d/4, step)
	return max(least, (d+step-1)/step*step)
}

func quantile[T time.Duration | float64](list []T, q float64) T {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[min(len(sorted)-1, int(q*float64(len(sorted))))]
}

// follow learns how far off and how late numbers that go are shown.
func (s *subject) follow(tracks []*track, r *Rule) *lateness {
	late := &lateness{views: map[string]bool{}, shownStep: 1e6}
	r.Compare = rulebook.Distance
	if s.circle > 0 {
		r.Compare, r.Circle = rulebook.Angle, s.circle
	}
	paths := map[*track]*path{}
	for _, t := range tracks {
		fields := s.fieldsIn(t.match)
		server, shown := t.match.views[0].pathOf(t.entity, fields, s.circle), t.view.pathOf(t.entity, fields, s.circle)
		paths[t] = server
		t.samples = s.sample(t, server, shown)
	}
	delays := map[*teller]time.Duration{} // every view has its own
	for _, t := range tracks {
		if _, known := delays[t.view]; !known {
			delays[t.view] = s.delay(slices.DeleteFunc(slices.Clone(tracks), func(o *track) bool { return o.view != t.view }), paths)
		}
	}
	offs := map[*track][]float64{}
	var typical []float64
	for _, t := range tracks {
		delay := delays[t.view]
		for _, sample := range t.samples {
			offs[t] = append(offs[t], paths[t].near(sample.value, sample.t-delay-250*time.Millisecond, sample.t-delay+250*time.Millisecond))
		}
		if len(offs[t]) > 0 {
			typical = append(typical, quantile(offs[t], 0.95))
		}
	}
	if len(typical) == 0 {
		return late
	}
	// A course that is off far more than the better ones is no example.
	bound := 6*quantile(typical, 0.3) + 2*s.step
	for _, t := range tracks {
		if len(offs[t]) > 0 && quantile(offs[t], 0.95) <= bound {
			late.residuals = append(late.residuals, offs[t]...)
			for _, sample := range t.samples {
				for k := range s.names {
					late.shownStep = cost.Lattice(sample.value[k], late.shownStep)
				}
				if at, ok := paths[t].at(sample.t); ok {
					off := paths[t].apart(sample.value, at)
					late.now = append(late.now, off)
					if paths[t].extent(sample.t-cameToRest, sample.t) <= s.step {
						late.standing = append(late.standing, off)
					}
				}
			}
			late.interval = max(late.interval, s.goes(t, paths[t]))
		}
	}
	if s.kind.fields[s.names[0]].varied() { // few values lie on a coarse lattice by chance
		r.Tolerance = 2 * s.step
	}
	if len(late.residuals) > 0 {
		r.Tolerance = ceil2(max(r.Tolerance, 1.5*quantile(late.residuals, 0.995), 0.5*late.interval))
	}
	if within := s.should(late); within > 0 && !(r.Tolerance <= steadyWidth*within) {
		if name, example, of, all := s.steadily(tracks, paths, within); name != "" {
			late.steady = fmt.Sprintf("SUSPICIOUS: %s, in %d of the %d courses that were looked at (%s); the rule is written as if the game were right", name, of, all, example)
			r.Tolerance = within
		}
	}
	if math.IsNaN(r.Tolerance) || math.IsInf(r.Tolerance, 0) { // nothing was ever near
		r.Tolerance = s.should(late)
	}
	ages := map[*track][]time.Duration{}
	var usual []time.Duration
	for _, t := range tracks {
		for _, sample := range t.samples {
			age, ok := paths[t].age(sample.value, r.Tolerance, sample.t, t.own)
			if !ok {
				t.wrong++
				continue
			}
			ages[t] = append(ages[t], age)
		}
		if len(ages[t]) > 0 {
			usual = append(usual, quantile(ages[t], 0.9))
		}
		late.samples, late.wrong, late.tracks = late.samples+len(t.samples), late.wrong+t.wrong, late.tracks+1
		late.views[t.view.name] = true
	}
	late.take(ages, usual)
	return late
}

// take takes in ages by track, but for those of tracks that are far later than most.
func (late *lateness) take(ages map[*track][]time.Duration, usual []time.Duration) {
	if len(usual) == 0 {
		return
	}
	most := 3*max(0, quantile(usual, 0.5)) + 400*time.Millisecond
	for _, list := range ages {
		if len(list) == 0 || len(usual) > 3 && quantile(list, 0.9) > most {
			continue
		}
		for _, age := range list {
			if age >= 0 {
				late.ages = append(late.ages, age)
			} else {
				late.ahead = append(late.ahead, -age)
			}
		}
	}
}

func (s *subject) fieldsIn(m *Match) []trace.Field { return m.fields(s.names) }

// sample picks moments of a track, at which the view told what it shows.
func (s *subject) sample(t *track, server, shown *path) (list []sample) {
	if server == nil || shown == nil {
		return nil
	}
	for _, at := range s.moments(t) {
		if value, ok := shown.at(at); ok {
			list = append(list, sample{at, value})
		}
	}
	return list
}

// moments picks moments at which the view of a track told what it shows, when both sides had the entity.
func (s *subject) moments(t *track) (list []time.Duration) {
	var moments []time.Duration
	for _, span := range t.view.there[t.entity].spans {
		first, _ := slices.BinarySearch(t.view.told, span.from)
		for _, at := range t.view.told[first:] {
			if at >= span.until {
				break
			}
			if t.view.in(at, afterJoining) && t.match.views[0].has(t.entity, at) && t.match.views[0].has(t.entity, at-longest/3) {
				moments = append(moments, at)
			}
		}
	}
	n := min(len(moments), mostOfTrack)
	for i := range n {
		list = append(list, moments[i*len(moments)/n])
	}
	return list
}

// has reports whether a view had an entity then.
func (v *teller) has(e trace.Entity, t time.Duration) bool {
	p := v.there[e]
	return p != nil && slices.ContainsFunc(p.spans, func(s stay) bool { return s.from <= t && t < s.until })
}

// delay is how much earlier the server's path fits best to what is shown while it moves, in the median.
func (s *subject) delay(tracks []*track, paths map[*track]*path) time.Duration {
	type moving struct {
		path *path
		sample
	}
	var all []moving
	for _, t := range tracks {
		for i, sample := range t.samples {
			if i%4 == 0 && paths[t].extent(sample.t-time.Second, sample.t+time.Second/2) > 4*s.step+1e-9 {
				all = append(all, moving{paths[t], sample})
			}
		}
	}
	if n := len(all); n > 3000 {
		var some []moving
		for i := range 3000 {
			some = append(some, all[i*n/3000])
		}
		all = some
	}
	if len(all) == 0 {
		return 0
	}
	best, least := time.Duration(0), math.Inf(1)
	off := make([]float64, 0, len(all))
	for d := -500 * time.Millisecond; d <= 2*time.Second; d += 25 * time.Millisecond {
		off = off[:0]
		for _, m := range all {
			if at, ok := m.path.at(m.t - d); ok {
				off = append(off, m.path.apart(m.value, at))
			}
		}
		if len(off)*2 < len(all) {
			continue
		}
		if middle := quantile(off, 0.5); middle < least {
			best, least = d, middle
		}
	}
	return best
}

// goes is how far the server's goes from one of its records to the next, at its fastest but for the
// fastest twentieth.
func (s *subject) goes(t *track, p *path) float64 {
	var list []float64
	for i := 1; i < len(p.t); i++ {
		if d := p.apart(p.v[i], p.v[i-1]); !math.IsNaN(d) {
			list = append(list, d)
		}
	}
	if len(list) == 0 {
		return 0
	}
	return quantile(list, 0.95)
}

// ceil2 rounds up to two digits.
func ceil2(v float64) float64 {
	if v <= 0 {
		return 0
	}
	scale := math.Pow(10, math.Floor(math.Log10(v))-1)
	return math.Round(math.Ceil(v/scale)*scale*1e9) / 1e9
}
