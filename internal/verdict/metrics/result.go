package metrics

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

// Spread is how the values of a measure are spread.
type Spread struct {
	Count  int     `json:"count"`
	Median float64 `json:"median"`
	P95    float64 `json:"p95"`
	Max    float64 `json:"max"`
}

// sample collects values; many are thinned evenly.
type sample struct {
	values []float64
	stride int
	count  int
	max    float64
}

const sampleKept = 4096

func (s *sample) add(v float64) {
	s.stride = max(1, s.stride)
	s.max = max(s.max, v)
	if s.count++; (s.count-1)%s.stride != 0 {
		return
	}
	if len(s.values) == sampleKept {
		for i := range sampleKept / 2 {
			s.values[i] = s.values[2*i]
		}
		s.values = s.values[:sampleKept/2]
		s.stride *= 2
	}
	s.values = append(s.values, v)
}

// spread is nil if there is nothing.
func (s *sample) spread() *Spread {
	if s.count == 0 {
		return nil
	}
	sorted := slices.Sorted(slices.Values(s.values))
	return &Spread{s.count, rank(sorted, 0.5), rank(sorted, 0.95), round(s.max)}
}

// rank is the value of that rank among those that were kept.
func (s *sample) rank(q float64) float64 { return rank(slices.Sorted(slices.Values(s.values)), q) }

func rank(sorted []float64, q float64) float64 {
	return round(sorted[min(len(sorted)-1, int(q*float64(len(sorted))))])
}

func round(f float64) float64 { return math.Round(f*1e3) / 1e3 }

// Traffic is what went over one direction of a link.
type Traffic struct {
	Packets          int     `json:"packets"`
	Bytes            int     `json:"bytes"`
	Lost             int     `json:"lost"`
	Delay            float64 `json:"delay_ms,omitempty"` // of those that arrived, on average
	PacketsPerSecond float64 `json:"packets_per_second"`
	BytesPerSecond   float64 `json:"bytes_per_second"`
}

// View is what was measured of one view. What could not be measured is absent.
type View struct {
	Name                 string              `json:"name"`
	InFor                float64             `json:"in_s"`
	Age                  *Spread             `json:"age_ms,omitempty"`          // of what it shows of moving entities
	Corrections          *Spread             `json:"corrections,omitempty"`     // of its own entity, in the unit of places
	CorrectionsPerMinute float64             `json:"corrections_per_minute"`    //
	ResponseOwn          *Spread             `json:"response_own_ms,omitempty"` // from an input to the first change in its own view
	ResponseServer       *Spread             `json:"response_server_ms,omitempty"`
	ResponseOthers       *Spread             `json:"response_others_ms,omitempty"`
	Own                  *Motion             `json:"own_motion,omitempty"`    // how smoothly it shows its own entity move
	Others               *Motion             `json:"others_motion,omitempty"` // and others
	ClockError           *Spread             `json:"clock_error_ms,omitempty"`
	Pace                 *Pace               `json:"ticks,omitempty"` // how it gets on in its ticks, where it tells them
	Rollbacks            *Rollbacks          `json:"rollbacks,omitempty"`
	Layers               *Layers             `json:"layers,omitempty"`
	Joining              *Joining            `json:"joining,omitempty"`
	Phases               *Phases             `json:"traffic_by_phase,omitempty"`
	Up                   Traffic             `json:"up"`
	Down                 Traffic             `json:"down"`
	Sent                 map[string]*Traffic `json:"sent,omitempty"` // by kind of message, as the game tells
	Load                 *Load               `json:"load,omitempty"` // of its process, where it is one
}

// Measures is everything that was measured. Its JSON is measures.json.
type Measures struct {
	Length float64 `json:"length_s"`
	Server View    `json:"server"`
	Views  []View  `json:"views"`
	Timing *Timing `json:"timing,omitempty"` // how well a run of programs kept time
}

// Known is what the judge knows of a view: how old what it shows is, and how often it rolled back.
type Known struct {
	Age       *Spread
	Rollbacks *Rollbacks
}

// Finish sums up. known tells what the judge knows of a view.
func (c *Collector) Finish(known func(view int) Known) *Measures {
	m := &Measures{Length: round((c.last - c.first).Seconds())}
	for i, v := range c.views {
		if v.in {
			v.phases.pass(c.last)
			v.inFor += c.last - v.inFrom
		}
		r := View{Name: v.name, InFor: round(v.inFor.Seconds()), Corrections: v.corrections.spread(),
			ResponseOwn: v.responded.spread(), ResponseServer: v.server.spread(), ResponseOthers: v.elsewhere.spread(),
			ClockError: v.clock.spread(), Up: v.traffic[link.Up].over(c.last - c.first), Down: v.traffic[link.Down].over(c.last - c.first)}
		if minutes := v.inFor.Minutes(); minutes > 0 && r.Corrections != nil {
			r.CorrectionsPerMinute = round(float64(r.Corrections.Count) / minutes)
		}
		r.Own, r.Others = v.ownMotion.sum(v.inFor), v.others.sum(v.inFor)
		if cpu := v.load.cpu.spread(); cpu != nil {
			r.Load = &Load{*cpu, *v.load.resident.spread(), *v.load.threads.spread(), *v.load.files.spread()}
		}
		for _, name := range v.sentNames {
			t := v.sent[name].over(c.last - c.first)
			if r.Sent == nil {
				r.Sent = map[string]*Traffic{}
			}
			r.Sent[name] = &t
		}
		r.Pace = v.pace.sum(c.last, i == 0 || v.in)
		if i > 0 && r.Pace != nil {
			r.Pace.Under = nil // how many play is no burden of a client's that it could be told by
		}
		r.Layers, r.Joining, r.Phases = v.layers.sum(), v.joining.sum(), v.phases.sum()
		if i == 0 {
			m.Server = r
			continue
		}
		if known != nil {
			k := known(i - c.ahead)
			r.Age, r.Rollbacks = k.Age, k.Rollbacks
		}
		m.Views = append(m.Views, r)
	}
	return m
}

func (t Traffic) over(d time.Duration) Traffic {
	if arrived := t.Packets - t.Lost; arrived > 0 {
		t.Delay = round(t.Delay / float64(arrived)) // the sum until then
	}
	if d > 0 {
		t.PacketsPerSecond, t.BytesPerSecond = round(float64(t.Packets)/d.Seconds()), round(float64(t.Bytes)/d.Seconds())
	}
	return t
}

// limitable tells, by the names in rulebook.Measures, what a limit is held against. A
// view that lacks the measure has none.
var limitable = map[string]func(*View) *float64{
	"age-p95-ms":                  func(v *View) *float64 { return part(v.Age, p95) },
	"age-max-ms":                  func(v *View) *float64 { return part(v.Age, most) },
	"corrections-per-minute":      func(v *View) *float64 { return where(v.InFor > 0, v.CorrectionsPerMinute) },
	"correction-p95":              func(v *View) *float64 { return part(v.Corrections, p95) },
	"correction-max":              func(v *View) *float64 { return part(v.Corrections, most) },
	"response-own-ms":             func(v *View) *float64 { return part(v.ResponseOwn, median) },
	"response-server-ms":          func(v *View) *float64 { return part(v.ResponseServer, median) },
	"response-others-ms":          func(v *View) *float64 { return part(v.ResponseOthers, median) },
	"unevenness":                  of(others, unevenness),
	"standing":                    of(others, standing),
	"leaps-per-minute":            of(others, leaps),
	"leap-p95":                    of(others, leapSize),
	"off-path-p95":                of(others, off),
	"overshoot-p95":               of(others, overshoot),
	"settling-p95-ms":             of(others, settling),
	"own-unevenness":              of(own, unevenness),
	"own-standing":                of(own, standing),
	"own-leaps-per-minute":        of(own, leaps),
	"own-leap-p95":                of(own, leapSize),
	"own-off-path-p95":            of(own, off),
	"own-overshoot-p95":           of(own, overshoot),
	"own-settling-p95-ms":         of(own, settling),
	"clock-error-ms":              func(v *View) *float64 { return part(v.ClockError, p95) },
	"up-bytes-per-second":         func(v *View) *float64 { return where(v.Up.Packets > 0, v.Up.BytesPerSecond) },
	"down-bytes-per-second":       func(v *View) *float64 { return where(v.Down.Packets > 0, v.Down.BytesPerSecond) },
	"up-packets-per-second":       func(v *View) *float64 { return where(v.Up.Packets > 0, v.Up.PacketsPerSecond) },
	"predicted-from-received-p95": layer(func(l *Layers) *Spread { return l.Predicted }),
	"shown-from-predicted-p95":    layer(func(l *Layers) *Spread { return l.Smoothed }),
	"shown-from-received-p95":     layer(func(l *Layers) *Spread { return l.Delayed }),
	"join-shown-ms":               joinTime(func(j *Joining) *Spread { return j.Shown }),
	"join-moves-ms":               joinTime(func(j *Joining) *Spread { return j.Moves }),
	"join-complete-ms":            joinTime(func(j *Joining) *Spread { return j.Complete }),
	"idle-up-bytes-per-second":    idle(func(p Phase) float64 { return p.Up }),
	"idle-down-bytes-per-second":  idle(func(p Phase) float64 { return p.Down }),
	"server-tick-interval-p99-ms": func(v *View) *float64 { return where(v.Pace != nil, v.ticksP99()) },
	"tick-interval-p95-ms":        tickInterval,
	"tick-pause-ms":               tickPause,
	"server-tick-interval-p95-ms": tickInterval,
	"server-tick-pause-ms":        tickPause,
	"rollbacks-per-minute":        rollbacks(func(r *Rollbacks) *float64 { return &r.PerMinute }),
	"rollback-depth":              rollbacks(func(r *Rollbacks) *float64 { return &r.Deepest }),
	"cpu-cores":                   cpu,
	"resident-mb":                 resident,
	"server-cpu-cores":            cpu,
	"server-resident-mb":          resident,
	"down-packets-per-second":     func(v *View) *float64 { return where(v.Down.Packets > 0, v.Down.PacketsPerSecond) },
}

// OfMotion reports whether a measure tells how smoothly entities are shown.
func OfMotion(measure string) bool {
	for _, part := range []string{"unevenness", "standing", "leap", "off-path", "overshoot", "settling"} {
		if strings.HasPrefix(strings.TrimPrefix(measure, "own-"), part) {
			return true
		}
	}
	return false
}

// of is a part of how a view shows entities move, where that was seen.
func of(whose func(*View) *Motion, part func(*Motion) *float64) func(*View) *float64 {
	return func(v *View) *float64 {
		if m := whose(v); m != nil {
			return part(m)
		}
		return nil
	}
}

func own(v *View) *Motion    { return v.Own }
func others(v *View) *Motion { return v.Others }

func unevenness(m *Motion) *float64 { return &m.Unevenness }
func standing(m *Motion) *float64   { return &m.Standing }
func leaps(m *Motion) *float64      { return &m.LeapsPerMinute }
func off(m *Motion) *float64        { return part(m.Off, p95) }
func overshoot(m *Motion) *float64  { return part(m.Overshoot, p95) }
func settling(m *Motion) *float64   { return part(m.Settling, p95) }

// leapSize is 0 where there were none.
func leapSize(m *Motion) *float64 {
	if m.Leaps == nil {
		return new(float64)
	}
	return &m.Leaps.P95
}

func tickInterval(v *View) *float64 {
	if v.Pace == nil {
		return nil
	}
	return &v.Pace.Interval.P95
}

func (v *View) ticksP99() float64 {
	if v.Pace == nil {
		return 0
	}
	return v.Pace.P99
}

func layer(part func(*Layers) *Spread) func(*View) *float64 {
	return func(v *View) *float64 {
		if v.Layers == nil || part(v.Layers) == nil {
			return nil
		}
		return &part(v.Layers).P95
	}
}

// joinTime is the longest of all joins.
func joinTime(part func(*Joining) *Spread) func(*View) *float64 {
	return func(v *View) *float64 {
		if v.Joining == nil || part(v.Joining) == nil {
			return nil
		}
		return &part(v.Joining).Max
	}
}

func tickPause(v *View) *float64 {
	if v.Pace == nil {
		return nil
	}
	return &v.Pace.Pause
}

func rollbacks(part func(*Rollbacks) *float64) func(*View) *float64 {
	return func(v *View) *float64 {
		if v.Rollbacks == nil {
			return nil
		}
		return part(v.Rollbacks)
	}
}

func cpu(v *View) *float64 {
	if v.Load == nil {
		return nil
	}
	return &v.Load.CPU.P95
}

func resident(v *View) *float64 {
	if v.Load == nil {
		return nil
	}
	return &v.Load.Resident.Max
}

func median(s *Spread) float64 { return s.Median }
func p95(s *Spread) float64    { return s.P95 }
func most(s *Spread) float64   { return s.Max }

func part(s *Spread, of func(*Spread) float64) *float64 {
	if s == nil {
		return nil
	}
	v := of(s)
	return &v
}

func where(there bool, v float64) *float64 {
	if !there {
		return nil
	}
	return &v
}

// ByView are the measures that can have a limit, by view and by the names that limits
// have. What was not measured is absent.
func (m *Measures) ByView() map[string]map[string]float64 {
	all := map[string]map[string]float64{}
	for name, of := range limitable {
		views := m.Views
		if strings.HasPrefix(name, serverMeasure) {
			views = []View{m.Server}
		}
		for i := range views {
			if v := of(&views[i]); v != nil {
				if all[views[i].Name] == nil {
					all[views[i].Name] = map[string]float64{}
				}
				all[views[i].Name][name] = *v
			}
		}
	}
	return all
}

const serverMeasure = "server-" // begins the names of what is measured of the server

// Worst is the largest value of each that any view reached.
func (m *Measures) Worst() map[string]float64 {
	worst := map[string]float64{}
	for _, values := range m.ByView() {
		for name, v := range values {
			if w, seen := worst[name]; !seen || v > w {
				worst[name] = v
			}
		}
	}
	return worst
}

// Excess is a limit that a view broke.
type Excess struct {
	View    string
	Measure string
	Why     string
}

// Unmeasured lists what has a limit and was not measured in any view.
func (m *Measures) Unmeasured(rules rulebook.Rules) (list []string) {
	worst := m.Worst()
	for _, l := range rules.Limits {
		if _, measured := worst[l.Measure]; !measured {
			list = append(list, l.Measure)
		}
	}
	paced := func(v View) bool { return v.Pace != nil }
	if rules.TickRate > 0 && !paced(m.Server) && !slices.ContainsFunc(m.Views, paced) {
		list = append(list, "ticks-per-second")
	}
	return list
}

// Exceeded lists the limits that were broken.
func (m *Measures) Exceeded(limits []rulebook.Limit) (list []Excess) {
	for _, l := range limits {
		views := m.Views
		if strings.HasPrefix(l.Measure, serverMeasure) {
			views = []View{m.Server}
		}
		for i := range views {
			of := limitable[l.Measure] // plans name no others
			if of == nil {
				continue
			}
			if value := of(&views[i]); value != nil && *value > l.Max {
				list = append(list, Excess{views[i].Name, l.Measure, fmt.Sprintf("%s is %.4g, the limit is %.4g", l.Measure, *value, l.Max)})
			}
		}
	}
	return list
}
