package bot

import (
	"bufio"
	"encoding/json"
	"io"
	"slices"
	"time"

	"zitherwheel/internal/game"
)

// Player is who plays: a [Bot], or a [Recording] of one.
type Player interface {
	// Act says what is done at now. It must be asked in time order.
	Act(now time.Duration, senses game.Senses) Action
}

// Moment is what was done from a time on, until the next moment; what is done once
// was done then.
type Moment struct {
	At time.Duration
	Action
}

// Once reports whether something is done once.
func (a Action) Once() bool { return a.Join || a.Leave || a.Press != "" || a.Cheat != nil }

// lasting is what goes on of an action.
func (a Action) lasting() Action {
	a.Join, a.Leave, a.Press, a.Cheat = false, false, "", nil
	return a
}

func (a Action) same(b Action) bool {
	return a.Turn == b.Turn && a.Move == b.Move && a.Run == b.Run && a.Hurry == b.Hurry && slices.Equal(a.Held, b.Held)
}

// Recorder makes moments of what is done.
type Recorder struct {
	Moments []Moment
	latest  Action
}

// Saw takes in what is done at a time, and reports whether it is news.
func (r *Recorder) Saw(now time.Duration, a Action) bool {
	if !a.Once() && a.same(r.latest) {
		return false
	}
	r.latest = a.lasting()
	r.Moments = append(r.Moments, Moment{now, a})
	return true
}

// Recording plays what was recorded, whatever its senses say.
type Recording struct {
	moments []Moment // still to come
	latest  Action
}

// Replay returns a recording of those moments.
func Replay(moments []Moment) *Recording { return &Recording{moments: moments} }

// Act implements [Player]. Of several moments that have come since it was asked
// before, nothing that was done once is left out, but only one press can be.
func (r *Recording) Act(now time.Duration, _ game.Senses) Action {
	done := Action{}
	for len(r.moments) > 0 && r.moments[0].At <= now {
		m := r.moments[0]
		if m.Press != "" && done.Press != "" {
			break // it waits for the next frame
		}
		r.moments = r.moments[1:]
		r.latest = m.lasting()
		done.Join, done.Leave = done.Join || m.Join, done.Leave || m.Leave
		if m.Press != "" {
			done.Press = m.Press
		}
		if m.Cheat != nil {
			done.Cheat = m.Cheat
		}
	}
	a := r.latest
	a.Join, a.Leave, a.Press, a.Cheat = done.Join, done.Leave, done.Press, done.Cheat
	return a
}

// momentLine is a moment as a line of inputs.jsonl.
type momentLine struct {
	Bot   string     `json:"bot"`
	T     float64    `json:"t"` // seconds
	Join  bool       `json:"join,omitempty"`
	Leave bool       `json:"leave,omitempty"`
	Move  float64    `json:"move,omitempty"`
	Turn  float64    `json:"turn,omitempty"`
	Run   bool       `json:"run,omitempty"`
	Hurry float64    `json:"hurry,omitempty"`
	Held  []string   `json:"hold,omitempty"`
	Press string     `json:"press,omitempty"`
	Sets  []string   `json:"sets,omitempty"`
	To    [2]float64 `json:"to,omitzero"`
}

// EncodeMoment writes a moment as a line:
//
//	{"bot":"fern","t":2.417,"move":1,"turn":-0.35,"run":true}
func EncodeMoment(name string, m Moment) ([]byte, error) {
	line := momentLine{Bot: name, T: m.At.Round(time.Microsecond).Seconds(), Join: m.Join, Leave: m.Leave, Move: m.Move, Turn: m.Turn, Run: m.Run, Hurry: m.Hurry, Held: m.Held, Press: m.Press}
	if m.Cheat != nil {
		line.Sets, line.To = m.Cheat.Sets, m.Cheat.To
	}
	text, err := json.Marshal(line)
	return append(text, '\n'), err
}

// ReadMoments reads lines as EncodeMoment writes them, by bot. A line that is torn or is
// none is left out.
func ReadMoments(r io.Reader) (map[string][]Moment, error) {
	all := map[string][]Moment{}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var line momentLine
		if json.Unmarshal(lines.Bytes(), &line) != nil {
			continue
		}
		m := Moment{At: time.Duration(line.T*1e6+0.5) * time.Microsecond,
			Action: Action{Join: line.Join, Leave: line.Leave, Move: line.Move, Turn: line.Turn, Run: line.Run, Hurry: line.Hurry, Held: line.Held, Press: line.Press}}
		if line.Sets != nil {
			m.Cheat = &Step{Do: Cheat, Sets: line.Sets, To: line.To}
		}
		all[line.Bot] = append(all[line.Bot], m)
	}
	return all, lines.Err()
}
