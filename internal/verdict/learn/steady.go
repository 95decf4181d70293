package learn

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/verdict/explain"
)

// What disagrees steadily is no noise: coordinates that are swapped, mirrored, scaled, rounded or wrapped on
// the way would be learned as a wide tolerance, or as nobody's business. Where one relation explains most
// courses of a subject, the rule is written as if the game were right, and says so.

const (
	steadyTracks  = 24  // that are looked at, spread over all
	steadySamples = 120 // of each
	steadyShare   = 0.6 // of the courses must be explained by one relation
	steadyWidth   = 2   // how much wider than its motion explains a tolerance is that is looked into
)

// steady are the relations that are mistakes. To be late, to err a little and to stand are not.
var steady = map[explain.Name]bool{explain.Offset: true, explain.Scaled: true, explain.Mirrored: true, explain.Swapped: true, explain.Wrapped: true, explain.Coarse: true, explain.Rate: true, explain.Clamped: true}

// should is the tolerance that the motion of a subject explains: two of its steps, or half of the way from
// one record to the next. The steps of what stands are not known: they are those of the few values
// that it has, so more of them are allowed.
func (s *subject) should(late *lateness) float64 {
	if late.interval == 0 {
		return ceil2(25 * s.step)
	}
	return ceil2(max(2*s.step, 0.5*late.interval))
}

// steadily finds the relation that explains most courses of a subject that is off by more than its motion
// explains, or never agrees: what it is, and an example. It is "" if there is none.
func (s *subject) steadily(tracks []*track, paths map[*track]*path, within float64) (name explain.Name, why string, of, all int) {
	found, example := map[explain.Name]int{}, map[explain.Name]string{}
	for i := range min(steadyTracks, len(tracks)) {
		t := tracks[i*len(tracks)/min(steadyTracks, len(tracks))]
		series, ok := s.series(t, paths[t], within)
		if !ok {
			continue
		}
		all++
		if e, ok := relation(series); ok {
			found[e.Name]++
			if example[e.Name] == "" {
				example[e.Name] = fmt.Sprintf("%s in %s, %s", t.match.names.EntityID(t.entity), t.view.name, e.Why)
			}
		}
	}
	for n, count := range found {
		if float64(count) >= steadyShare*float64(all) && all > 0 {
			return n, example[n], count, all
		}
	}
	return "", "", 0, all
}

// relation is the mistake that explains a series, whatever delay the view has besides: that is not known
// of something that is wrong.
func relation(series explain.Series) (best explain.Explanation, ok bool) {
	const step = 0.1 // s
	for delay := 0.0; delay <= 0.6; delay += step {
		s := series
		s.Samples = slices.Clone(series.Samples)
		for i := range s.Samples {
			s.Samples[i].T -= delay
		}
		s.MaxDelay, s.Began = step, series.Began-delay
		if list := explain.Fit(s); len(list) > 0 && steady[list[0].Name] && (!ok || list[0].Score < best.Score) {
			best, ok = list[0], true
		}
	}
	return best, ok
}

// series is a track as explanations are fitted to it; ok is false if it agrees, or tells too little.
func (s *subject) series(t *track, server *path, within float64) (series explain.Series, ok bool) {
	if server == nil || len(t.samples) < 12 {
		return series, false
	}
	series = explain.Series{Axes: len(s.names), Circle: s.circle, Tolerance: within, Step: s.step, Began: t.samples[0].t.Seconds()}
	apart := 0
	n := min(steadySamples, len(t.samples))
	for i := range n {
		sample := t.samples[i*len(t.samples)/n]
		if !finite(sample.value) {
			continue
		}
		series.Samples = append(series.Samples, explain.Sample{T: sample.t.Seconds(), View: sample.value})
		if server.near(sample.value, sample.t-time.Second, sample.t) > within {
			apart++
		}
	}
	first := t.samples[0].t - time.Duration(explain.Earliest*float64(time.Second))
	for i, at := range server.t {
		if at >= first && finite(server.v[i]) {
			series.Reference.T, series.Reference.V = append(series.Reference.T, at.Seconds()), append(series.Reference.V, server.v[i])
		}
	}
	return series, 2*apart > len(series.Samples)
}

func finite(v [3]float64) bool {
	sum := v[0] + v[1] + v[2]
	return !math.IsNaN(sum) && !math.IsInf(sum, 0)
}
