package link

import (
	"slices"
	"time"
)

// Pair is the way of one client to the server and back, by a name.
type Pair struct {
	Name     string
	Up, Down Course
	Moves    []time.Duration // when the client appears under a new address
	Resets   []time.Duration // when its streams are broken off
}

const ms = time.Millisecond

// Ready are links for situations, there for every plan by name.
var Ready = []Pair{
	both("same-room", Conditions{Latency: 2 * ms, Jitter: 1 * ms}),
	both("village", Conditions{Latency: 25 * ms, Jitter: 6 * ms, Loss: 0.005}),
	both("hill-farm", Conditions{Latency: 80 * ms, Jitter: 25 * ms, Loss: 0.04, Burst: 3}),
	both("train-window", Conditions{Latency: 120 * ms, Jitter: 40 * ms, Loss: 0.08, Burst: 6, Duplicate: 0.01, Reorder: true}),
	both("far-shore", Conditions{Latency: 200 * ms, Jitter: 30 * ms, Loss: 0.15, Burst: 4}),
	both("lost-valley", Conditions{Latency: 400 * ms, Jitter: 50 * ms, Loss: 0.15, Burst: 5}),
}

func both(name string, q Conditions) Pair {
	course := Course{Conditions: q}
	return Pair{Name: name, Up: course, Down: course}
}

// FindReady returns the ready link of a name.
func FindReady(name string) (Pair, bool) {
	i := slices.IndexFunc(Ready, func(p Pair) bool { return p.Name == name })
	if i < 0 {
		return Pair{}, false
	}
	return Ready[i], true
}
