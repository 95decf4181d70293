package hillfold

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/random"
	"zitherwheel/internal/trace"
)

// table is a match without a network in between: what one side sends, the other
// finds at its next step, unless the test loses it.
type table struct {
	names   *trace.Names
	server  *Server
	clients []*Client
	inputs  []Input
	toAll   [][]Packet // on their way to each client
	toHost  []Packet
	said    [][]trace.Record // by view, server first
	lose    func(to int, data []byte) bool
	now     time.Duration
	slow    bool // what is sent takes 150 ms, each way
	onWay   []onWay
	witness *Witness // looks on, if not nil
	looked  time.Duration
}

// onWay is a packet that takes its time.
type onWay struct {
	at     time.Duration
	to     int // a client, or -1
	packet Packet
}

// deliver puts a packet into an inbox, now or when it arrives.
func (t *table) deliver(to int, p Packet) {
	w := onWay{t.now, to, p}
	if t.slow {
		w.at += 150 * time.Millisecond
	}
	t.onWay = append(t.onWay, w)
}

func (t *table) arrive() {
	kept := t.onWay[:0]
	for _, w := range t.onWay {
		switch {
		case w.at > t.now:
			kept = append(kept, w)
		case w.to >= len(t.toAll): // nobody of ours
		case w.to < 0:
			t.toHost = append(t.toHost, w.packet)
		default:
			t.toAll[w.to] = append(t.toAll[w.to], w.packet)
		}
	}
	t.onWay = kept
}

func newTable(faults Faults, players ...string) *table {
	return newTableWith(Config{Rates: DefaultRates, Sheep: 6, Round: time.Hour, Faults: faults}, players...)
}

func newTableWith(config Config, players ...string) *table {
	t := &table{names: trace.NewNames(), said: make([][]trace.Record, len(players)+1), toAll: make([][]Packet, len(players)),
		inputs: make([]Input, len(players)), lose: func(int, []byte) bool { return false }}
	note := func(view int) func(*trace.Record) {
		return func(r *trace.Record) {
			var kept trace.Record
			kept.CopyFrom(r)
			t.said[view] = append(t.said[view], kept)
		}
	}
	t.server = NewServer(config, t.names, random.Stream(1, "world"), note(0), func(string) {})
	for i, name := range players {
		c := NewClient(config, name, t.names, random.Stream(1, name), note(i+1))
		c.Join(0)
		t.clients = append(t.clients, c)
	}
	return t
}

// run lets the match go on for a while.
func (t *table) run(length time.Duration) {
	for end := t.now + length; t.now < end; t.now += 5 * time.Millisecond {
		if t.witness != nil && t.now >= t.looked {
			t.looked = t.now + witnessEvery
			t.witness.look(t.now, t.server, t.clients)
		}
		t.arrive()
		for i, c := range t.clients {
			if t.now >= c.Next() && !c.Idle() {
				for _, p := range c.Step(t.now, t.toAll[i], t.inputs[i]) {
					t.deliver(-1, Packet{Peer: Address(i), Data: append([]byte(nil), p.Data...)})
				}
				t.toAll[i] = nil
			}
		}
		if t.now >= t.server.Next() {
			for _, p := range t.server.Step(t.now, t.toHost) {
				if !t.lose(int(p.Peer), p.Data) {
					t.deliver(int(p.Peer), Packet{Data: append([]byte(nil), p.Data...)})
				}
			}
			t.toHost = nil
		}
		t.arrive()
	}
}

func TestPlayersSeeEachOtherAndTheFlock(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(2 * time.Second)
	for _, c := range m.clients {
		assert.True(t, c.Inside())
		assert.ElementsMatch(t, m.server.Things(), c.Things())
		assert.Zero(t, c.Malformed)
	}
	assert.Zero(t, m.server.Malformed)
}

func TestPredictionAndServerAgreeOnTheOwnDog(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	m.inputs[0] = Input{Turn: 0.3, Move: 1, Run: true}
	m.run(3 * time.Second)
	m.inputs[0] = Input{}
	m.run(time.Second)
	own, there := m.clients[0].predicted, m.server.players[0].dog
	assert.InDelta(t, there.x, own.x, 0.05)
	assert.InDelta(t, there.y, own.y, 0.05)
	assert.InDelta(t, there.stamina, own.stamina, 0.6)
	assert.Less(t, there.stamina, 90.0, "running costs")
}

func TestWhatMustNotBeLostArrivesUnderLossAndInOrder(t *testing.T) {
	m := newTable(0, "fern", "moss")
	random := random.Stream(3, "loss")
	m.lose = func(int, []byte) bool { return random.Float64() < 0.4 }
	m.run(time.Second)
	for range 20 {
		m.inputs[0] = Input{Bark: true}
		m.run(20 * time.Millisecond)
		m.inputs[0] = Input{}
		m.run(100 * time.Millisecond)
	}
	m.run(3 * time.Second)
	var there, here []string
	for view, list := range map[int]*[]string{0: &there, 2: &here} {
		for _, r := range m.said[view] {
			if r.Event == "bark" {
				*list = append(*list, r.ID)
			}
		}
	}
	assert.GreaterOrEqual(t, len(there), 20)
	assert.Equal(t, there, here, "every bark once, in order")
}

func TestLeavingTakesTheDogOutEverywhere(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(2 * time.Second)
	m.clients[1].Leave(m.now)
	m.run(time.Second)
	assert.NotContains(t, m.server.Things(), "dog/moss")
	assert.NotContains(t, m.clients[0].Things(), "dog/moss")

	m.clients[1].Join(m.now)
	m.run(time.Second)
	assert.Contains(t, m.clients[0].Things(), "dog/moss", "it came back")
	assert.True(t, m.clients[1].Inside())
}

func TestASilentPlayerIsTakenOut(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(2 * time.Second)
	m.clients[1].state = outside // its process died
	m.run(silentFor + time.Second)
	assert.NotContains(t, m.clients[0].Things(), "dog/moss")
}

func TestTheBellIsTakenAndSnatched(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(time.Second)
	place := func(player int, x, y float64) { m.server.players[player].dog.x, m.server.players[player].dog.y = x, y }
	place(0, m.server.bell.x, m.server.bell.y)
	place(1, m.server.bell.x+20, m.server.bell.y)
	m.run(300 * time.Millisecond)
	require.Equal(t, "fern", m.server.bell.wearer.name)
	m.run(bellRest)
	place(1, m.server.bell.x+0.5, m.server.bell.y)
	m.run(500 * time.Millisecond)
	assert.Equal(t, "moss", m.server.bell.wearer.name)
	for _, c := range m.clients {
		for _, thing := range c.things {
			if thing.species == bell {
				assert.Equal(t, "moss", thing.text)
			}
		}
	}
}

func TestASheepInTheFoldScores(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	m.server.flock[0].x, m.server.flock[0].y = foldX+1, 0
	penned := m.server.flock[0].name
	m.run(time.Second)
	assert.Equal(t, 1, m.server.round.penned)
	assert.Equal(t, 1, m.server.players[0].score)
	assert.Len(t, m.server.flock, 6, "a new one is let in")
	assert.NotContains(t, m.clients[0].Things(), penned)
	assert.ElementsMatch(t, m.server.Things(), m.clients[0].Things())
}

func TestMalformedPacketsAreCountedAndChangeNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newTable(0, "fern")
		m.run(500 * time.Millisecond)
		before := m.clients[0].Things()
		garbage := rapid.SliceOf(rapid.Byte()).Draw(t, "garbage")
		if rapid.Bool().Draw(t, "almost right") {
			garbage = append([]byte{wireVersion, byte(rapid.IntRange(0, 9).Draw(t, "kind")), 0, 0, 0, 1}, garbage...)
		}
		m.toHost = append(m.toHost, Packet{Peer: 7, Data: garbage})
		m.toAll[0] = append(m.toAll[0], Packet{Data: garbage})
		m.run(200 * time.Millisecond)
		require.True(t, m.clients[0].Inside())
		require.Subset(t, m.clients[0].Things(), before[:1])
	})
	s := newTable(0).server
	s.Step(0, []Packet{{Peer: 1}, {Peer: 1, Data: []byte{9, 1, 2}}, {Peer: 1, Data: []byte{wireVersion, packetJoin, 0}}})
	assert.Equal(t, 3, s.Malformed)
}

func TestNumbersOnTheWire(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := pose{id: 7, species: dogs, x: rapid.Float64Range(-60, 60).Draw(t, "x"), y: rapid.Float64Range(-40, 40).Draw(t, "y"),
			heading: rapid.Float64Range(0, 359.999).Draw(t, "heading"), speed: rapid.Float64Range(0, 8).Draw(t, "speed"),
			stamina: rapid.Float64Range(0, 100).Draw(t, "stamina"), gait: uint8(rapid.IntRange(0, 2).Draw(t, "gait")), tired: rapid.Bool().Draw(t, "tired")}
		var w writer
		w.pose(&p, 0)
		r := reader{b: w.b}
		got := r.pose(0)
		require.False(t, r.bad)
		require.InDelta(t, p.x, got.x, centimetre)
		require.InDelta(t, p.y, got.y, centimetre)
		require.LessOrEqual(t, math.Abs(turnTo(p.heading, got.heading)), 0.01)
		require.InDelta(t, p.speed, got.speed, speedStep)
		require.InDelta(t, p.stamina, got.stamina, staminaStep)
		require.Equal(t, p.tired, got.tired)
	})
}

func TestHeadings(t *testing.T) {
	for _, c := range []struct{ from, to, turn float64 }{{350, 10, 20}, {10, 350, -20}, {0, 180, 180}, {90, 90, 0}} {
		assert.InDelta(t, c.turn, turnTo(c.from, c.to), 1e-9)
		assert.InDelta(t, c.to, turned(c.from, c.turn), 1e-9)
	}
	assert.InDelta(t, 10, turned(5, 725), 1e-9)
}

// A fence stops who is inside, and does not throw back who is outside.
func TestTheFence(t *testing.T) {
	assert.Equal(t, 60.0, fenced(59, 61, 60))
	assert.Equal(t, -60.0, fenced(-59, -61, 60))
	assert.Equal(t, 610.0, fenced(610, 611, 60))
	assert.Equal(t, 609.0, fenced(610, 609, 60))
}
