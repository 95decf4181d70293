package link

import (
	"math"
	"math/rand/v2"
	"time"
)

// Line is one direction of a link: a Quality and the state that runs along it
// from packet to packet. It is not safe for concurrent use.
//
// Losses follow the two-state model of Gilbert (Bell System Technical Journal,
// 1960): the line is either passing or losing, and loses every packet while
// losing. With a loss rate r and a mean burst of b packets it leaves the losing
// state with probability 1/b and enters it with probability r/(b(1-r)), which
// makes r the long-run share of lost packets. Bursts that are given in time follow
// the same model in continuous time. Without bursts every packet is lost with
// probability r on its own.
//
// Jitter that is sticky follows a first-order autoregression with that
// coefficient, drawn as a standard normal and brought to its distribution by
// the quantiles.
//
// A rate puts packets behind each other: each takes its size divided by the rate
// to leave, and what would have to wait behind more bytes than the queue holds is
// dropped. Latency therefore grows before loss begins.
//
// Every packet draws the same number of times whatever becomes of it, except
// for the redraws that truncate the jitter; so the outcomes of a line depend on
// its stream and the order of packets. Only corruption and straggling draw more
// while they are switched on. A packet whose outcome is [Given] draws too, so the
// others fare as they would have.
type Line struct {
	quality Conditions
	changes []Change // still to come
	outages []Window
	given   []Given // likewise
	like    *Likeness
	cut     bool
	random  *rand.Rand
	count   uint64
	losing  bool
	begun   time.Duration // when the last packet came
	normal  float64       // where sticky jitter is, in standard deviations
	latest  time.Duration // arrival of the latest packet so far
	free    time.Duration // when the last packet has left a line with a rate
}

// NewLine returns a line of that course which draws from random.
func NewLine(course Course, random *rand.Rand) *Line {
	l := &Line{changes: course.Changes, outages: course.Outages, given: course.Given, random: random}
	l.quality = course.Conditions
	l.losing = l.quality.Burst > 0 && random.Float64() < l.quality.Loss
	if len(course.Given) > 0 && course.Given[0].Like.Size > 0 {
		recorded := make([]Recorded, len(course.Given))
		for i, g := range course.Given {
			recorded[i] = g.Like
		}
		l.like = NewLikeness(recorded, course.Given[0].Number == 1)
	}
	return l
}

// Quality is how good the line is now.
func (l *Line) Quality() Conditions { return l.quality }

// Set changes the quality from the next packet on.
func (l *Line) Set(q Conditions) {
	if !q.inBursts() || !l.quality.inBursts() {
		l.losing = false
	}
	l.quality = q
}

// Cut begins or ends an outage by hand.
func (l *Line) Cut(off bool) { l.cut = off }

// Send puts a packet of that many bytes on the line and returns its outcome. The
// times of successive calls must not decrease.
func (l *Line) Send(now time.Duration, size int) Outcome {
	outcome := l.draw(now, size)
	if g := l.givenTo(outcome); g != nil {
		outcome = g.outcome(outcome)
	}
	return outcome
}

// draw draws the outcome of a packet.
func (l *Line) draw(now time.Duration, size int) Outcome {
	l.follow(now)
	outcome, first, second, twice := l.begin(now, size)
	if outcome.Dropped != Delivered {
		return outcome
	}
	q := &l.quality
	leaves, fits := l.queue(now, size)
	if !fits {
		outcome.Dropped, outcome.Copies = QueueFull, 0
		return outcome
	}
	straggles := false
	if q.Corrupt > 0 {
		if hit, bit := l.random.Float64() < q.Corrupt, l.random.Float64(); hit && size > 0 {
			outcome.Flipped = 1 + int(bit*float64(8*size))
		}
	}
	if q.Straggle > 0 {
		straggles = l.random.Float64() < q.Straggle
	}
	if straggles {
		outcome.Arrives[0] = leaves + first + q.StraggleBy // overtaken: it does not hold up the others
	} else {
		outcome.Arrives[0] = l.arrival(leaves + first)
	}
	if twice {
		outcome.Copies = 2
		outcome.Arrives[1] = max(outcome.Arrives[0], l.arrival(leaves+max(first, second)))
	}
	return outcome
}

// SendStream puts the next piece of a stream on the line: TCP, where loss drops
// no bytes but holds the stream up. rtt is the round trip of the path.
//
// A piece that is lost is sent again after the retransmission timeout of RFC
// 6298 with the floor of 200 ms that systems use today: rtt + max(200 ms,
// 4·Jitter), twice as long each further time. By then a burst of losses is over, so
// what is sent again meets a line that is passing.
// Everything behind it waits, so order is kept. In an outage the piece is sent
// again after the line is back. That a busy stream learns of a loss sooner, by
// what arrives after it, is not modelled. A queue that is full delays and does
// not drop; duplicates, corruption, reordering and MTU do not reach a stream.
func (l *Line) SendStream(now time.Duration, size int, rtt time.Duration) Outcome {
	const mostResent = 15 // as often as systems try before they give a connection up
	l.follow(now)
	q := &l.quality
	outcome, first, _, _ := l.begin(now, 0)
	outcome.Size = size
	wait := rtt + max(200*time.Millisecond, 4*q.Jitter)
	at := now
	for outcome.Dropped != Delivered && outcome.Resent < mostResent {
		at += wait
		wait *= 2
		outcome.Resent++
		count := l.count
		l.losing = false
		var again Outcome
		again, first, _, _ = l.begin(at, 0)
		l.count = count
		outcome.Dropped = again.Dropped
	}
	outcome.Dropped, outcome.Copies = Delivered, 1
	leaves := at
	if q.Rate > 0 {
		l.free = max(l.free, at) + l.transmission(size)
		leaves = l.free
	}
	arrives := leaves + first
	if g := l.givenTo(outcome); g != nil && g.Copies > 0 {
		arrives, outcome.Resent = now+g.Delay[0], g.Resent
	}
	l.latest = max(l.latest, arrives)
	outcome.Arrives = [2]time.Duration{l.latest}
	return outcome
}

// givenTo is the outcome that a packet is given in place of the one that was drawn, or nil.
func (l *Line) givenTo(drawn Outcome) *Given {
	if l.like != nil {
		if i, ok := l.like.Of(drawn.Sent, drawn.Size); ok {
			return &l.given[i]
		}
		return nil
	}
	for len(l.given) > 0 && l.given[0].Number < drawn.Number {
		l.given = l.given[1:]
	}
	if len(l.given) > 0 && l.given[0].Number == drawn.Number {
		return &l.given[0]
	}
	return nil
}

// follow brings the changes into effect that are due.
func (l *Line) follow(now time.Duration) {
	for len(l.changes) > 0 && now >= l.changes[0].At {
		l.Set(l.changes[0].Conditions)
		l.changes = l.changes[1:]
	}
}

// inBursts reports whether losses hang together.
func (q *Conditions) inBursts() bool { return q.Burst > 0 || q.BurstTime > 0 }

// losingAfter is how likely the line loses a time after it did, or did not, if it goes on losing for
// BurstTime on average and loses for a share Loss of all time: the two-state Markov process in
// continuous time, whose state decays to its mean with the sum of its two rates. What a sender does in
// between changes nothing, so that one who waits longer before each try is not caught in one burst.
func (q *Conditions) losingAfter(since time.Duration, losing bool) float64 {
	if q.Loss == 1 {
		return 1
	}
	state := 0.0
	if losing {
		state = 1
	}
	return q.Loss + (state-q.Loss)*math.Exp(-since.Seconds()/(q.BurstTime.Seconds()*(1-q.Loss)))
}

// begin draws what every packet draws and decides on everything but the queue.
func (l *Line) begin(now time.Duration, size int) (outcome Outcome, first, second time.Duration, twice bool) {
	l.count++
	q := &l.quality
	outcome = Outcome{Number: l.count, Sent: now, Size: size, Copies: 1}
	wasLosing := l.losing
	lossDraw, twiceDraw := l.random.Float64(), l.random.Float64()
	first, second = l.delay(true), l.delay(false)
	since := max(0, now-l.begun)
	if l.count == 1 {
		since = math.MaxInt64 // nobody knows what it did before
	}
	l.begun = now
	switch {
	case q.BurstTime > 0:
		l.losing = lossDraw < q.losingAfter(since, wasLosing)
	case q.Burst == 0:
		l.losing = lossDraw < q.Loss
	case wasLosing:
		l.losing = q.Loss == 1 || lossDraw >= 1/q.Burst
	default:
		l.losing = q.Loss == 1 || lossDraw < q.Loss/(q.Burst*(1-q.Loss))
	}
	switch {
	case q.MTU > 0 && size > q.MTU:
		outcome.Dropped = TooBig
	case l.out(now):
		outcome.Dropped = Outage
	case l.losing && wasLosing && l.count > 1:
		outcome.Dropped = LostInRow
	case l.losing:
		outcome.Dropped = Lost
	}
	if outcome.Dropped != Delivered {
		outcome.Copies = 0
	}
	return outcome, first, second, twiceDraw < q.Duplicate
}

func (l *Line) out(now time.Duration) bool {
	for _, w := range l.outages {
		if now >= w.From && now < w.Until {
			return true
		}
	}
	return l.cut
}

// queue says when a packet has left a line with a rate, or that there is no room
// for it.
func (l *Line) queue(now time.Duration, size int) (leaves time.Duration, fits bool) {
	q := &l.quality
	if q.Rate == 0 {
		return now, true
	}
	room := q.Queue
	if room == 0 {
		room = q.DefaultQueue()
	}
	start := max(now, l.free)
	if waiting := (start - now).Seconds() * q.Rate / 8; int(waiting)+size > room {
		return 0, false
	}
	l.free = start + l.transmission(size)
	return l.free, true
}

func (l *Line) transmission(size int) time.Duration {
	return time.Duration(float64(size) * 8 / l.quality.Rate * float64(time.Second)).Round(time.Microsecond)
}

// delay draws a one-way delay, drawn again until it is not negative, in whole
// microseconds as records have them. Sticky jitter moves on if told to.
func (l *Line) delay(moves bool) time.Duration {
	q := &l.quality
	if q.Jitter == 0 {
		return q.Latency.Round(time.Microsecond)
	}
	before := l.normal
	for range 64 {
		z := l.random.NormFloat64()
		if q.Sticky > 0 {
			z = q.Sticky*before + math.Sqrt(1-q.Sticky*q.Sticky)*z
		}
		if moves {
			l.normal = z
		}
		if d := q.Latency + q.Spread.deviation(z, q.Jitter); d >= 0 {
			return d.Round(time.Microsecond)
		}
	}
	return 0 // out of reach: each of 64 draws is negative with probability 1/2 at the most
}

// deviation is the quantile of the distribution at which a standard normal
// variable has z.
func (s Spread) deviation(z float64, jitter time.Duration) time.Duration {
	j := float64(jitter)
	switch s {
	case Uniform:
		return time.Duration(math.Sqrt(3) * j * math.Erf(z/math.Sqrt2))
	case HeavyTail:
		// Lomax of shape 3 and scale c has the standard deviation c·√3/2.
		above := max(1e-12, 0.5*math.Erfc(z/math.Sqrt2))
		return time.Duration(2 / math.Sqrt(3) * j * (math.Pow(above, -1.0/3) - 1))
	}
	return time.Duration(z * j)
}

// arrival keeps packets in order where the line does not reorder.
func (l *Line) arrival(at time.Duration) time.Duration {
	if !l.quality.Reorder {
		at = max(at, l.latest)
	}
	l.latest = max(l.latest, at)
	return at
}
