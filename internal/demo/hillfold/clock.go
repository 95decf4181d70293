package hillfold

import (
	"math"
	"time"

	"zitherwheel/internal/trace"
)

// clock is a client's estimate of the server's clock, by the usual two-way
// exchange: the client sends its own time, the server answers with that and
// its own, and half the round trip is taken for the way back. The mean of the
// last exchanges is used: jitter makes single ones err by up to half its size.
type clock struct {
	asked   int
	next    time.Duration
	offsets []float64 // seconds, the last few
	angle   float64   // of the arm, for a client that turns it by itself
	turning bool
}

const (
	askQuickly  = 8 // times, at first
	quickEvery  = 100 * time.Millisecond
	slowlyEvery = time.Second
	offsetsKept = 32
	enough      = 4 // exchanges before the clock is used
)

// ask reports whether an exchange is due, and with what stamp.
func (k *clock) ask(now time.Duration) (stamp uint64, due bool) {
	if now < k.next {
		return 0, false
	}
	k.next = now + slowlyEvery
	if k.asked++; k.asked <= askQuickly || len(k.offsets) < enough {
		k.next = now + quickEvery
	}
	return uint64(now.Microseconds()), true
}

// heard takes in an answer.
func (k *clock) heard(c *Client, now time.Duration, r *reader) {
	sent := time.Duration(r.u64()) * time.Microsecond
	server := time.Duration(r.u64()) * time.Microsecond
	if r.bad || len(r.b) > 0 || sent > now || now-sent > time.Minute || server > 1000*time.Hour {
		c.Malformed++
		return
	}
	trip := now - sent
	offset := (server + trip/2 - now).Seconds()
	switch {
	case c.config.Faults.Has(HalfATrip):
		offset = (server - now).Seconds()
	case c.config.Faults.Has(OwnStartClock):
		offset = -c.started.Seconds()
	}
	if k.offsets = append(k.offsets, offset); len(k.offsets) > offsetsKept {
		k.offsets = append(k.offsets[:0], k.offsets[1:]...)
	}
	if estimate, ok := k.server(now); ok {
		c.tell.happened(now, func(t *trace.Record) { t.HasPing, t.Ping, t.ServerTime = true, trip, estimate-trip/2 })
	}
}

// server is what the server's clock shows now, as far as the client knows.
func (k *clock) server(now time.Duration) (time.Duration, bool) {
	if len(k.offsets) < enough {
		return 0, false
	}
	sum := 0.0
	for _, o := range k.offsets {
		sum += o
	}
	return now + time.Duration(sum/float64(len(k.offsets))*float64(time.Second)), true
}

// run lets a frame pass.
func (k *clock) run(c *Client) {
	if c.config.Faults.Has(FramePaced) && k.turning {
		k.angle = math.Mod(k.angle+millTurn/60, 360)
	}
}

// arm is the angle at which this client shows the arm of the mill.
func (k *clock) arm(c *Client, now time.Duration) (float64, bool) {
	clock, ok := k.server(now)
	if !ok || clock < 0 {
		return 0, false
	}
	if !c.config.Faults.Has(FramePaced) {
		return armAt(clock), true
	}
	if !k.turning {
		k.angle, k.turning = armAt(clock), true
	}
	return k.angle, true
}
