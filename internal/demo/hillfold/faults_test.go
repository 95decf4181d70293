package hillfold

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/random"
)

// scene is a match in which a fault must show itself, and the healthy game must
// not.
type scene struct {
	config func(*Config)
	play   func(m *table)
}

// lossy loses a share of what goes to the clients.
func lossy(m *table, share float64) {
	random := random.Stream(5, "loss")
	m.lose = func(int, []byte) bool { return random.Float64() < share }
}

// walk lets every dog run about in circles of its own.
func walk(m *table, length time.Duration) {
	for i := range m.inputs {
		m.inputs[i] = Input{Move: 1, Turn: 0.1 * float64(i+1), Run: i%2 == 0}
	}
	m.run(length)
}

func bark(m *table, player int) {
	m.inputs[player].Bark = true
	m.run(20 * time.Millisecond)
	m.inputs[player].Bark = false
}

var scenes = map[Fault]scene{
	LostGoodbye: {play: func(m *table) {
		m.run(3 * time.Second)
		m.lose = func(to int, _ []byte) bool { return to == 0 }
		m.clients[1].Leave(m.now)
		m.run(300 * time.Millisecond)
		m.lose = func(int, []byte) bool { return false }
		m.run(6 * time.Second)
	}},
	KeptToItself:  {play: func(m *table) { m.run(2 * time.Second); walk(m, 8*time.Second) }},
	NarrowNumbers: {play: func(m *table) { m.run(8 * time.Second) }},
	OnlyHere:      {play: func(m *table) { m.run(2 * time.Second); walk(m, 8*time.Second) }},
	CountedTwice: {play: func(m *table) {
		m.run(3 * time.Second)
		m.server.flock[0].x, m.server.flock[0].y = foldX-0.2, 1
		m.server.flock[0].goal, m.server.flock[0].pace, m.server.flock[0].until = 0, walkSpeed, m.now+time.Minute
		m.server.flock[0].heading = 0
		m.run(6 * time.Second)
	}},
	ToldTwice: {play: func(m *table) {
		m.run(2 * time.Second)
		m.slow = true
		bark(m, 0)
		m.run(3 * time.Second)
	}},
	OnceUnreliable: {play: func(m *table) {
		m.run(4 * time.Second)
		lossy(m, 0.5)
		for range 12 {
			bark(m, 0)
			m.run(200 * time.Millisecond)
		}
		m.run(6 * time.Second)
	}},
	LateAndBlind: {play: func(m *table) {
		m.run(2 * time.Second)
		m.join(m.server.config, "oak")
		m.run(6 * time.Second)
	}},
	TwinOnReturn: {play: func(m *table) {
		m.run(2 * time.Second)
		m.clients[1].Leave(m.now)
		m.run(time.Second)
		m.clients[1].Join(m.now)
		m.run(3 * time.Second)
	}},
	TwoMasters: {play: func(m *table) {
		m.run(3 * time.Second)
		m.server.bell.x, m.server.bell.y = 10, 10
		m.put(0, 10, 10)
		m.put(1, 40, 30)
		m.run(400 * time.Millisecond)
		m.put(1, 10.5, 10)
		m.run(300 * time.Millisecond)
		m.put(1, 45, 30)
		m.run(6 * time.Second)
	}},
	AnyHandSteers: {play: func(m *table) { m.run(2 * time.Second); walk(m, 8*time.Second) }},
	BelievesAnything: {play: func(m *table) {
		m.run(2 * time.Second)
		m.clients[0].Cheat(m.now, Cheat{X: 30, Y: 30, Moves: true})
		m.run(time.Second)
	}},
	HalfATrip: {play: func(m *table) { m.slow = true; m.run(12 * time.Second) }},
	OwnStartClock: {play: func(m *table) {
		m.run(1300 * time.Millisecond)
		m.join(m.server.config, "oak")
		m.run(9 * time.Second)
	}},
	EmptyBoard: {play: func(m *table) {
		m.run(2 * time.Second)
		m.join(m.server.config, "oak")
		m.run(300 * time.Millisecond)
		m.server.flock[0].x, m.server.flock[0].y = foldX+1, 0
		m.run(8 * time.Second)
	}},
	LooseSheep: {play: func(m *table) {
		m.run(2 * time.Second)
		for i := range 40 { // a dog that gives them no rest
			f := m.server.flock[i%len(m.server.flock)]
			m.put(0, f.x-4, f.y+float64(i%5))
			m.run(500 * time.Millisecond)
		}
	}},
	EachDecides: {play: func(m *table) {
		m.run(2 * time.Second)
		for range 12 { // a dog in the flock that will not be quiet
			m.put(0, m.server.flock[0].x+2, m.server.flock[0].y)
			bark(m, 0)
			m.run(400 * time.Millisecond)
		}
		m.run(time.Second)
	}},
	FramePaced: {config: func(c *Config) { c.Rates.FPS = 100 }, play: func(m *table) { m.run(10 * time.Second) }},
	CoarseGrid: {play: func(m *table) {
		m.run(time.Second)
		f := m.server.flock[0]
		f.x, f.y, f.pace, f.speed, f.until = 10.45, 10.45, 0, 0, m.now+time.Hour
		m.run(8 * time.Second)
	}},
	FlipNotValue: {play: func(m *table) {
		m.run(3 * time.Second)
		g := m.server.gates[0]
		push := func() {
			m.put(0, g.x+0.5, g.y)
			m.run(100 * time.Millisecond)
			m.put(0, g.x+12, g.y)
			m.run(400 * time.Millisecond)
		}
		m.lose = func(to int, _ []byte) bool { return to == 1 }
		push()
		m.lose = func(int, []byte) bool { return false }
		m.run(2 * time.Second)
		push()
		m.run(6 * time.Second)
	}},
	ForgetsWhatItLeft: {config: func(c *Config) { c.Radius = 20 }, play: func(m *table) {
		g := m.server.gates[0]
		m.run(2 * time.Second)
		m.put(1, g.x+10, g.y)
		m.run(2 * time.Second)
		m.put(1, g.x-50, g.y)
		m.run(time.Second)
		m.put(0, g.x+0.5, g.y)
		m.run(200 * time.Millisecond)
		m.put(0, g.x+15, g.y+10)
		m.put(1, g.x+10, g.y)
		m.run(6 * time.Second)
	}},
	SameSpot: {play: func(m *table) { m.run(2 * time.Second) }},
	ShutDoor: {config: func(c *Config) { c.Places = 2 }, play: func(m *table) {
		m.run(2 * time.Second)
		m.join(m.server.config, "oak")
		m.run(9 * time.Second)
	}},
	DifferentEndings: {config: func(c *Config) { c.Round, c.Sheep = 4*time.Second, 0 }, play: func(m *table) { m.run(9 * time.Second) }},
	WrongOrder: {play: func(m *table) {
		m.run(3 * time.Second)
		lossy(m, 0.5)
		for range 60 {
			bark(m, 0)
			m.run(60 * time.Millisecond)
		}
		m.run(4 * time.Second)
	}},
	SwappedAxes: {play: func(m *table) { m.server.flock[0].x, m.server.flock[0].y = 20, -20; m.run(8 * time.Second) }},
	StuckChase:  {play: func(m *table) { m.run(9 * time.Second) }},
}

func TestEveryMistakeShowsItselfAndTheHealthyGameDoesNot(t *testing.T) {
	for _, info := range AllFaults {
		if info.Control() {
			continue
		}
		s, ok := scenes[info.Fault]
		require.True(t, ok, info.Name)
		for _, injected := range []bool{true, false} {
			config := Config{Rates: DefaultRates, Sheep: 6, Round: time.Hour}
			if injected {
				config.Faults = Faults(info.Fault)
			}
			if s.config != nil {
				s.config(&config)
			}
			m := newTableWith(config, "fern", "moss")
			m.witness = NewWitness(info.Fault)
			s.play(m)
			// A jerky picture is no matter of what the memory holds: the witness takes
			// it from the fault being injected.
			if injected || info.Fault != StuckChase {
				assert.Equal(t, injected, m.witness.Showed(), "%s injected: %v", info.Name, injected)
			}
			assert.Zero(t, m.server.Malformed+m.clients[0].Malformed, info.Name)
		}
	}
}

func TestDecoysChangeOnlyWhatTheyMay(t *testing.T) {
	m := newTable(Faults(WildTufts), "fern", "moss")
	m.run(2 * time.Second)
	bark(m, 0)
	m.run(500 * time.Millisecond)
	a, b := m.clients[0].tufts, m.clients[1].tufts
	assert.Greater(t, len(a)+len(b), 10)
	assert.NotEqual(t, a[0].x, b[0].x, "each client strews its own")

	late := newTable(Faults(LegalLag), "fern", "moss")
	usual := newTable(0, "fern", "moss")
	late.run(4 * time.Second)
	usual.run(4 * time.Second)
	assert.InDelta(t, legalLag, (usual.clients[0].playback.at - late.clients[0].playback.at).Seconds(), 0.02)
}

func TestEveryMistakeHasItsWords(t *testing.T) {
	names := map[string]bool{}
	for _, info := range AllFaults {
		assert.NotEmpty(t, info.What+info.Shows, info.Name)
		assert.False(t, names[info.Name], info.Name)
		names[info.Name] = true
		set, err := ParseFaults([]string{info.Name})
		require.NoError(t, err)
		assert.True(t, set.Has(info.Fault))
		for _, other := range AllFaults {
			assert.Equal(t, other.Fault == info.Fault, set.Has(other.Fault))
		}
	}
	_, err := ParseFaults([]string{"flat-tyre"})
	assert.ErrorContains(t, err, `there is no fault "flat-tyre"; there are lost-goodbye, kept-to-itself`)
}

// With input-leak the others are off by the own dog's way.
func TestAnyHandSteersMovesTheOthersLikeTheOwnDog(t *testing.T) {
	m := newTable(Faults(AnyHandSteers), "fern", "moss")
	m.run(2 * time.Second)
	own := m.clients[0].predicted
	m.inputs[0] = Input{Move: 1}
	m.run(3 * time.Second)
	moved := math.Hypot(m.clients[0].predicted.x-own.x, m.clients[0].predicted.y-own.y)
	off := m.clients[0].thing("dog/moss").astray
	assert.InDelta(t, moved, math.Hypot(off.x, off.y), 0.5)
}
