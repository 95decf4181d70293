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

// sampleAge notes how old what the view shows of a moving entity is: the time
// since the reference was nearest to it. Values of entities at rest have no age.
func (v *view) sampleAge(k *tracker, t time.Duration) {
	if k.rule.Compare != rulebook.Distance || k.mirror.own || k.rule.TimeDriven {
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
	if distance(before, after) > 0.25*k.rule.Tolerance {
		v.ages.add(t - moment)
		v.age = t - moment
	}
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
