package judge

import (
	"hash/fnv"
	"math"
	"time"

	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// histogram counts lengths of time by the millisecond. The zero value is empty.
type histogram struct {
	counts []int32
	total  int
}

const longestAge = 3 * time.Second

func (h *histogram) add(d time.Duration) {
	if h.counts == nil {
		h.counts = make([]int32, longestAge.Milliseconds()+1)
	}
	h.counts[min(max(d, 0), longestAge).Milliseconds()]++
	h.total++
}

// agesBy are the ages of what is shown by a rule.
func (j *Judge) agesBy(rule *rulebook.Rule) *histogram {
	if j.ages == nil {
		j.ages = map[*rulebook.Rule]*histogram{}
	}
	if j.ages[rule] == nil {
		j.ages[rule] = &histogram{}
	}
	return j.ages[rule]
}

// spread is nil for an empty histogram; its unit is ms.
func (h *histogram) spread() *metrics.Spread {
	if h.total == 0 {
		return nil
	}
	s := &metrics.Spread{Count: h.total, Median: -1, P95: -1}
	passed := 0
	for ms, n := range h.counts {
		if n == 0 {
			continue
		}
		passed += int(n)
		if s.Median < 0 && 2*passed >= h.total {
			s.Median = float64(ms)
		}
		if s.P95 < 0 && 100*passed >= 95*h.total {
			s.P95 = float64(ms)
		}
		s.Max = float64(ms)
	}
	return s
}

// ageEvery is how many comparisons of one moving entity share one look at its age. Which
// of them it is follows from the entity's name, so that it is the same in whatever order
// entities are looked at: a match that is played numbers them otherwise than one that is read.
const ageEvery = 64

func agePhase(name string) int {
	h := fnv.New32a()
	h.Write([]byte(name))
	return int(h.Sum32() % ageEvery)
}

// aroundMatch is how far before the moment that explains a value the nearest one
// is looked for.
const aroundMatch = 500 * time.Millisecond

// sampleAge notes how old what the view shows is. Of what moves that is the time since the
// reference was nearest to it, and at rest it has no age. Of what is no number to move it is how
// long before the view the reference came to the value, each time that the view comes to one.
func (v *view) sampleAge(k *tracker, t time.Duration) {
	if k.rule.TimeDriven || k.rule.MaxAhead > 0 && k.rule.Compare != rulebook.Distance {
		return
	}
	if k.rule.Compare == rulebook.Exact {
		if k.since != t || k.lastAt == 0 || k.match <= 0 {
			return
		}
		if came := k.path.corners[max(0, k.path.seek(k.match-1))].t; came >= v.joinedAt { // else it stood there before the view
			k.window.ages.add(t - came)
		}
		return
	}
	if k.sampled++; k.sampled%ageEvery != 0 {
		return
	}
	k.settle()
	moment, d := k.path.nearest(k.value, max(k.path.corners[0].t, k.match-aroundMatch), t)
	if d > k.rule.Tolerance {
		return
	}
	before, after := k.path.at(moment-slopeOver), k.path.at(moment+slopeOver)
	if distance(before, after) <= 0.25*k.rule.Tolerance {
		return
	}
	if k.rule.MaxAhead == 0 {
		k.window.ages.add(t - moment)
	}
	if k.rule.Compare == rulebook.Distance && !k.mirror.own {
		v.ages.add(t - moment)
		v.age = t - moment
	}
}

// ageBars is into how many bars the ages by a rule are put, up to twice its max-delay; one more is
// beyond.
const ageBars = 20

// bars are the ages up to a time, in so many bars of one width, and those beyond.
func (h *histogram) bars(n int, up time.Duration) []int {
	if h.total == 0 || up <= 0 {
		return nil
	}
	list := make([]int, n+1)
	for ms, count := range h.counts {
		at := int(time.Duration(ms) * time.Millisecond * time.Duration(n) / up)
		list[min(at, n)] += int(count)
	}
	return list
}

// nearest is the moment of [low, high] at which the path was nearest to v, the
// latest if there are several, and how near.
func (p *path) nearest(v point, low, high time.Duration) (moment time.Duration, d float64) {
	d = math.Inf(1)
	for i := p.seek(high); i >= 0; i-- {
		from, to := p.segment(i, low, high)
		_, _, nearest := p.near(i, v, 0, from, to)
		if nearest < d-1e-9 {
			d, moment = nearest, to
			if i+1 < len(p.corners) {
				a, b := p.corners[i], p.corners[i+1]
				way, off := p.minus(b.v, a.v), p.minus(v, a.v)
				if ww := dot(way, way); ww > 0 {
					share := max(0, min(1, dot(off, way)/ww))
					moment = max(from, min(to, a.t+time.Duration(share*float64(b.t-a.t))))
				}
			}
		}
		if p.corners[i].t <= low {
			break
		}
	}
	return moment, d
}
