package link

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"zitherwheel/internal/random"
)

func TestAPacketIsToldByTimeSizeAndOrder(t *testing.T) {
	const ms = time.Millisecond
	recorded := []Recorded{{100 * ms, 40}, {100 * ms, 300}, {150 * ms, 40}, {150 * ms, 310}, {200 * ms, 40}, {900 * ms, 40}}
	for _, c := range []struct {
		what string
		sent []Recorded
		want []int // -1: none is like it
	}{
		{"the same again", recorded, []int{0, 1, 2, 3, 4, 5}},
		{"all of it 30 ms later", []Recorded{{130 * ms, 40}, {130 * ms, 300}, {180 * ms, 40}, {180 * ms, 310}, {230 * ms, 40}, {930 * ms, 40}}, []int{0, 1, 2, 3, 4, 5}},
		{"one packet less", []Recorded{{100 * ms, 40}, {150 * ms, 40}, {150 * ms, 310}, {200 * ms, 40}, {900 * ms, 40}}, []int{0, 2, 3, 4, 5}},
		{"one more, between two times", []Recorded{{100 * ms, 40}, {100 * ms, 300}, {150 * ms, 40}, {150 * ms, 310}, {200 * ms, 40}, {500 * ms, 80}, {900 * ms, 40}}, []int{0, 1, 2, 3, 4, -1, 5}},
		{"other sizes at the same times", []Recorded{{100 * ms, 41}, {100 * ms, 301}, {150 * ms, 41}}, []int{0, 1, 2}},
		{"long after the recording", []Recorded{{3 * time.Second, 40}}, []int{-1}},
	} {
		t.Run(c.what, func(t *testing.T) {
			like := NewLikeness(recorded, true)
			var got []int
			for _, p := range c.sent {
				i, ok := like.Of(p.Sent, p.Size)
				if !ok {
					i = -1
				}
				got = append(got, i)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// Programs send at even times, each a little off, and now and then one packet less or more. By number
// all behind that would be taken for another; by likeness nearly all are themselves.
func TestAFewPacketsMoreOrLessDoNotShiftTheOthers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const every = 33 * time.Millisecond
		var recorded, played []Recorded
		var of []int
		drift := time.Duration(rapid.IntRange(-200, 200).Draw(t, "later")) * time.Millisecond
		for i := range 300 {
			at := time.Duration(i+5) * every
			p := Recorded{at, rapid.IntRange(100, 110).Draw(t, "size")}
			recorded = append(recorded, p)
			if i > 0 && rapid.IntRange(0, 40).Draw(t, "left out") == 40 {
				continue
			}
			if i > 0 && rapid.IntRange(0, 40).Draw(t, "one more") == 40 {
				played, of = append(played, Recorded{at + drift - 16*time.Millisecond, 20}), append(of, -1)
			}
			off := time.Duration(rapid.IntRange(-4, 4).Draw(t, "off")) * time.Millisecond
			played, of = append(played, Recorded{at + drift + off, p.Size}), append(of, i)
		}
		like, right, by := NewLikeness(recorded, true), 0, 0
		for n, p := range played {
			if i, ok := like.Of(p.Sent, p.Size); ok && i == of[n] {
				right++
			}
			if n == of[n] {
				by++
			}
		}
		if 100*right < 85*len(played) {
			t.Fatalf("%d of %d are taken for themselves, by number %d", right, len(played), by)
		}
	})
}

func TestOutcomesAreGivenToThePacketsThatAreLikeThose(t *testing.T) {
	const ms = time.Millisecond
	given := []Given{{Number: 4, Dropped: Lost, Like: Recorded{400 * ms, 90}}, {Number: 7, Copies: 1, Delay: [2]time.Duration{80 * ms}, Like: Recorded{700 * ms, 90}}}
	line := NewLine(Course{Conditions: Conditions{Latency: 10 * ms}, Given: given}, random.Stream(1, "a"))
	var lost, late []time.Duration
	for at := 50 * ms; at < time.Second; at += 50 * ms { // twice as many as were recorded
		o := line.Send(at+7*ms, 90)
		switch {
		case o.Copies == 0:
			lost = append(lost, at)
		case o.Delay() > 50*ms:
			late = append(late, at)
		}
	}
	assert.Equal(t, []time.Duration{400 * ms}, lost[slices.Index(lost, 400*ms):])
	assert.Equal(t, []time.Duration{700 * ms}, late[slices.Index(late, 700*ms):])
}
