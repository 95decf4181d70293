package hillfold

import (
	"math"
	"slices"
	"time"

	"zitherwheel/internal/game"
)

// Witness looks into a match from the inside and knows whether an injected
// fault has shown itself: whether it made some client wrong for long enough
// that a player would notice. It knows the game's own memory, and nothing of
// traces and verdicts, so that a judge of traces can be measured against it.
// The zero value is not usable; see [NewWitness].
type Witness struct {
	fault   Fault
	past    []moment // the server's lately, oldest first
	wrong   map[wrongness]time.Duration
	inside  map[*Client]time.Duration
	showed  bool
	flipped map[wrongness]int // flips that the client had applied when it first was wrong
}

// moment is what the server had at one time.
type moment struct {
	things map[thing]fact
	wearer string
}

type fact struct {
	x, y  float64
	gait  uint8
	score int
	open  bool
}

// wrongness is one thing that one client is wrong about.
type wrongness struct {
	client *Client
	id     thing
}

type barkNotice struct {
	number uint16
	t      time.Duration
}

const (
	witnessKeeps = 15 // looks: a second and a half
	witnessHold  = 2500 * time.Millisecond
	witnessGrace = 1500 * time.Millisecond
	witnessEvery = 100 * time.Millisecond
)

// NewWitness returns a witness of one fault.
func NewWitness(fault Fault) *Witness {
	return &Witness{fault: fault, wrong: map[wrongness]time.Duration{}, inside: map[*Client]time.Duration{}, flipped: map[wrongness]int{}}
}

// Showed reports whether the fault has shown itself so far.
func (w *Witness) Showed() bool { return w.showed }

// Look takes in a match of Hillfold as it is now, and says when it wants to look again.
func (w *Witness) Look(now time.Duration, s game.Server, clients []game.Client) time.Duration {
	own := make([]*Client, len(clients))
	for i, c := range clients {
		own[i] = c.(client).Client
	}
	w.look(now, s.(server).Server, own)
	return now + witnessEvery
}

func (w *Witness) look(now time.Duration, s *Server, clients []*Client) {
	w.remember(s)
	switch w.fault { // what the server alone can tell
	case TwinOnReturn:
		for i, p := range s.players {
			twin := slices.ContainsFunc(s.players[:i], func(q *player) bool { return p.name == q.name })
			w.note(now, wrongness{nil, p.id}, twin, time.Second)
		}
	case BelievesAnything:
		w.showed = w.showed || s.jumps > 0
	case SameSpot:
		w.showed = w.showed || s.crowded > 0
	}
	for _, c := range clients {
		if !c.Inside() {
			delete(w.inside, c)
			w.forget(c)
			continue
		}
		if _, ok := w.inside[c]; !ok {
			w.inside[c] = now
		}
		if now-w.inside[c] > witnessGrace {
			w.ask(now, s, c)
		}
	}
}

func (w *Witness) remember(s *Server) {
	m := moment{things: map[thing]fact{}}
	for _, t := range s.presences() {
		m.things[t.id] = fact{x: t.x, y: t.y, open: t.detail == 1, score: int(t.detail)}
	}
	for _, p := range s.players {
		f := m.things[p.id]
		f.gait = gaitNumber(p.dog.gait())
		m.things[p.id] = f
	}
	if s.bell.wearer != nil {
		m.wearer = s.bell.wearer.name
	}
	if w.past = append(w.past, m); len(w.past) > witnessKeeps {
		w.past = w.past[1:]
	}
}

// note takes in whether something is wrong now; when that has held for long
// enough the fault has shown itself.
func (w *Witness) note(now time.Duration, what wrongness, wrong bool, hold time.Duration) {
	since, known := w.wrong[what]
	switch {
	case !wrong:
		delete(w.wrong, what)
	case !known:
		w.wrong[what] = now
	case now-since >= hold:
		w.showed = true
	}
}

func (w *Witness) forget(c *Client) {
	for what := range w.wrong {
		if what.client == c {
			delete(w.wrong, what)
		}
	}
}

// never reports that a test held at no time lately at which the thing was there.
func (w *Witness) never(id thing, test func(fact) bool) bool {
	known := false
	for _, m := range w.past {
		if f, ok := m.things[id]; ok {
			if known = true; test(f) {
				return false
			}
		}
	}
	return known
}

// ask looks at what the fault can do to one client.
func (w *Witness) ask(now time.Duration, s *Server, c *Client) {
	player := s.playerOf(c)
	if w.fault == ShutDoor {
		w.note(now, wrongness{c, 0}, player == nil, witnessHold)
	}
	if player == nil {
		return
	}
	switch w.fault {
	case KeptToItself:
		w.note(now, wrongness{c, c.own}, math.Abs(c.predicted.stamina-player.dog.stamina) > 10, witnessHold)
	case HalfATrip, OwnStartClock, FramePaced:
		angle, ok := c.clock.arm(c, now)
		w.note(now, wrongness{c, s.mill}, ok && math.Abs(turnTo(angle, armAt(now-s.started))) > 7, witnessHold)
	case ToldTwice:
		w.showed = w.showed || c.eventsAgain > 0
	case WrongOrder:
		w.showed = w.showed || c.eventsAstray > 0
	case OnceUnreliable:
		for _, b := range s.barks {
			if b.t > w.inside[c]+witnessGrace && now-b.t > witnessHold && !c.barks[b.number] {
				w.showed = true
			}
		}
	case LateAndBlind:
		for _, g := range s.gates {
			w.note(now, wrongness{c, g.id}, c.byID[g.id] == nil, witnessHold)
		}
	case StuckChase:
		w.note(now, wrongness{c, 0}, len(c.things) > 4, 5*time.Second)
	}
	for _, t := range c.things {
		w.askThing(now, s, c, player, t)
	}
}

// askThing looks at what the fault can do to one thing that a client shows.
func (w *Witness) askThing(now time.Duration, s *Server, c *Client, player *player, t *seen) {
	what := wrongness{c, t.id}
	switch w.fault {
	case LostGoodbye:
		gone := t.shown
		for _, m := range w.past {
			_, there := m.things[t.id]
			gone = gone && !there
		}
		w.note(now, what, gone, witnessHold)
	case NarrowNumbers, AnyHandSteers, LooseSheep, EachDecides, SwappedAxes, CoarseGrid:
		w.askPlace(now, c, t, what)
	case OnlyHere:
		if p, ok := c.poseOf(t); ok && t.species == dogs && t.id != c.own {
			w.note(now, what, w.never(t.id, func(f fact) bool { return f.gait == p.gait }), witnessHold)
		}
	case CountedTwice, EmptyBoard:
		if t.species == dogs {
			w.note(now, what, w.never(t.id, func(f fact) bool { return f.score == t.detail }), witnessHold)
		}
	case ForgetsWhatItLeft:
		if t.species == gate && player.knows(t.id) {
			w.note(now, what, w.never(t.id, func(f fact) bool { return f.open == (t.detail == 1) }), witnessHold)
		}
	case FlipNotValue:
		if t.species == gate {
			w.askFlips(now, t, what)
		}
	case TwoMasters:
		if t.species == bell {
			mine := t.text == c.name
			for _, m := range w.past {
				mine = mine && m.wearer != c.name
			}
			w.note(now, what, mine, witnessHold)
		}
	case DifferentEndings:
		if t.species == round && t.over && s.round.over {
			w.note(now, what, t.text != s.round.winner, 1500*time.Millisecond)
		}
	}
}

func (w *Witness) askPlace(now time.Duration, c *Client, t *seen, what wrongness) {
	p, ok := c.poseOf(t)
	if !ok || t.species != dogs && t.species != sheep {
		return
	}
	p.x, p.y = p.x+t.astray.x, p.y+t.astray.y
	tolerance, hold := 1.2, witnessHold
	switch w.fault {
	case CoarseGrid:
		tolerance = 0.5
	case EachDecides: // the snapshots win soon
		hold = 1300 * time.Millisecond
	}
	w.note(now, what, w.never(t.id, func(f fact) bool { return math.Hypot(f.x-p.x, f.y-p.y) < tolerance }), hold)
}

// askFlips: a gate is the wrong way round, and has been flipped again since. As
// long as it has not, it only looks as if the last news never came.
func (w *Witness) askFlips(now time.Duration, t *seen, what wrongness) {
	wrong := w.never(t.id, func(f fact) bool { return f.open == (t.detail == 1) })
	first, known := w.flipped[what]
	if wrong && !known {
		w.flipped[what], first = t.flips, t.flips
	}
	w.note(now, what, wrong && t.flips > first, witnessHold)
}

// playerOf is the server's side of a client, or nil.
func (s *Server) playerOf(c *Client) *player {
	for _, p := range s.players {
		if p.name == c.name && p.session == c.session && !p.gone {
			return p
		}
	}
	return nil
}
