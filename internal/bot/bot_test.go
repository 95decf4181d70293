package bot

import (
	"bytes"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/game"
	"zitherwheel/internal/random"
)

// walker is a world with one bot in it, which moves as it is told.
type walker struct {
	inside        bool
	x, y, heading float64
	sheep         [2]float64
	log           []string
}

func (w *walker) Inside() bool                          { return w.inside }
func (w *walker) Own() (x, y, heading float64, ok bool) { return w.x, w.y, w.heading, w.inside }
func (w *walker) Nearest(kind string) (x, y float64, ok bool) {
	return w.sheep[0], w.sheep[1], kind == "sheep"
}

const frame = 20 * time.Millisecond

// play lets a bot act for a while and applies what it does.
func (w *walker) play(steps []Step, length time.Duration) {
	b := New(steps, game.Area{Width: 100, Height: 60}, "bark", random.Stream(1, "bot/fern"))
	for now := time.Duration(0); now < length; now += frame {
		a := b.Act(now, w)
		if a.Join && !w.inside {
			w.inside = true
			w.log = append(w.log, now.String()+" joined")
		}
		if a.Leave && w.inside {
			w.inside = false
			w.log = append(w.log, now.String()+" left")
		}
		if a.Press != "" {
			w.log = append(w.log, now.String()+" "+a.Press)
		}
		w.heading += a.Turn * 200 * frame.Seconds()
		sin, cos := math.Sincos(w.heading * math.Pi / 180)
		w.x += cos * 4 * a.Move * frame.Seconds()
		w.y += sin * 4 * a.Move * frame.Seconds()
	}
}

func TestStepsFollowEachOther(t *testing.T) {
	w := &walker{}
	w.play([]Step{
		{Do: Join, At: time.Second},
		{Do: Idle, For: 500 * time.Millisecond},
		{Do: Press, Input: "bark"},
		{Do: Roam},
		{Do: Leave, At: 3 * time.Second},
		{Do: Idle, For: time.Second},
		{Do: Rejoin},
		{Do: Roam, For: time.Second},
		{Do: Rejoin},
	}, 8*time.Second)
	var steps []string
	for _, line := range w.log {
		if line != "" && line[len(line)-4:] != "bark" {
			steps = append(steps, line)
		}
	}
	assert.Equal(t, "1.52s bark", w.log[1])
	assert.Equal(t, []string{"1s joined", "3s left", "4.02s joined", "5.04s left", "5.54s joined"}, steps)
}

func TestGoEndsWhereItWasSent(t *testing.T) {
	w := &walker{}
	w.play([]Step{{Do: Join}, {Do: Go, To: [2]float64{-10, 15}}, {Do: Press, Input: "bark"}}, 20*time.Second)
	assert.Less(t, math.Hypot(w.x+10, w.y-15), 2.0)
	assert.Len(t, w.log, 2, "%v", w.log)
}

func TestChaseFollowsTheNearest(t *testing.T) {
	w := &walker{sheep: [2]float64{20, -8}}
	w.play([]Step{{Do: Join}, {Do: Chase, Kind: "sheep", For: 15 * time.Second}}, 16*time.Second)
	assert.Less(t, math.Hypot(w.x-20, w.y+8), 3.0)
}

func TestHoldPressesWhatItNames(t *testing.T) {
	assert.Equal(t, Action{Turn: -1, Move: 1, Run: true, Held: []string{"forward", "right", "run"}}, hold(&Step{Inputs: []string{"forward", "right", "run"}}))
}

func TestRoamingStaysInTheArea(t *testing.T) {
	w := &walker{}
	w.play([]Step{{Do: Join}, {Do: Roam}}, 2*time.Minute)
	assert.Less(t, math.Abs(w.x), 55.0)
	assert.Less(t, math.Abs(w.y), 35.0)
	assert.Greater(t, len(w.log), 5, "it barks now and then")
}

func TestCheatsAreStepsLikeOthers(t *testing.T) {
	w := &walker{}
	b := New([]Step{
		{Do: Cheat, Sets: []string{"place"}, To: [2]float64{3, 4}},
		{Do: Cheat, Sets: []string{"speed"}, For: 200 * time.Millisecond},
		{Do: Idle},
	}, game.Area{Width: 100, Height: 60}, "bark", random.Stream(1, "bot/fern"))
	assert.Nil(t, b.Act(0, w).Cheat, "not before it is in")
	w.inside = true
	first := b.Act(frame, w)
	assert.Equal(t, [2]float64{3, 4}, first.Cheat.To)
	fast := 0
	for now := 2 * frame; now < time.Second; now += frame {
		if b.Act(now, w).Hurry > 0 {
			fast++
		}
	}
	assert.InDelta(t, 10, fast, 1, "impossible inputs for 200 ms")
}

// What was recorded of a bot is done again by a recording, also when it is asked at other
// moments; and it is the same when it was written to a file in between.
func TestARecordingDoesTheSameAgain(t *testing.T) {
	ms := time.Millisecond
	cheat := &Step{Do: Cheat, Sets: []string{"place"}, To: [2]float64{3, 4}}
	done := []Moment{
		{0, Action{Join: true}},
		{200 * ms, Action{Move: 1, Turn: -0.35, Run: true}},
		{250 * ms, Action{Move: 1, Press: "bark"}},
		{260 * ms, Action{Move: 1, Press: "bark"}},
		{400 * ms, Action{Cheat: cheat}},
		{900 * ms, Action{Leave: true, Held: []string{"forward"}}},
	}
	var file bytes.Buffer
	for _, m := range done {
		line, err := EncodeMoment("fern", m)
		require.NoError(t, err)
		file.Write(line)
	}
	file.WriteString(`{"bot":"fern","t":1.5,"mo`) // torn
	read, err := ReadMoments(&file)
	require.NoError(t, err)
	require.Equal(t, done, read["fern"])

	r := Replay(read["fern"])
	var recorder Recorder
	for now := time.Duration(0); now <= time.Second; now += 33 * ms {
		recorder.Saw(now, r.Act(now, nil))
	}
	var presses, joins, leaves, cheats int
	for _, m := range recorder.Moments {
		if m.Press != "" {
			presses++
		}
		if m.Join {
			joins++
		}
		if m.Leave {
			leaves++
		}
		if m.Cheat != nil {
			cheats++
		}
	}
	assert.Equal(t, []int{2, 1, 1, 1}, []int{presses, joins, leaves, cheats}, "nothing that is done once is left out or done twice")
	assert.Equal(t, Action{Held: []string{"forward"}}, r.Act(2*time.Second, nil), "what goes on goes on")
}

func TestARecorderTellsOnlyNews(t *testing.T) {
	var r Recorder
	assert.False(t, r.Saw(0, Action{}), "nothing is done from the start")
	assert.True(t, r.Saw(1, Action{Move: 1}))
	assert.False(t, r.Saw(2, Action{Move: 1}))
	assert.True(t, r.Saw(3, Action{Move: 1, Press: "bark"}))
	assert.False(t, r.Saw(4, Action{Move: 1}), "the press is over, the rest goes on")
	assert.True(t, r.Saw(5, Action{}))
	assert.Len(t, r.Moments, 3)
}
