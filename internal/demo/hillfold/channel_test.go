package hillfold

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is lost, late or doubled, every message is handed on once and in
// order, as long as some datagrams come through.
func TestTheChannelHandsOnEveryMessageOnceInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var out outChannel
		var in inChannel
		var got []string
		said, now := 0, time.Duration(0)
		var late [][]byte
		deliver := func(datagram []byte) {
			r := reader{b: datagram}
			in.read(&r, func(data []byte) { got = append(got, string(data)) })
			require.False(t, r.bad)
		}
		for step := range 200 {
			now += 30 * time.Millisecond
			if step < 150 && rapid.IntRange(0, 2).Draw(t, "says") == 0 {
				out.say([]byte(fmt.Sprint("message ", said)))
				said++
			}
			var w writer
			out.write(&w, now, 300)
			outcome := rapid.IntRange(0, 4).Draw(t, "outcome")
			if step >= 170 {
				outcome = 0
			}
			switch outcome {
			case 0, 1:
				deliver(w.b)
			case 2:
				deliver(w.b)
				deliver(w.b)
			case 3:
				late = append(late, w.b)
			}
			if len(late) > 3 {
				deliver(late[0])
				late = late[1:]
			}
			if outcome != 4 {
				out.acknowledge(in.next)
			}
		}
		require.Len(t, got, said)
		for i, message := range got {
			require.Equal(t, fmt.Sprint("message ", i), message)
		}
		require.Empty(t, out.waiting)
	})
}

func TestNumbersOfMessagesWrap(t *testing.T) {
	out, in := outChannel{first: 65530}, inChannel{next: 65530}
	got := 0
	for range 20 {
		out.say([]byte("x"))
		var w writer
		out.write(&w, time.Duration(got)*time.Second, 1000)
		in.read(&reader{b: w.b}, func([]byte) { got++ })
		out.acknowledge(in.next)
	}
	assert.Equal(t, 20, got)
	assert.Equal(t, uint16(14), in.next)
	out.acknowledge(9999) // nonsense changes nothing
	assert.Equal(t, uint16(14), out.first)
}

func TestALongMessageWaitsForRoom(t *testing.T) {
	var out outChannel
	out.say(make([]byte, 200))
	out.say(make([]byte, 200))
	var w writer
	out.write(&w, 0, 250)
	assert.Equal(t, uint8(1), w.b[0], "one fits")
	var next writer
	out.write(&next, 10*time.Millisecond, 250)
	assert.Equal(t, uint8(1), next.b[0], "and then the other, while the first waits for its answer")
}

func TestPlaybackStaysBehindAndCatchesUp(t *testing.T) {
	p := playback{behind: 0.06}
	frame := time.Second / 60
	run := func(from, to, delay time.Duration) {
		next := from
		for now := from; now < to; now += frame {
			for ; next+delay <= now; next += 50 * time.Millisecond {
				p.heard(now, next)
			}
			p.run(now, frame.Seconds())
		}
	}
	run(0, 4*time.Second, 80*time.Millisecond)
	assert.InDelta(t, 4-0.08-0.06, p.at.Seconds(), 0.06)
	p.run(10*time.Second, frame.Seconds()) // after a long pause it jumps
	assert.Greater(t, p.at, 9*time.Second)
	before := p.at
	p.run(10*time.Second+frame, frame.Seconds())
	assert.InDelta(t, frame.Seconds(), (p.at - before).Seconds(), 0.003, "and then goes on at its pace, or nearly")
}

func TestTheClockIsTheMeanOfItsExchanges(t *testing.T) {
	m := newTable(0, "fern")
	m.run(500 * time.Millisecond)
	c := m.clients[0]
	k := clock{}
	answer := func(sent, server, now time.Duration) {
		var w writer
		w.u64(uint64(sent.Microseconds()))
		w.u64(uint64(server.Microseconds()))
		k.heard(c, now, &reader{b: w.b})
	}
	_, ok := k.server(0)
	assert.False(t, ok)
	for i := range 20 { // up 30 ms and 10 ms in turn, down 10 ms: the clocks are 5 s apart
		up := time.Duration(10+20*(i%2)) * time.Millisecond
		sent := time.Duration(i) * 100 * time.Millisecond
		answer(sent, 5*time.Second+sent+up, sent+up+10*time.Millisecond)
	}
	server, ok := k.server(10 * time.Second)
	require.True(t, ok)
	assert.InDelta(t, 15.005, server.Seconds(), 0.0001, "half the difference of the ways remains, on average")
	before := c.Malformed
	k.heard(c, 0, &reader{b: []byte{1, 2}})
	answer(time.Hour, 0, 0)
	assert.Equal(t, before+2, c.Malformed)
}
