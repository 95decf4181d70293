package judge

import "time"

// episode is a stretch of unexplained time.
type episode struct {
	began     time.Duration // first unexplained moment
	last      time.Duration // end of the last unexplained stretch
	known     time.Duration // from when on the view could know better: see couldKnow
	amount    time.Duration // unexplained time in it, since then
	certain   bool          // amount reached settle
	lastMatch time.Duration // the reference's moment that explained the value before
	before    sighting      // the last that was explained, beside what explained it
	beside    point         // what the reference had at that moment itself
	seen      []sighting    // evenly thinned
	stride    int           // every so many sightings are kept
	final     sighting      // the last unexplained one
	history   []corner      // the reference from some time before the episode on, as far as it is kept
	early     []sighting    // the first few
	count     int
	changes   int     // values that the view said while it went on
	pending   int     // likewise, explained ones: they count if it goes on
	worst     float64 // how far a value was from any that could explain it, at the beginning of its stretches
	widest    float64 // likewise, also at their ends
	evidence  Evidence
	like      likeness // of an entity that the view alone has
	healed    healing  // how it was explained again, if nothing unexplained has followed
}

// healing is how a value came to be explained after an episode.
type healing struct {
	ok      bool
	t       time.Duration // when
	by      time.Duration // the moment of the reference that explains it
	value   point         // the view's
	passing bool          // the reference did not tell the value, but one below and one above
	byView  bool          // the view changed then; otherwise the reference came to its value
}

// sighting is a value of the view beside the reference's at one moment.
type sighting struct {
	t           time.Duration
	byTick      bool // the two sides were compared at a tick, and this is which
	tick        int64
	view, there point
	gap         float64       // 0 if explained
	late        time.Duration // how late it might have been
	age         time.Duration // if explained
	ok          bool          // explained
	wrap        float64       // it would be if a coordinate were shifted by so much: see wrapOf
	heard       point         // the reference's newest value that the view could know
	velocity    point         // of the reference, a second
	pace        point         // of the view
	own         point         // where the view's own entity was, NaN if that is not known
}

// explained is a value of the view that the reference explained. The zero value
// is none.
type explained struct {
	t     time.Duration
	view  point
	age   time.Duration
	until time.Duration // it may be less old, up to here
	ok    bool
}

// sighting adds what the reference said at that moment.
func (e explained) sighting(p *path) sighting {
	return sighting{t: e.t, view: e.view, there: p.at(e.t), age: e.age, ok: true}
}

// settled has the least age that it can have.
func (e explained) settled(p *path, within float64) explained {
	if e.until > e.t-e.age {
		if last, ok := p.latest(e.view, within, e.t-e.age, e.until); ok {
			e.age = e.t - last
		}
		e.until = 0
	}
	return e
}

const sightingsKept = 48

// note keeps a sighting, evenly thinned; those that stay are filled in.
func (e *episode) note(p *path, s sighting, fill func(s *sighting)) {
	e.remember(p)
	if len(e.early) < valueRows {
		e.early = append(e.early, s)
	}
	e.count++
	if (e.count-1)%e.stride != 0 {
		return
	}
	e.seen, e.stride = thinned(e.seen, e.stride)
	fill(&s)
	e.seen = append(e.seen, s)
}

// historyKept is how many corners of the reference an episode keeps, to be explained by.
const historyKept = 2048

// remember keeps what the reference did since the last time.
func (e *episode) remember(p *path) {
	from := 0
	if n := len(e.history); n > 0 {
		from = max(0, p.seek(e.history[n-1].t)+1)
	}
	if room := historyKept - len(e.history); from < len(p.corners) && room > 0 {
		e.history = append(e.history, p.corners[from:min(len(p.corners), from+room)]...)
	}
}

// thinned makes room for one more sighting: of a full list every other one stays, and from
// then on every other one is kept.
func thinned(seen []sighting, stride int) ([]sighting, int) {
	if len(seen) < sightingsKept {
		return seen, stride
	}
	for i := range sightingsKept / 2 {
		seen[i] = seen[2*i]
	}
	return seen[:sightingsKept/2], 2 * stride
}
