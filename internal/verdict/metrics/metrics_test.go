package metrics

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

var rules = rulebook.Rules{Fields: []rulebook.Rule{
	{Entities: "tuft/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, SeenBy: rulebook.Nobody},
	{Entities: "dog/*", Fields: []string{"x", "y"}, Compare: rulebook.Distance, Tolerance: 0.5},
}}

// desk collects lines of views.
type desk struct {
	names *trace.Names
	c     *Collector
}

func newDesk() *desk {
	d := &desk{names: trace.NewNames()}
	d.c = New(d.names, []string{"server", "fern", "moss"}, true, rules)
	return d
}

func (d *desk) say(view int, t float64, rest string) {
	r, rec := trace.NewReader(strings.NewReader(fmt.Sprintf(`{"t":%f,%s}`, t, rest)), d.names), trace.Record{}
	if err := r.Next(&rec); err != nil {
		panic(fmt.Sprint(rest, err, r.Flaws()))
	}
	d.c.Record(view, &rec)
}

func at(entity string, x, y float64) string {
	return fmt.Sprintf(`"state":{"%s":{"x":%.3f,"y":%.3f}}`, entity, x, y)
}

func TestResponseIsFromTheInputToTheFirstMovement(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	for view := range 3 {
		d.say(view, 0.1, at("dog/fern", 5, 5))
	}
	d.say(1, 1, `"input":"trot","seq":1`)
	d.say(1, 1.02, at("dog/fern", 5.01, 5)) // too little to see
	d.say(1, 1.05, at("dog/fern", 5.2, 5))
	d.say(0, 1.12, at("dog/fern", 5.2, 5))
	d.say(2, 1.31, at("dog/fern", 5.2, 5))
	d.say(1, 1.4, `"input":"run","seq":2`) // already moving: not counted
	d.say(1, 1.45, at("dog/fern", 6, 5))
	m := d.c.Finish(nil)
	assert.Equal(t, &Spread{1, 50, 50, 50}, m.Views[0].ResponseOwn)
	assert.Equal(t, &Spread{1, 120, 120, 120}, m.Views[0].ResponseServer)
	assert.Equal(t, &Spread{1, 310, 310, 310}, m.Views[0].ResponseOthers)
	assert.Nil(t, m.Views[1].ResponseOwn)
}

func TestACorrectionIsAJumpOfThePrediction(t *testing.T) {
	d := newDesk()
	d.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	off := 0.0
	for i := range 600 {
		when, x := float64(i)*0.1, float64(i)*0.3
		if off *= 0.4; i == 100 || i == 400 {
			off += float64(i) / 200 // 0.5 m, then 2 m
		}
		d.say(1, when, fmt.Sprintf(`"state":{"dog/fern":{"x":%.3f,"y":0}},"predicted":{"dog/fern":{"x":%.3f,"y":0}}`, x+off, x))
	}
	v := d.c.Finish(nil).Views[0]
	require.NotNil(t, v.Corrections)
	assert.Equal(t, 2, v.Corrections.Count)
	assert.InDelta(t, 2, v.Corrections.Max, 0.01)
	assert.InDelta(t, 2, v.CorrectionsPerMinute, 0.05)
}

func TestClocksAndTraffic(t *testing.T) {
	d := newDesk()
	d.say(0, 0, `"checkpoint":"start"`)
	for i := range 10 {
		when := float64(i)
		d.say(1, when, fmt.Sprintf(`"ping":0.1,"server_t":%f`, when-0.05+0.012)) // 12 ms fast
		f := link.Outcome{Number: uint64(i), Sent: time.Duration(when * 1e9), Size: 100, Copies: 1}
		f.Arrives[0] = f.Sent + 40*time.Millisecond
		d.c.Packet(1, link.Packet{Direction: link.Down, Outcome: f})
		if i%2 == 0 {
			f.Copies = 0
			d.c.Packet(1, link.Packet{Direction: link.Up, Outcome: f})
		}
	}
	d.say(0, 10, `"checkpoint":"sent","id":"snapshot","data":{"packets":20,"bytes":5000}`)
	m := d.c.Finish(func(view int) Known { return Known{Age: &Spread{Count: view, P95: 90}} })
	v := m.Views[0]
	assert.InDelta(t, 12, v.ClockError.Median, 0.1)
	assert.Equal(t, Traffic{Packets: 10, Bytes: 1000, Delay: 40, PacketsPerSecond: 1, BytesPerSecond: 100}, v.Down)
	assert.Equal(t, Traffic{Packets: 5, Bytes: 500, Lost: 5, PacketsPerSecond: 0.5, BytesPerSecond: 50}, v.Up)
	assert.Equal(t, &Traffic{Packets: 20, Bytes: 5000, PacketsPerSecond: 2, BytesPerSecond: 500}, m.Server.Sent["snapshot"])
	assert.Equal(t, 90.0, v.Age.P95)

	assert.ElementsMatch(t, rulebook.Measures, slices.Collect(maps.Keys(limitable)), "what a plan can limit is what there is")
	assert.Len(t, m.Exceeded([]rulebook.Limit{{Measure: "age-p95-ms", Max: 80}, {Measure: "down-bytes-per-second", Max: 100}}), 2, "both views are too old; 100 is not above 100")
}

func TestALongSampleIsThinnedEvenly(t *testing.T) {
	var s sample
	for i := range 100_000 {
		s.add(float64(i))
	}
	got := s.spread()
	assert.Equal(t, 100_000, got.Count)
	assert.InDelta(t, 50_000, got.Median, 100)
	assert.InDelta(t, 95_000, got.P95, 100)
	assert.Equal(t, 99_999.0, got.Max)
	assert.LessOrEqual(t, len(s.values), sampleKept)
}

func TestTheLoadOfProcessesIsMeasuredAndLimited(t *testing.T) {
	names := trace.NewNames()
	c := New(names, []string{"server", "fern"}, true, rulebook.Rules{})
	say := func(view int, at time.Duration, data string) {
		c.Record(view, &trace.Record{T: at, Checkpoint: trace.LoadMark, Data: data})
	}
	say(0, time.Second, `{"cpu":0.5,"resident":80000000,"threads":9,"files":20}`)
	say(0, 2*time.Second, `{"cpu":1.5,"resident":90000000,"threads":11,"files":22}`)
	say(1, 2*time.Second, `{"cpu":0.1,"resident":30000000,"threads":4,"files":9}`)
	say(1, 3*time.Second, `no JSON`)
	m := c.Finish(nil)
	assert.Equal(t, &Load{Spread{2, 1.5, 1.5, 1.5}, Spread{2, 90, 90, 90}, Spread{2, 11, 11, 11}, Spread{2, 22, 22, 22}}, m.Server.Load)
	assert.Equal(t, 0.1, m.Views[0].Load.CPU.Max)
	broken := m.Exceeded([]rulebook.Limit{{Measure: "server-cpu-cores", Max: 1}, {Measure: "server-resident-mb", Max: 100}, {Measure: "cpu-cores", Max: 1}, {Measure: "resident-mb", Max: 20}})
	require.Len(t, broken, 2)
	assert.Equal(t, Excess{"server", "server-cpu-cores", "server-cpu-cores is 1.5, the limit is 1"}, broken[0])
	assert.Equal(t, "fern", broken[1].View)
}

func TestTimeIsTrustedAsFarAsItWasKept(t *testing.T) {
	var none *Timing
	assert.Empty(t, none.Distrust())
	assert.Empty(t, (&Timing{Machine: Lateness{Max: 100}, Relay: Lateness{P99: 4}}).Distrust())
	assert.Contains(t, (&Timing{Machine: Lateness{Max: 400}, Stalls: 3, Stalled: 0.7}).Distrust(), "stood still for up to 400 ms (3 times longer than 30 ms, 0.70 s in all)")
	assert.Contains(t, (&Timing{Relay: Lateness{P99: 12}}).Distrust(), "sent on 12.0 ms or more too late")
}

func TestMeasuresByViewAndTheirWorst(t *testing.T) {
	m := Measures{Server: View{Name: "server", Load: &Load{CPU: Spread{P95: 0.5}}}, Views: []View{
		{Name: "fern", InFor: 10, CorrectionsPerMinute: 3, Age: &Spread{P95: 120, Max: 300}, Others: &Motion{Unevenness: 1.5}},
		{Name: "moss", InFor: 10, CorrectionsPerMinute: 5, Age: &Spread{P95: 90, Max: 400}},
		{Name: "oak"},
	}}
	by := m.ByView()
	assert.Equal(t, map[string]float64{"age-p95-ms": 120, "age-max-ms": 300, "corrections-per-minute": 3, "unevenness": 1.5, "standing": 0, "leaps-per-minute": 0, "leap-p95": 0}, by["fern"])
	assert.Equal(t, map[string]float64{"server-cpu-cores": 0.5, "server-resident-mb": 0}, by["server"])
	assert.NotContains(t, by, "oak", "what was not measured is absent")
	worst := m.Worst()
	assert.Equal(t, 120.0, worst["age-p95-ms"])
	assert.Equal(t, 400.0, worst["age-max-ms"])
	assert.Equal(t, 5.0, worst["corrections-per-minute"])
	assert.NotContains(t, worst, "response-own-ms")
}
