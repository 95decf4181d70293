package hillfold

import (
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

// What stands in the field and belongs to nobody: gates that dogs push open and
// shut, stones strewn at the start, and the old mill, whose arm is where the
// clock says.

const (
	gateTouch  = 2.0 // metres: a dog that comes so near pushes the gate
	stoneCount = 12
	stoneCells = 96 // the field is cut into 12 by 8 cells
	millX      = -25.0
	millY      = 22.0
	millTurn   = 90.0 // degrees a second
	millReach  = 6.0
	millWidth  = 12.0 // degrees on each side of the arm
	millShove  = 2.0  // metres
	millRest   = 6 * time.Second
)

// armAt is the angle of the mill's arm when the server's clock says so.
func armAt(clock time.Duration) float64 {
	return math.Mod(clock.Seconds()*millTurn, 360)
}

type gateState struct {
	id     thing
	told   told
	name   string
	x, y   float64
	open   bool
	pushed map[*player]bool // who is at it
}

func newGates(s *Server) (list []*gateState) {
	for _, g := range []struct {
		name string
		x, y float64
	}{{"gate/north", 5, 24}, {"gate/south", -5, -24}, {"gate/east", 28, 4}, {"gate/west", -22, -6}} {
		gate := &gateState{id: s.newThing(), name: g.name, x: g.x, y: g.y, pushed: map[*player]bool{}}
		gate.told.entity = s.tell.names.Entity(g.name)
		list = append(list, gate)
	}
	return list
}

// movePushed lets dogs that come to a gate push it.
func (s *Server) movePushed() {
	for _, g := range s.gates {
		for _, p := range s.players {
			dx, dy := p.dog.x-g.x, p.dog.y-g.y
			at := dx*dx+dy*dy < gateTouch*gateTouch
			if at && !g.pushed[p] {
				g.open = !g.open
				s.tellGate(g)
			}
			if at {
				g.pushed[p] = true
			} else if g.pushed[p] && dx*dx+dy*dy > 4*gateTouch*gateTouch {
				delete(g.pushed, p)
			}
		}
	}
}

// tellGate tells those who know the gate how it is now.
func (s *Server) tellGate(g *gateState) {
	for _, p := range s.players {
		if !p.knows(g.id) {
			continue
		}
		if s.config.Faults.Has(FlipNotValue) {
			p.once = append(p.once, messageOf(messageFlip, func(w *writer) { w.u16(uint16(g.id)) }))
			continue
		}
		p.gates[g.id] = g.open
		p.channel.say(messageOf(messageGate, func(w *writer) {
			w.u16(uint16(g.id))
			w.u8(bit(g.open))
		}))
	}
}

func bit(b bool) uint8 {
	if b {
		return 1
	}
	return 0
}

// strew chooses the cells in which stones lie.
func strew(random *rand.Rand) []byte {
	cells := make([]byte, 0, stoneCount)
	for _, cell := range random.Perm(stoneCells)[:stoneCount] {
		cells = append(cells, byte(cell))
	}
	return cells
}

// listed writes cells as text: 3 17 44.
func listed(cells []byte) string {
	words := make([]string, len(cells))
	for i, c := range cells {
		words[i] = strconv.Itoa(int(c))
	}
	return strings.Join(words, " ")
}

// shove throws a dog that the arm of the mill meets a little way off.
func (s *Server) shove(now time.Duration, p *player) {
	dx, dy := p.dog.x-millX, p.dog.y-millY
	if now < p.shovable || dx*dx+dy*dy > millReach*millReach {
		return
	}
	towards := math.Atan2(dy, dx)
	if math.Abs(turnTo(armAt(now-s.started), turned(towards*180/math.Pi, 0))) > millWidth {
		return
	}
	p.shovable = now + millRest
	sin, cos := math.Sincos(towards)
	p.dog.x = fenced(p.dog.x, p.dog.x+cos*millShove, halfWidth)
	p.dog.y = fenced(p.dog.y, p.dog.y+sin*millShove, halfHeight)
}
