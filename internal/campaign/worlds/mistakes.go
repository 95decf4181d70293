package worlds

import (
	"math"
	"strings"

	"zitherwheel/internal/verdict/judge"
)

// mistake is one thing that goes wrong in one view, about one thing, from a moment on.
type mistake struct {
	name     string
	accepted []judge.Kind
	all      bool // it is about everything the view shows
	make     func(r *draw, w *world, v *view, g *thing, from float64) wrong
	signals  spoil // instead
}

// wrong is what a view shows of the thing at a time instead of s.
type wrong func(s shown, t float64) shown

// seen is what the view shows when it is right: what the server told of lag ago, and
// between two things that it told of one place the way from one to the other.
func (v *view) seen(g *thing, t float64) shown {
	if v.lag == 0 { // it has the step of that time
		return g.at(t)
	}
	told := (t - v.lag) * v.rate
	before, after := g.at(math.Floor(told)/v.rate), g.at(math.Ceil(told)/v.rate)
	share := told - math.Floor(told)
	for k := range before.place {
		before.place[k] += share * (after.place[k] - before.place[k])
	}
	before.level += share * (after.level - before.level)
	return before
}

// mistakes are all that are made.
var mistakes = []mistake{
	{"frozen", []judge.Kind{judge.Frozen}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		then := v.seen(g, from)
		return func(s shown, t float64) shown { s.place, s.level = then.place, then.level; return s }
	}, nil},
	{"late", []judge.Kind{judge.Late, judge.ClockShift}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.between(0.8, 2)
		return func(s shown, t float64) shown { s.place = v.seen(g, t-by).place; return s }
	}, nil},
	{"creeping", []judge.Kind{judge.Creeping}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := -r.between(0.06, 0.2)
		return func(s shown, t float64) shown { s.place = v.seen(g, t+by*(t-from)).place; return s }
	}, nil},
	{"rate", []judge.Kind{judge.Rate, judge.Scaled}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by, then := []float64{0.5, 0.7, 1.4, 2}[r.IntN(4)], v.seen(g, from)
		return func(s shown, t float64) shown {
			for k := range s.place {
				s.place[k] = then.place[k] + by*(s.place[k]-then.place[k])
			}
			return s
		}
	}, nil},
	{"offset", []judge.Kind{judge.Offset}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.direction(w, r.between(3, 30)*w.tolerance)
		return func(s shown, t float64) shown { return s.moved(by, 1) }
	}, nil},
	{"drift", []judge.Kind{judge.Drift}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.direction(w, r.between(0.5, 3)*w.tolerance)
		return func(s shown, t float64) shown { return s.moved(by, t-from) }
	}, nil},
	{"scaled", []judge.Kind{judge.Scaled}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := []float64{0.5, 0.9, 1.1, 2, 0.01, 100}[r.IntN(6)]
		return func(s shown, t float64) shown {
			for k := range s.place {
				s.place[k] *= by
			}
			return s
		}
	}, nil},
	{"one axis scaled", []judge.Kind{judge.Scaled}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by, axis := []float64{0.5, 0.8, 1.25, 2}[r.IntN(4)], r.IntN(w.axes)
		return func(s shown, t float64) shown { s.place[axis] *= by; return s }
	}, nil},
	{"mirrored", []judge.Kind{judge.Mirrored}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		axis := r.IntN(w.axes)
		return func(s shown, t float64) shown { s.place[axis] *= -1; return s }
	}, nil},
	{"swapped", []judge.Kind{judge.Swapped}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		return func(s shown, t float64) shown { s.place[0], s.place[1] = s.place[1], s.place[0]; return s }
	}, nil},
	{"wrapped", []judge.Kind{judge.Overflow}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		axis := r.IntN(w.axes)
		size := 0.0
		for t := 0.0; t < Length.Seconds(); t++ {
			size = max(size, math.Abs(g.place(t)[axis]))
		}
		// The narrowest number that it does not always fit into.
		step := math.Pow(10, math.Floor(math.Log10(size/200)))
		return func(s shown, t float64) shown {
			turn := 256 * step
			s.place[axis] -= turn * math.Round(s.place[axis]/turn)
			return s
		}
	}, nil},
	{"coarse", []judge.Kind{judge.Quantised}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		step := math.Pow(10, math.Ceil(math.Log10(3*w.tolerance)))
		return func(s shown, t float64) shown {
			for k := range s.place {
				s.place[k] = step * math.Round(s.place[k]/step)
			}
			return s
		}
	}, nil},
	{"clamped", []judge.Kind{judge.Clamped}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		axis := r.IntN(w.axes)
		low, high := math.Inf(1), math.Inf(-1)
		for t := from; t < Length.Seconds(); t += 0.5 {
			low, high = min(low, g.place(t)[axis]), max(high, g.place(t)[axis])
		}
		limit := low + r.between(0.3, 0.7)*(high-low)
		return func(s shown, t float64) shown { s.place[axis] = min(s.place[axis], limit); return s }
	}, nil},
	{"noisy", []judge.Kind{judge.Noisy}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.between(4, 12) * w.tolerance
		return func(s shown, t float64) shown {
			for k := range w.axes {
				s.place[k] += by * r.NormFloat64()
			}
			return s
		}
	}, nil},
	{"teleports", []judge.Kind{judge.Teleports}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by, every := r.direction(w, r.between(8, 40)*w.tolerance), r.between(0.6, 1.5)
		return func(s shown, t float64) shown {
			n := math.Floor((t - from) / every)
			if math.Mod(n, 2) == 1 {
				return s
			}
			return s.moved([3]float64{by[0] * math.Cos(n), by[1] * math.Sin(2*n+1), by[2] * math.Cos(3*n)}, 1)
		}
	}, nil},
	{"in no relation", []judge.Kind{judge.NoRelation, judge.Noisy}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		a, b, size := r.between(0.7, 1.6), r.between(0.3, 0.9), r.between(6, 20)*w.tolerance
		return func(s shown, t float64) shown {
			s.place[0] += size * (1.2 + math.Sin(a*t)*math.Cos(b*t*t/9))
			s.place[1] -= size * (1.1 + math.Cos(b*t+math.Sin(a*t)))
			return s
		}
	}, nil},
	{"inverted", []judge.Kind{judge.Inverted}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		return func(s shown, t float64) shown { s.flag = !s.flag; return s }
	}, nil},
	{"doubled", []judge.Kind{judge.Doubled}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		then := v.seen(g, from).count
		return func(s shown, t float64) shown { s.count += s.count - then; return s }
	}, nil},
	{"never arrived", []judge.Kind{judge.NeverArrived, judge.Frozen}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		then := v.seen(g, from)
		return func(s shown, t float64) shown { s.count, s.mood = then.count, then.mood; return s }
	}, nil},
	{"changes late", []judge.Kind{judge.Late}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.between(1, 1.8)
		return func(s shown, t float64) shown { s.mood = v.seen(g, t-by).mood; return s }
	}, nil},
	{"never sent", []judge.Kind{judge.NeverSent}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		g.count = g.count[:g.count.at(from)]
		return func(s shown, t float64) shown { s.count += 1 + int((t-from)/4); return s }
	}, nil},
	{"missing", []judge.Kind{judge.Missing}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		return func(s shown, t float64) shown { s.there = false; return s }
	}, nil},
	{"ghost", []judge.Kind{judge.Ghost}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		g.dies = from + r.between(1, 5)
		return func(s shown, t float64) shown {
			if !s.there {
				s = v.seen(g, g.dies-0.01)
				s.there = true
			}
			return s
		}
	}, nil},
	{"twin", []judge.Kind{judge.DuplicateEntity}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		return func(s shown, t float64) shown { s.and = g.name + "2"; return s }
	}, nil},
	{"another id", []judge.Kind{judge.OtherID}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		return func(s shown, t float64) shown { s.as = g.name + "2"; return s }
	}, nil},
	{"the whole view late", []judge.Kind{judge.Late, judge.ClockShift}, true, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		by := r.between(0.8, 1.8)
		return func(s shown, t float64) shown { return v.seen(g, t-by) }
	}, nil},
	{"the whole view frozen", []judge.Kind{judge.Frozen}, true, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		then := v.seen(g, from)
		return func(s shown, t float64) shown { return then }
	}, nil},
	{"signals lost", []judge.Kind{judge.EventLost}, false, nil, lost},
	{"signals twice", []judge.Kind{judge.EventRepeated}, false, nil, twice},
	{"signals late", []judge.Kind{judge.EventLate}, false, nil, tooLate},
	{"in steps", []judge.Kind{judge.Late}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		every := r.between(0.8, 1.6)
		return func(s shown, t float64) shown { s.place = v.seen(g, every*math.Floor(t/every)).place; return s }
	}, nil},
	{"one axis coarse", []judge.Kind{judge.Quantised}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		step, axis := math.Pow(10, math.Ceil(math.Log10(3*w.tolerance))), r.IntN(w.axes)
		return func(s shown, t float64) shown { s.place[axis] = step * math.Round(s.place[axis]/step); return s }
	}, nil},
	{"one axis stands", []judge.Kind{judge.Frozen}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		axis := r.IntN(w.axes)
		return func(s shown, t float64) shown { s.place[axis] = 0; return s }
	}, nil},
	{"taken for another", []judge.Kind{judge.OtherID, judge.DuplicateEntity}, false, func(r *draw, w *world, v *view, g *thing, from float64) wrong {
		sort, _, _ := strings.Cut(g.name, "/")
		for _, other := range w.things {
			if other != g && strings.HasPrefix(other.name, sort+"/") {
				return func(s shown, t float64) shown { s.place = v.seen(other, t).place; return s }
			}
		}
		return func(s shown, t float64) shown { return s } // it is the only one of its sort
	}, nil},
}

// direction is a step of a length into a drawn direction.
func (r *draw) direction(w *world, length float64) (by [3]float64) {
	var d float64
	for k := range w.axes {
		by[k] = r.NormFloat64()
		d += by[k] * by[k]
	}
	for k := range by {
		by[k] *= length / math.Sqrt(d)
	}
	return by
}

func (s shown) moved(by [3]float64, times float64) shown {
	for k := range s.place {
		s.place[k] += times * by[k]
	}
	return s
}
