package view

import (
	"math"
	"sort"
	"time"
)

// Speeds is how fast an entity moved in truth, and as a view showed it, in the stretch of the match in
// which it moved most: of the view and sort of entity that was shown least smoothly.
type Speeds struct {
	View, Entity string
	Own          bool
	Delay        time.Duration // of what the view shows; the true speed is of so much earlier
	T            []time.Duration
	True, Shown  []float64 // in the unit of places, a second
}

const (
	speedOver    = 100 * time.Millisecond // a speed is of the way in so long
	speedEvery   = 50 * time.Millisecond
	speedStretch = 10 * time.Second
)

// Speeds picks what is to be drawn; nil if no view tells places often enough.
func (r *Review) Speeds() *Speeds {
	if r.World == nil {
		return nil
	}
	worst, s := -1.0, Speeds{}
	for _, v := range r.Measures.Views {
		if m := v.Own; m != nil && m.TrueSpeed > 0 && m.Unevenness/m.TrueSpeed > worst {
			worst, s = m.Unevenness/m.TrueSpeed, Speeds{View: v.Name, Own: true, Delay: time.Duration(m.Delay * 1e6)}
		}
		if m := v.Others; m != nil && m.TrueSpeed > 0 && m.Unevenness/m.TrueSpeed > worst {
			worst, s = m.Unevenness/m.TrueSpeed, Speeds{View: v.Name, Delay: time.Duration(m.Delay * 1e6)}
		}
	}
	view := -1
	for i, name := range r.World.Views {
		if name == s.View {
			view = i
		}
	}
	if view < 1 { // the server's ways come first
		return nil
	}
	most, from, entity := 0.0, time.Duration(0), -1
	for e, name := range r.World.Entities {
		if r.own(s.View, name) != s.Own {
			continue
		}
		truth, shown := r.World.way(0, e), r.World.way(view, e)
		for t := time.Duration(0); t+speedStretch <= max(r.Length, speedStretch); t += time.Second {
			if way := math.Min(truth.length(t, t+speedStretch), shown.length(t, t+speedStretch)); way > most {
				most, from, entity = way, t, e
			}
		}
	}
	if entity < 0 {
		return nil
	}
	s.Entity = r.World.Entities[entity]
	truth, shown := r.World.way(0, entity), r.World.way(view, entity)
	for t := from; t <= from+speedStretch; t += speedEvery {
		s.T, s.True, s.Shown = append(s.T, t), append(s.True, truth.speed(t-s.Delay)), append(s.Shown, shown.speed(t))
	}
	return &s
}

// own reports whether an entity was a view's own in any of its stays.
func (r *Review) own(view, entity string) bool {
	for _, v := range r.Verdict.Views {
		for _, stay := range v.Stays {
			if v.Name == view && stay.Entity == entity {
				return true
			}
		}
	}
	return false
}

// ways of one entity in one view, over all its stays.
type wayThrough []*Track

func (w *World) way(view, entity int) (list wayThrough) {
	for i := range w.Tracks {
		if t := &w.Tracks[i]; t.View == view && t.Entity == entity && t.Layer == Shown {
			list = append(list, t)
		}
	}
	return list
}

// at is where it was; ok is false while it was not there.
func (w wayThrough) at(t time.Duration) (x, y float64, ok bool) {
	for _, track := range w {
		p := track.Points
		if t < p[0].T || t > track.End {
			continue
		}
		i := sort.Search(len(p), func(i int) bool { return p[i].T > t }) - 1
		if i >= len(p)-1 {
			return p[i].X, p[i].Y, true
		}
		share := float64(t-p[i].T) / float64(p[i+1].T-p[i].T)
		return p[i].X + (p[i+1].X-p[i].X)*share, p[i].Y + (p[i+1].Y-p[i].Y)*share, true
	}
	return 0, 0, false
}

// speed is how fast it went up to t, or NaN.
func (w wayThrough) speed(t time.Duration) float64 {
	x, y, now := w.at(t)
	px, py, before := w.at(t - speedOver)
	if !now || !before {
		return math.NaN()
	}
	return math.Hypot(x-px, y-py) / speedOver.Seconds()
}

// length is how far it went in a stretch.
func (w wayThrough) length(from, until time.Duration) (sum float64) {
	const step = 250 * time.Millisecond
	px, py, before := w.at(from)
	for t := from + step; t <= until; t += step {
		x, y, ok := w.at(t)
		if ok && before {
			sum += math.Hypot(x-px, y-py)
		}
		px, py, before = x, y, ok
	}
	return sum
}
