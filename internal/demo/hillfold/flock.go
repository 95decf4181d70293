package hillfold

import (
	"math"
	"time"
)

// Sheep movement, in metres, seconds and degrees.
const (
	grazeSpeed   = 0.7
	walkSpeed    = 2.0
	fleeSpeed    = 5.5
	fearDistance = 10.0
	sheepTurn    = 220.0
	sheepHurry   = 8.0 // metres a second, a second
)

// sheepState is a sheep as the server moves it.
type sheepState struct {
	id      thing
	told    told
	name    string
	x, y    float64
	heading float64
	speed   float64
	goal    float64 // heading it wants
	pace    float64
	until   time.Duration // when a calm sheep changes its mind
	bolting time.Duration // until when it runs from a bark
}

func (s *Server) addSheep(x, y float64) {
	s.sheepNo++
	f := &sheepState{id: s.newThing(), name: sheepName(s.sheepNo), x: x, y: y, heading: s.between(0, 360)}
	f.goal = f.heading
	f.told.entity = s.tell.names.Entity(f.name)
	s.flock = append(s.flock, f)
}

// moveFlock moves every sheep: away from dogs that are near, back towards the
// field at its edges, and otherwise as it likes. One that comes into the fold
// is penned and a new one is let in at the west end.
func (s *Server) moveFlock(now time.Duration, dt float64) {
	for i := 0; i < len(s.flock); i++ {
		f := s.flock[i]
		s.moveSheep(now, f, dt)
		if f.x > foldX && math.Abs(f.y) < foldY {
			s.pen(now, f)
			s.flock = append(s.flock[:i], s.flock[i+1:]...)
			i--
			s.addSheep(-halfWidth+1, s.between(-30, 30))
		}
	}
}

func (s *Server) moveSheep(now time.Duration, f *sheepState, dt float64) {
	fearX, fearY, scared := 0.0, 0.0, false
	for _, p := range s.players {
		dx, dy := f.x-p.dog.x, f.y-p.dog.y
		if d := dx*dx + dy*dy; d < fearDistance*fearDistance && d > 1e-6 {
			fearX, fearY, scared = fearX+dx/d, fearY+dy/d, true
		}
	}
	switch {
	case now < f.bolting:
	case scared:
		f.goal, f.pace, f.until = math.Atan2(fearY, fearX)*180/math.Pi, fleeSpeed, now
	case now >= f.until:
		f.until = now + time.Duration(s.between(1, 5)*float64(time.Second)).Round(time.Microsecond)
		// Towards the fold in the east more often than not: there is a trough.
		f.goal, f.pace = math.Atan2(-f.y, 70-f.x)*180/math.Pi+s.between(-90, 90), 0
		if r := s.random.Float64(); r < 0.35 {
			f.pace = grazeSpeed
		} else if r < 0.75 {
			f.pace = walkSpeed
		}
	}
	goal := f.goal
	if edgeX, edgeY := math.Abs(f.x) > halfWidth-3, math.Abs(f.y) > halfHeight-3; edgeX || edgeY {
		goal = math.Atan2(-f.y, -f.x) * 180 / math.Pi
	}
	turn := turnTo(f.heading, turned(goal, 0))
	if f.pace > 0 {
		f.heading = turned(f.heading, max(-sheepTurn*dt, min(sheepTurn*dt, turn)))
	}
	f.speed += max(-sheepHurry*dt, min(sheepHurry*dt, f.pace-f.speed))
	sin, cos := math.Sincos(f.heading * math.Pi / 180)
	f.x = fenced(f.x, f.x+cos*f.speed*dt, halfWidth)
	f.y = fenced(f.y, f.y+sin*f.speed*dt, halfHeight)
}

// bark is heard by everyone, and sheep that are near bolt.
func (s *Server) bark(now time.Duration, p *player) {
	s.event(now, messageBark, "bark", p.entity, p.name, func(w *writer) { w.u16(uint16(p.id)) })
	s.barks = append(s.barks, barkNotice{s.events, now})
	if s.config.Faults.Has(EachDecides) {
		return // "the clients see to that"
	}
	for _, f := range s.flock {
		if goal, bolts := boltsFrom(p.dog.x, p.dog.y, f.x, f.y); bolts {
			f.goal, f.pace, f.bolting, f.until = goal, boltSpeed, now+boltFor, now+boltFor
		}
	}
}

const (
	barkDistance = 14.0
	boltSpeed    = 7.0
	boltFor      = 1200 * time.Millisecond
)

// boltsFrom decides whether a sheep bolts from a bark, and where to.
func boltsFrom(dogX, dogY, x, y float64) (goal float64, bolts bool) {
	dx, dy := x-dogX, y-dogY
	return math.Atan2(dy, dx) * 180 / math.Pi, dx*dx+dy*dy < barkDistance*barkDistance
}

// pen takes a sheep out of the world and lets the nearest dog have the point.
func (s *Server) pen(now time.Duration, f *sheepState) {
	s.round.penned++
	var nearest *player
	best := math.Inf(1)
	for _, p := range s.players {
		if d := math.Hypot(p.dog.x-f.x, p.dog.y-f.y); d < best {
			nearest, best = p, d
		}
	}
	by, id, score := "", thing(0), 0
	if nearest != nil {
		nearest.score++
		by, id, score = nearest.name, nearest.id, nearest.score
	}
	s.event(now, messagePenned, "penned", f.name, by, func(w *writer) {
		w.u16(uint16(f.id))
		w.u16(uint16(id))
		w.u16(uint16(score))
		w.u16(uint16(s.round.penned))
	})
	s.goodbye(f.id, f.told.entity)
}
