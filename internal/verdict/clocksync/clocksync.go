// Package clocksync brings the clocks of views together: it fits by how much and how
// fast a view's clock goes off the reference's, from two-way exchanges or, where
// there are none, from the ways that entities went. It is pure; it knows nothing of
// files and judges nothing.
package clocksync

import (
	"math"
	"slices"
	"sort"
	"time"
)

// Fit is how a view's clock relates to the reference's. The zero value is a clock
// that needs nothing.
type Fit struct {
	Method   string  `json:"method"`      // exchanges or trajectories
	Offset   float64 `json:"offset_s"`    // to be added to the view's times, at its time zero
	Drift    float64 `json:"drift_ppm"`   // to be added a second, in microseconds
	Residual float64 `json:"residual_ms"` // what the fit leaves, root mean square
	Samples  int     `json:"samples"`
}

// Shared turns a time on the view's clock into one on the reference's.
func (f Fit) Shared(t time.Duration) time.Duration {
	seconds := f.Offset + f.Drift*1e-6*t.Seconds()
	return t + time.Duration(math.Round(seconds*1e6))*time.Microsecond
}

// Exchange is a two-way exchange: at T on the view's clock an answer arrived that
// had taken Ping in all, and the server's clock showed Server when it left, half
// a ping ago.
type Exchange struct{ T, Ping, Server time.Duration }

const (
	fewest   = 3                // exchanges for a fit
	forDrift = 10 * time.Second // shorter records say nothing about drift
)

// ByExchanges fits from exchanges: offset = server + ping/2 - t, the usual rule
// of two-way time transfer, by least squares over the fifth with the lowest pings
// (at least eight), where the two ways are most nearly alike. ok is false if
// there are too few.
func ByExchanges(list []Exchange) (fit Fit, ok bool) {
	if len(list) < fewest {
		return Fit{}, false
	}
	best := slices.Clone(list)
	slices.SortStableFunc(best, func(a, b Exchange) int { return int(a.Ping - b.Ping) })
	best = best[:min(len(best), max(8, len(best)/5))]
	var ts, offsets []float64
	for _, e := range best {
		ts = append(ts, e.T.Seconds())
		offsets = append(offsets, (e.Server + e.Ping/2 - e.T).Seconds())
	}
	fit = line(ts, offsets)
	fit.Method = "exchanges"
	return fit, true
}

// line fits offsets over times: a straight line if they reach far enough.
func line(ts, offsets []float64) Fit {
	n := float64(len(ts))
	var meanT, meanO float64
	for i := range ts {
		meanT, meanO = meanT+ts[i]/n, meanO+offsets[i]/n
	}
	var tt, to float64
	for i := range ts {
		tt, to = tt+(ts[i]-meanT)*(ts[i]-meanT), to+(ts[i]-meanT)*(offsets[i]-meanO)
	}
	slope := 0.0
	if slices.Max(ts)-slices.Min(ts) >= forDrift.Seconds() && len(ts) >= 8 && tt > 0 {
		slope = to / tt
	}
	sum := 0.0
	for i := range ts {
		r := offsets[i] - meanO - slope*(ts[i]-meanT)
		sum += r * r
	}
	return Fit{Offset: meanO - slope*meanT, Drift: slope * 1e6, Residual: math.Sqrt(sum/n) * 1e3, Samples: len(ts)}
}

// Track is where one entity was, in order of time.
type Track struct {
	T     []float64 // seconds
	Place [][3]float64
}

// at is the place at a time between its first and last.
func (k *Track) at(t float64) ([3]float64, bool) {
	n := len(k.T)
	if n == 0 || t < k.T[0] || t > k.T[n-1] {
		return [3]float64{}, false
	}
	i := sort.SearchFloat64s(k.T, t)
	if i == 0 || k.T[i] == t {
		return k.Place[i], true
	}
	a, b := k.Place[i-1], k.Place[i]
	share := (t - k.T[i-1]) / (k.T[i] - k.T[i-1])
	for d := range a {
		a[d] += (b[d] - a[d]) * share
	}
	return a, true
}

const (
	coarseStep   = 0.1 // seconds
	mostSamples  = 600
	overlapShare = 0.5 // of the samples must fall into the reference's time
)

// sightings are places of moving entities as a view showed them.
type sightings struct {
	track []*Track // of the reference
	t     []float64
	place [][3]float64
}

// ByTrajectories fits from the ways of entities that both sides name: the offset
// at which the view's places lie nearest to the reference's. How late a view
// shows entities cannot be told from its clock that way, and becomes part of the
// offset. Tracks with the same key are of the same entity. ok is false if nothing
// moves in both.
func ByTrajectories(reference, view map[string]*Track) (fit Fit, ok bool) {
	s := moving(reference, view)
	if len(s.t) < 20 {
		return Fit{}, false
	}
	low, high := math.Inf(1), math.Inf(-1)
	for _, k := range s.track {
		low, high = min(low, k.T[0]), max(high, k.T[len(k.T)-1])
	}
	first, last := slices.Min(s.t), slices.Max(s.t)
	offset, cost := s.search(low-last, high-first, coarseStep)
	if math.IsInf(cost, 0) {
		return Fit{}, false
	}
	for step := coarseStep; step > 5e-4; step /= 8 {
		offset, cost = s.search(offset-step, offset+step, step/8)
	}
	fit = Fit{Method: "trajectories", Offset: offset, Samples: len(s.t)}
	if last-first >= 2*forDrift.Seconds() { // each half on its own tells the drift
		middle := (first + last) / 2
		early, _ := s.between(first, middle).search(offset-0.5, offset+0.5, 0.004)
		late, _ := s.between(middle, last).search(offset-0.5, offset+0.5, 0.004)
		slope := (late - early) / ((last - first) / 2)
		if math.Abs(late-early) > 0.02 {
			fit.Drift = slope * 1e6
			fit.Offset = (early+late)/2 - slope*middle
		}
	}
	fit.Residual = 1e3 * cost / s.speed()
	return fit, true
}

// moving picks the samples of a view's tracks at which entities move.
func moving(reference, view map[string]*Track) (s sightings) {
	var keys []string
	total := 0
	for key, k := range view {
		if r := reference[key]; r != nil && len(r.T) > 2 && len(k.T) > 2 {
			keys = append(keys, key)
			total += len(k.T)
		}
	}
	slices.Sort(keys)
	stride := max(1, total/mostSamples/2)
	count := 0
	for _, key := range keys {
		k := view[key]
		for i := 1; i < len(k.T); i++ {
			if k.Place[i] == k.Place[i-1] {
				continue
			}
			if count++; count%stride == 0 {
				s.track, s.t, s.place = append(s.track, reference[key]), append(s.t, k.T[i]), append(s.place, k.Place[i])
			}
		}
	}
	return s
}

func (s sightings) between(from, to float64) (part sightings) {
	for i, t := range s.t {
		if t >= from && t <= to {
			part.track, part.t, part.place = append(part.track, s.track[i]), append(part.t, t), append(part.place, s.place[i])
		}
	}
	return part
}

// search tries offsets and returns the one with the least cost.
func (s sightings) search(from, to, step float64) (best, least float64) {
	least = math.Inf(1)
	for offset := from; offset <= to+step/2; offset += step {
		if c := s.cost(offset); c < least {
			best, least = offset, c
		}
	}
	return best, least
}

// cost is the median distance at an offset; infinity where too little overlaps.
func (s sightings) cost(offset float64) float64 {
	var distances []float64
	for i, t := range s.t {
		if p, ok := s.track[i].at(t + offset); ok {
			d := 0.0
			for k := range p {
				d += (p[k] - s.place[i][k]) * (p[k] - s.place[i][k])
			}
			distances = append(distances, math.Sqrt(d))
		}
	}
	if float64(len(distances)) < overlapShare*float64(len(s.t)) {
		return math.Inf(1)
	}
	slices.Sort(distances)
	return distances[len(distances)/2]
}

// speed is the usual speed of what the reference saw moving, to turn a distance
// that is left into a time.
func (s sightings) speed() float64 {
	var speeds []float64
	for _, k := range s.track {
		n := len(k.T)
		way := 0.0
		for i := 1; i < n; i++ {
			d := 0.0
			for c := range k.Place[i] {
				d += (k.Place[i][c] - k.Place[i-1][c]) * (k.Place[i][c] - k.Place[i-1][c])
			}
			way += math.Sqrt(d)
		}
		speeds = append(speeds, way/max(1e-9, k.T[n-1]-k.T[0]))
	}
	slices.Sort(speeds)
	return max(1e-9, speeds[len(speeds)/2])
}
