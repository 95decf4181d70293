package hillfold

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/random"
	"zitherwheel/internal/trace"
)

// join lets one more player in at the present time.
func (t *table) join(config Config, name string) *Client {
	view := len(t.said)
	t.said = append(t.said, nil)
	c := NewClient(config, name, t.names, random.Stream(1, name), func(r *trace.Record) {
		var kept trace.Record
		kept.CopyFrom(r)
		t.said[view] = append(t.said[view], kept)
	})
	c.Join(t.now)
	t.clients, t.inputs, t.toAll = append(t.clients, c), append(t.inputs, Input{}), append(t.toAll, nil)
	return c
}

// put places a player's dog on the server.
func (t *table) put(player int, x, y float64) {
	p := t.server.players[player]
	p.dog.x, p.dog.y, p.dog.speed = x, y, 0
}

// thing is what a client knows of the thing of that name.
func (c *Client) thing(name string) *seen {
	for _, t := range c.things {
		if t.name == name {
			return t
		}
	}
	return nil
}

func TestADogPushesAGateOnceEachTimeItComes(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(time.Second)
	gate := m.server.gates[0]
	require.False(t, gate.open)
	m.put(0, gate.x+1, gate.y)
	m.run(500 * time.Millisecond)
	assert.True(t, gate.open)
	m.run(time.Second)
	assert.True(t, gate.open, "it stands there, and pushes no more")
	m.put(0, gate.x+10, gate.y)
	m.run(300 * time.Millisecond)
	m.put(0, gate.x+1, gate.y)
	m.run(500 * time.Millisecond)
	assert.False(t, gate.open)
	for _, c := range m.clients {
		assert.Zero(t, c.thing(gate.name).detail)
	}
	late := m.join(m.server.config, "oak")
	m.put(0, gate.x+10, gate.y)
	m.run(300 * time.Millisecond)
	m.put(0, gate.x+1, gate.y)
	m.run(time.Second)
	assert.Equal(t, 1, late.thing(gate.name).detail, "who comes late learns of it too")
}

func TestStonesAreToldToEveryone(t *testing.T) {
	m := newTable(0, "fern")
	m.run(3 * time.Second)
	late := m.join(m.server.config, "oak")
	m.run(time.Second)
	want := listed(m.server.stones.cells)
	assert.Len(t, strings.Fields(want), stoneCount)
	assert.Equal(t, want, m.clients[0].thing("stones/all").text)
	assert.Equal(t, want, late.thing("stones/all").text)
}

func TestTheArmOfTheMillFollowsTheServersClock(t *testing.T) {
	m := newTable(0, "fern")
	m.run(3 * time.Second)
	late := m.join(m.server.config, "oak")
	m.run(3 * time.Second)
	for _, c := range []*Client{m.clients[0], late} {
		angle, ok := c.clock.arm(c, m.now)
		require.True(t, ok)
		// Steps of 5 ms and of ticks stand between the two clocks here.
		assert.InDelta(t, 0, turnTo(armAt(m.now), angle), 3)
	}
}

func TestTheMillShovesADog(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	m.put(0, millX+4, millY)
	before := math.Hypot(m.server.players[0].dog.x-millX, m.server.players[0].dog.y-millY)
	m.run(5 * time.Second) // more than a turn
	after := math.Hypot(m.server.players[0].dog.x-millX, m.server.players[0].dog.y-millY)
	assert.Greater(t, after, before+1)
	x, y, _, _ := m.clients[0].Own()
	assert.InDelta(t, m.server.players[0].dog.x, x, 0.1, "the client is corrected")
	assert.InDelta(t, m.server.players[0].dog.y, y, 0.1)
}

func TestSheepNearABarkBolt(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	near, far := m.server.flock[0], m.server.flock[1]
	m.put(0, 0, 0)
	near.x, near.y, far.x, far.y = 12, 0, 12, 30
	m.inputs[0] = Input{Bark: true}
	m.run(20 * time.Millisecond)
	m.inputs[0] = Input{}
	m.run(time.Second)
	assert.Greater(t, math.Hypot(near.x, near.y), 16.0)
	assert.Less(t, math.Hypot(far.x-12, far.y-30), 4.0)
	assert.NotEmpty(t, m.clients[0].tufts, "a bark plucks wool, on each client as it likes")
}

func TestStaminaIsSpentAndRestored(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	m.inputs[0] = Input{Move: 1, Run: true}
	m.run(4 * time.Second)
	spent := m.server.players[0].dog.stamina
	assert.Less(t, spent, 50.0)
	m.inputs[0] = Input{Move: 1}
	m.run(3 * time.Second)
	assert.Greater(t, m.server.players[0].dog.stamina, spent+15)
}

func TestWhatIsFarIsNotTold(t *testing.T) {
	config := Config{Rates: DefaultRates, Sheep: 0, Round: time.Hour, Radius: 20}
	m := newTableWith(config, "fern", "moss")
	m.run(time.Second)
	m.put(0, 0, 0)
	m.put(1, 40, 0)
	m.run(time.Second)
	fern := m.clients[0]
	assert.Nil(t, fern.thing("dog/moss"))
	assert.NotNil(t, fern.thing("bell/brass"), "what concerns everyone is told everywhere")
	m.put(1, 18, 0)
	m.run(500 * time.Millisecond)
	assert.NotNil(t, fern.thing("dog/moss"))
	m.put(1, 23, 0)
	m.run(500 * time.Millisecond)
	assert.NotNil(t, fern.thing("dog/moss"), "a little farther than it was learnt of, so that nothing flickers")
	m.put(1, 26, 0)
	m.run(500 * time.Millisecond)
	assert.Nil(t, fern.thing("dog/moss"))
	assert.Equal(t, "moss", fern.playerOf(m.server.players[1].id), "who it is stays known")
}

func TestAFullServerRefuses(t *testing.T) {
	m := newTableWith(Config{Rates: DefaultRates, Round: time.Hour, Places: 2}, "fern", "moss")
	m.run(time.Second)
	late := m.join(m.server.config, "oak")
	m.run(time.Second)
	assert.True(t, late.Refused())
	assert.False(t, late.Inside())
	assert.Len(t, m.server.players, 2)
	said := m.said[3]
	require.Len(t, said, 1)
	assert.Equal(t, "oak", said[0].Refused)

	m.clients[1].Leave(m.now)
	m.run(time.Second)
	late.Join(m.now)
	m.run(time.Second)
	assert.True(t, late.Inside(), "a place was free again")
}

func TestDogsStartApart(t *testing.T) {
	m := newTable(0, "a", "b", "c", "d", "e", "f", "g", "h")
	m.run(time.Second)
	for i, p := range m.server.players {
		for _, q := range m.server.players[:i] {
			assert.Greater(t, math.Hypot(p.dog.x-q.dog.x, p.dog.y-q.dog.y), 3.0)
		}
	}
	assert.Zero(t, m.server.crowded)
}

func TestTheBellIsRequestedAndGrantedOrDenied(t *testing.T) {
	m := newTable(0, "fern", "moss")
	m.run(time.Second)
	b := &m.server.bell
	b.x, b.y = 10, 10
	m.put(0, 10, 10)
	m.put(1, 40, 30)
	m.run(400 * time.Millisecond)
	require.Equal(t, "fern", b.wearer.name)
	m.put(1, 10.5, 10) // at once: too early
	m.run(400 * time.Millisecond)
	assert.Equal(t, "fern", b.wearer.name)
	assert.Equal(t, "fern", m.clients[1].thing("bell/brass").text, "moss listens to the no")
	var marks []string
	for _, r := range append(m.said[0], m.said[2]...) {
		if r.Checkpoint == "request" || r.Checkpoint == "denied" || r.Checkpoint == "touch" {
			marks = append(marks, r.Checkpoint+" "+r.By)
		}
	}
	assert.Equal(t, []string{"request fern", "request moss", "denied moss", "touch moss"}, marks)
	m.run(3 * time.Second)
	assert.Equal(t, "moss", b.wearer.name, "it asks again")
}

func TestAHealthyServerBelievesNoCheat(t *testing.T) {
	m := newTable(0, "fern")
	m.run(time.Second)
	m.clients[0].Cheat(m.now, Cheat{X: 30, Y: 30, Moves: true, Stamina: true})
	m.run(50 * time.Millisecond)
	x, _, _, _ := m.clients[0].Own()
	assert.InDelta(t, 30, x, 1, "for the moment the client shows it")
	m.run(time.Second)
	x, _, _, _ = m.clients[0].Own()
	assert.InDelta(t, m.server.players[0].dog.x, x, 0.2)
	assert.Less(t, x, 0.0)
	// Impossible inputs are cut down to possible ones.
	assert.Equal(t, Input{Turn: 1, Move: 1, Run: true}, Input{Turn: 1, Move: 4, Run: true}.asSent())
}

// Notices that came before the board was built are applied before those that
// come at the very moment.
func TestScoreNoticesStayInOrder(t *testing.T) {
	m := newTable(0, "fern")
	m.run(2 * time.Second)
	c := m.clients[0]
	dog := m.server.players[0].id
	b := board{ready: m.now}
	b.notice(c, m.now-time.Millisecond, notice{dog: dog, score: 2, penned: 2})
	b.notice(c, m.now, notice{dog: dog, score: 3, penned: 3})
	b.build(c, m.now)
	assert.Equal(t, 3, c.byID[dog].detail)
}

func TestRatesOfTheirOwn(t *testing.T) {
	config := Config{Rates: Rates{Tick: 20, Send: 4, FPS: 60, Report: 20}, Sheep: 4, Round: time.Hour}
	m := newTableWith(config, "fern")
	fast := config
	fast.Rates.FPS, fast.Rates.Report = 200, 40
	m.join(fast, "moss")
	m.run(2 * time.Second)
	m.inputs[0], m.inputs[1] = Input{Move: 1}, Input{Move: 1}
	m.run(3 * time.Second)
	a, b := m.server.players[0].dog, m.server.players[1].dog
	assert.InDelta(t, a.x-m.clients[0].predicted.x, b.x-m.clients[1].predicted.x, 1)
	assert.InDelta(t, trotSpeed, a.speed, 0.1)
	assert.InDelta(t, trotSpeed, b.speed, 0.1, "as fast at 200 frames as at 60")
	pictures := 0
	for _, r := range m.said[2] {
		if len(r.State) > 0 {
			pictures++
		}
	}
	assert.Greater(t, pictures, 150)
}

func TestWhatIsSentIsTold(t *testing.T) {
	m := newTable(0, "fern")
	m.run(4 * time.Second)
	told := map[string]bool{}
	for _, said := range m.said {
		for _, r := range said {
			if r.Checkpoint == "sent" {
				told[r.ID] = true
				assert.Contains(t, r.Data, `"bytes":`)
			}
		}
	}
	assert.Equal(t, map[string]bool{"snapshots": true, "messages": true, "clock": true, "inputs": true}, told)
}

func TestTheRoundEndsWithAWinnerEverywhere(t *testing.T) {
	m := newTableWith(Config{Rates: DefaultRates, Sheep: 3, Round: 4 * time.Second}, "fern", "moss")
	m.run(time.Second)
	m.put(1, 45, 0)
	m.server.flock[0].x, m.server.flock[0].y = foldX+1, 0
	m.run(5 * time.Second)
	assert.Equal(t, "moss", m.server.round.winner)
	for _, c := range m.clients {
		assert.Equal(t, "moss", c.thing("round/first").text)
		assert.True(t, c.thing("round/first").over)
	}
	late := m.join(m.server.config, "oak")
	m.run(2 * time.Second)
	assert.Equal(t, "moss", late.thing("round/first").text)
	for _, r := range m.said[3] {
		assert.NotEqual(t, "final", r.Event, "for who comes later it is no news")
	}
}
