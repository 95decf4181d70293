package report

import (
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/match"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/verdict/judge"
)

func board(bots int) *Board {
	b := &Board{Title: "three dogs: seed 1", Began: time.Unix(0, 0), Progress: match.Progress{At: 30 * time.Second, Length: time.Minute, Findings: 12}}
	for range bots {
		b.Progress.Bots = append(b.Progress.Bots, match.BotProgress{Name: "fern", In: true,
			Up: match.LinkProgress{Packets: 100, Lost: 4, Delay: 80 * time.Millisecond}, Down: match.LinkProgress{Packets: 50, Delay: 81 * time.Millisecond},
			Now: feed.Standing{Standing: judge.Standing{Age: 210 * time.Millisecond, Apart: 2, Gap: 1.5}, Corrections: 3}})
	}
	for i := range 12 {
		b.Alerts = append(b.Alerts, judge.Alert{At: time.Duration(i) * time.Second, Kind: judge.Frozen, View: "fern", Entity: "dog/oak", Subject: judge.ParseSubject("x, y")})
	}
	return b
}

func TestTheBoardSaysHowFarAMatchIs(t *testing.T) {
	text := &lines{}
	board(1).Write(text, time.Unix(15, 0))
	assert.Contains(t, text.String(), "█████████████████████████░░░░░░░░░░░░░░░░░░░░░░░░░  30.0 of 60 s, 2 times real time, 12 findings so far")
	assert.Regexp(t, `fern +in +161 ms +100 +4.0% +50 +0.0% +210 ms +2 +1.5 +3 +12`, text.String())
	assert.Contains(t, text.String(), "  ... 4 more")
	assert.Contains(t, text.String(), "11.000 s  frozen  fern  dog/oak x, y, since 0.000 s")
	empty := &lines{}
	(&Board{Title: "x"}).Write(empty, time.Unix(1, 0))
	assert.Contains(t, empty.String(), "0.0 of 0 s")
}

// lines collects text.
type lines struct{ text []byte }

func (l *lines) Write(p []byte) (int, error) { l.text = append(l.text, p...); return len(p), nil }
func (l *lines) String() string              { return string(l.text) }

// The board is drawn ten times a second: at most 2 ms of each tenth is 2% of a core.
func BenchmarkBoard(b *testing.B) {
	board := board(64)
	for b.Loop() {
		board.Write(io.Discard, time.Unix(15, 0))
	}
}
