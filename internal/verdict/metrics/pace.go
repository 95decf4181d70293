package metrics

import (
	"time"

	"zitherwheel/internal/trace"
)

// Pace is how a side gets on in its ticks.
type Pace struct {
	Ticks     int64   `json:"ticks"`       // from the first to the last that it told
	PerSecond float64 `json:"per_second"`  // of those
	Interval  *Spread `json:"interval_ms"` // what a tick took: the time between two lines over the ticks between them
	P99       float64 `json:"interval_p99_ms"`
	Pause     float64 `json:"pause_ms"` // the longest time in which it told no later tick

	PauseAt  trace.Seconds `json:"pause_at_s"`             // when it ended
	PauseFor string        `json:"pause_joined,omitempty"` // who had joined within a second before, if somebody had
	Under    []Under       `json:"under,omitempty"`        // of the server: what its ticks took with so many players
}

// Under is what the ticks of the server took while so many players were in, in ms.
type Under struct {
	Players int     `json:"players"`
	Ticks   int     `json:"ticks"`
	P95     float64 `json:"interval_p95_ms"`
}

// Rollbacks is how often a view went back to tell ticks anew.
type Rollbacks struct {
	PerMinute float64 `json:"per_minute"`
	Deepest   float64 `json:"deepest"` // by how many ticks at most
}

// pace collects a Pace.
type pace struct {
	going    bool // a tick was told since the view came
	tick     int64
	at       time.Duration
	ticks    int64
	over     time.Duration
	pause    time.Duration
	pauseAt  time.Duration
	pauseFor string
	interval sample
	under    []sample // by how many players are in
}

// restarts is how long a side must tell no later tick for an earlier one to be a new beginning, and
// not a tick that is told again.
const restarts = 3 * time.Second

// tell takes in a line, with how many players are in, and who has only just joined. Ticks that are told again are no progress.
func (p *pace) tell(r *trace.Record, players int, joined string) {
	if !r.EndsTick() {
		return
	}
	if !p.going || r.Tick < p.tick && r.T-p.at > restarts {
		p.going, p.tick, p.at = true, r.Tick, r.T
		return
	}
	if r.Tick <= p.tick {
		return
	}
	took, ticks := r.T-p.at, r.Tick-p.tick
	p.ticks, p.over = p.ticks+ticks, p.over+took
	if took > p.pause {
		p.pause, p.pauseAt, p.pauseFor = took, r.T, joined
	}
	each := float64(took) / 1e6 / float64(ticks)
	p.interval.add(each)
	for len(p.under) <= players {
		p.under = append(p.under, sample{})
	}
	p.under[players].add(each)
	p.tick, p.at = r.Tick, r.T
}

// away is when the side is out of the match: what it tells next follows on nothing.
func (p *pace) away() { p.going = false }

// sum is nil where no two ticks were told. A side that told nothing any more until the end paused
// so long.
func (p *pace) sum(end time.Duration, in bool) *Pace {
	if p.over <= 0 {
		return nil
	}
	over := p.over
	if p.going && in && end-p.at > p.pause {
		p.pause, over, p.pauseAt, p.pauseFor = end-p.at, over+end-p.at, end, ""
	}
	var under []Under
	for players := range p.under {
		if s := p.under[players].spread(); s != nil && s.Count >= enoughTicks {
			under = append(under, Under{players, s.Count, s.P95})
		}
	}
	return &Pace{Under: under, P99: p.interval.rank(0.99), PauseAt: trace.Seconds(p.pauseAt), PauseFor: p.pauseFor, Ticks: p.ticks, PerSecond: round(float64(p.ticks) / over.Seconds()), Interval: p.interval.spread(), Pause: round(float64(p.pause) / 1e6)}
}

// enoughTicks is how many ticks must be told to say what they take with so many players.
const enoughTicks = 20

// starves is below which share of the ticks it should tell a side is said to starve.
const starves = 0.9

// Starving lists the sides that told fewer ticks a second than they should, with what share.
func (m *Measures) Starving(perSecond float64) (list []Short) {
	if perSecond <= 0 {
		return nil
	}
	for _, v := range append([]View{m.Server}, m.Views...) {
		if v.Pace != nil && v.Pace.PerSecond < starves*perSecond {
			list = append(list, Short{v.Name, v.Pace.PerSecond, v.Pace.PerSecond / perSecond})
		}
	}
	return list
}

// Short is a side that told too few ticks.
type Short struct {
	View      string
	PerSecond float64
	Share     float64 // of what it should have told
}
