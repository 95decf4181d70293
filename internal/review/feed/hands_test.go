package feed

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
)

// diary writes down what it hears.
type diary struct {
	lines []string
	slow  time.Duration
	fails bool
}

func (d *diary) Record(view int, r *trace.Record) {
	if time.Sleep(d.slow); d.fails {
		panic("it cannot write")
	}
	d.lines = append(d.lines, fmt.Sprint(view, r.T, r.State, r.Despawned, r.Event))
}

func (d *diary) Packet(view int, p link.Packet) {
	d.lines = append(d.lines, fmt.Sprint(view, p.Sent, p.Size))
}

// withProcessors has a test see so many of them.
func withProcessors(t testing.TB, n int) {
	before := runtime.GOMAXPROCS(n)
	t.Cleanup(func() { runtime.GOMAXPROCS(before) })
}

// All hands hear everything in the order in which it was said, and as it was said then.
func TestHandsHearWhatIsSaidAsItIsSaid(t *testing.T) {
	withProcessors(t, 4)
	rapid.Check(t, func(t *rapid.T) {
		all := []*diary{{}, {}, {slow: time.Duration(rapid.IntRange(0, 1).Draw(t, "us")) * time.Microsecond}}
		here := &diary{}
		hands := Beside(all[0], all[1], all[2])
		require.NotNil(t, hands)
		defer hands.End()
		r := &trace.Record{} // used again and again, as those who say it do
		for i := range rapid.IntRange(0, 700).Draw(t, "things") {
			switch view := i % 5; rapid.IntRange(0, 40).Draw(t, "kind") {
			case 0:
				hands.Wait()
				assert.Equal(t, here.lines, all[2].lines, "what was said has been heard")
			case 1, 2, 3:
				p := link.Packet{Outcome: link.Outcome{Sent: time.Duration(i), Size: i % 90}}
				hands.Packet(view, p)
				here.Packet(view, p)
			default:
				r.Reset()
				r.T, r.Event = time.Duration(i), fmt.Sprint("event", i%3)
				for k := range i % 4 {
					r.State = append(r.State, trace.Change{Entity: trace.Entity(k), Value: trace.Number(float64(i))})
					r.Despawned = append(r.Despawned, trace.Entity(i))
				}
				hands.Record(view, r)
				here.Record(view, r)
			}
		}
		hands.Wait()
		for _, d := range all {
			assert.Equal(t, here.lines, d.lines)
		}
	})
}

// What fails for one of the hands fails for whoever said it.
func TestWhatFailsForAHandFailsForWhoeverSaidIt(t *testing.T) {
	withProcessors(t, 4)
	hands := Beside(&diary{fails: true}, &diary{})
	for i := range 1000 {
		hands.Record(0, &trace.Record{T: time.Duration(i)})
	}
	assert.PanicsWithValue(t, "it cannot write", hands.Wait)
	assert.Panics(t, hands.End)
	assert.Zero(t, busy.Load(), "its processor is free again")
}

func TestHandsAreHadWhereProcessorsAreIdle(t *testing.T) {
	withProcessors(t, 3)
	first := Beside(&diary{})
	second := Beside(&diary{})
	require.NotNil(t, first)
	require.NotNil(t, second)
	assert.Nil(t, Beside(&diary{}), "three processors bear two matches beside")
	first.End()
	release := Occupy()
	assert.Nil(t, Beside(&diary{}), "all are used")
	release()
	third := Beside(&diary{})
	require.NotNil(t, third)
	third.End()
	third.End() // once more does nothing
	second.End()
	withProcessors(t, 1)
	assert.Nil(t, Beside(&diary{}))
	var none *Hands
	none.Wait()
	none.End()
}
