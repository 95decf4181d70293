package judge

import (
	"math"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// Evidence is what was going on around the beginning of a finding. Just before
// does not mean because: only a run without the suspect can prove a cause.
type Evidence struct {
	Values     []ValueRow   `json:"values"`            // both sides around the start
	Packets    []PacketRow  `json:"packets,omitempty"` // lost or late on this view's link just before
	Lost       int          `json:"packets_lost"`      // how many there were of each, also of those not listed
	Late       int          `json:"packets_late"`
	NotTakenIn int          `json:"packets_not_taken_in,omitempty"` // and that arrived, but the program did not say that it took them in
	Around     []MemberRow  `json:"joins_and_leaves,omitempty"`
	Inputs     []MemberRow  `json:"inputs,omitempty"`               // of a crash, the last before it
	Lines      []LogLine    `json:"log_lines,omitempty"`            // of a rule about logs
	Beside     []LogLine    `json:"log_lines_around,omitempty"`     // of all programs, around the moment
	Log        []string     `json:"log,omitempty"`                  // of a crash, the last lines of the program
	Since      Seconds      `json:"packets_since_s"`                // from when on packets were looked at
	Silent     *Seconds     `json:"nothing_sent_since_s,omitempty"` // when the reference had sent the view something last, if it had fallen silent towards it
	members    []membership // found, before they are told
}

// ValueRow is one moment: what the view showed and what the reference said then.
type ValueRow struct {
	At        Seconds  `json:"t_s"`
	Tick      int64    `json:"tick,omitempty"` // where ticks are compared
	View      string   `json:"view"`
	Reference string   `json:"reference"`
	Agrees    bool     `json:"agrees,omitempty"` // at that tick
	Age       *Seconds `json:"age_s,omitempty"`  // how old the reference's value was that explained the view's
	Gap       *float64 `json:"gap,omitempty"`    // or how far it was from any that could
}

// PacketRow is a packet with an outcome worth telling.
type PacketRow struct {
	Link      string  `json:"link,omitempty"` // whose, where it is not the view's
	Direction string  `json:"direction"`
	Number    uint64  `json:"number"`
	Sent      Seconds `json:"sent_s"`
	Size      int     `json:"bytes"`
	Outcome   string  `json:"outcome"` // "lost", "lost-in-row", "late" or "not-taken-in"; of a crash also "arrived" and "on its way"
	Delay     Seconds `json:"delay_s,omitempty"`
	Usual     Seconds `json:"usual_delay_s,omitempty"`
	Carried   string  `json:"carried,omitempty"` // as whoever sent it says
}

// NotTakenIn is the outcome of a packet that arrived and was not taken in by the program.
const NotTakenIn = "not-taken-in"

// LogLine is a line of a log.
type LogLine struct {
	At      Seconds `json:"t_s"`
	Program string  `json:"program,omitempty"` // where it is not the view's
	Text    string  `json:"text"`
}

// MemberRow is somebody who came or went.
type MemberRow struct {
	At   Seconds `json:"t_s"`
	Said string  `json:"said_by"`
	What string  `json:"what"`
}

// trouble is a packet that was lost or late.
type trouble struct {
	link.Packet
	usual time.Duration // what the delay usually was then, if it was late
}

// delays follows the usual delay of a direction.
type delays struct{ mean, spread float64 }

const (
	troubleKept = 20 * time.Second
	lateAtLeast = 50 * time.Millisecond
)

// packet takes in an outcome.
func (v *view) packet(p link.Packet) {
	h := &v.down
	if p.Direction == link.Up {
		h = &v.up
	}
	copy(v.lately.packets[:], v.lately.packets[1:])
	v.lately.packets[keptPackets-1] = p
	if n := len(v.troubles); n > 64 && p.Sent-v.troubles[n/2].Sent > troubleKept {
		v.troubles = append(v.troubles[:0], v.troubles[n/2:]...)
	}
	if p.Direction == link.Up {
		if p.Spoiled() {
			v.lostLast = p.Sent
		} else {
			v.upTakes = p.Delay()
		}
	}
	news := v.judge.config.Rules.News
	if p.Direction == link.Down && p.Size >= news.Down {
		v.sends.send(p.Sent)
		v.silence.send(p.Sent)
	}
	if p.Copies == 0 {
		v.troubles = append(v.troubles, trouble{p, 0})
		return
	}
	if p.Flipped > 0 { // what is spoiled tells nothing for certain
		v.troubles = append(v.troubles, trouble{p, 0})
		return
	}
	if p.Direction == link.Down && p.Size >= news.Down || p.Direction == link.Up && p.Size >= news.Up {
		h.arrives(p.Sent, p.Arrives[0])
	}
	usual := &v.delay[p.Direction]
	delay := float64(p.Delay())
	if usual.mean == 0 {
		usual.mean = delay
	}
	if excess := delay - usual.mean; excess > max(float64(lateAtLeast), 4*usual.spread) {
		v.troubles = append(v.troubles, trouble{p, time.Duration(usual.mean).Round(time.Microsecond)})
	}
	usual.spread += (math.Abs(delay-usual.mean) - usual.spread) / 32
	usual.mean += (delay - usual.mean) / 32
}

// expiry is when a match leaves the window: when something has been heard that
// was sent more than lag after it, and lag after something was heard that was sent
// after it. It is never before from.
func (v *view) expiry(match, lag, from time.Duration) time.Duration {
	if match == -never {
		return from
	}
	return max(from, v.down.firstSince(match+lag), v.down.firstSince(match)+lag)
}

const (
	packetRows = 6
	memberRows = 6
	lookBack   = 250 * time.Millisecond // before the two sides parted, for packets
	lookAround = 3 * time.Second        // for joins and leaves
)

// gather collects the evidence of an episode that has just become certain.
func (j *Judge) gather(v *view, k *tracker) Evidence {
	e := k.run
	ev := Evidence{}
	// From when on it can have begun on the wire: when the two sides parted.
	from := e.began
	switch {
	case k.path == k.mirror.known.exists:
		if i := k.path.seek(e.began); i > 0 {
			from = min(from, k.path.corners[i].t)
		}
	case e.lastMatch > -never:
		from = min(from, e.lastMatch)
	case e.before.ok:
		from = min(from, e.before.t)
	}
	from -= lookBack
	ev.Since = Seconds(from)
	ev.packets(v, from, e.began)
	for _, m := range j.members {
		if (m.t-from).Abs() < lookAround && (m.view == 0 || m.view == v.number) {
			ev.members = append(ev.members, m)
		}
	}
	return ev
}

// packets adds those of a view's link that were lost or late.
func (ev *Evidence) packets(v *view, from, to time.Duration) {
	if s := &v.silence; v.down.known && s.count >= silentFrom && to-s.last >= s.patience() {
		last := Seconds(s.last)
		ev.Silent = &last
	}
	for _, p := range v.troubles {
		if p.Sent < from || p.Sent > to {
			continue
		}
		row := PacketRow{Direction: p.Direction.String(), Number: p.Number, Sent: Seconds(p.Sent), Size: p.Size}
		if p.Copies == 0 {
			ev.Lost++
			row.Outcome = p.Dropped.String()
		} else if p.Flipped > 0 {
			ev.Lost++
			row.Outcome = "spoiled"
		} else {
			ev.Late++
			row.Outcome, row.Delay, row.Usual = "late", Seconds(p.Delay()), Seconds(p.usual)
		}
		if len(ev.Packets) < packetRows {
			ev.Packets = append(ev.Packets, row)
		}
	}
}

// circumstances is the evidence of a finding that is not about a field.
func (j *Judge) circumstances(v *view, began, at time.Duration) Evidence {
	from := began - lookBack
	ev := Evidence{Since: Seconds(from), Values: []ValueRow{}}
	ev.packets(v, from, at)
	for _, m := range j.members {
		if (m.t-began).Abs() < lookAround && (m.view == 0 || m.view == v.number) && len(ev.Around) < memberRows {
			ev.Around = append(ev.Around, MemberRow{Seconds(m.t), j.views[m.view].name, m.text})
		}
	}
	return ev
}

const valueRows = 5

// complete adds what is known only when the episode is over.
func (ev *Evidence) complete(j *Judge, k *tracker) {
	e := k.run
	if e.before.ok {
		before := e.before
		before.there = e.beside
		ev.Values = append(ev.Values, j.row(k.rule, before))
	}
	add := func(s sighting) {
		if n := len(ev.Values); n == 0 || Seconds(s.t) > ev.Values[n-1].At {
			ev.Values = append(ev.Values, j.row(k.rule, s))
		}
	}
	for _, s := range e.early {
		if len(ev.Values) < valueRows {
			add(s)
		}
	}
	add(e.seen[len(e.seen)-1])
	for _, m := range ev.members {
		if len(ev.Around) < memberRows {
			ev.Around = append(ev.Around, MemberRow{Seconds(m.t), j.views[m.view].name, m.text})
		}
	}
}

func (j *Judge) row(rule *rulebook.Rule, s sighting) ValueRow {
	row := ValueRow{At: Seconds(s.t), Tick: s.tick, View: j.format(rule, s.view), Reference: j.format(rule, s.there)}
	if s.ok && s.byTick {
		row.Agrees = true
	} else if s.ok {
		age := Seconds(s.age)
		row.Age = &age
	} else if !math.IsInf(s.gap, 0) && !math.IsNaN(s.gap) && rule.Compare != rulebook.Exact {
		gap := math.Round(s.gap*1e3) / 1e3
		row.Gap = &gap
	}
	return row
}

// format writes a compared value the way people read it.
func (j *Judge) format(rule *rulebook.Rule, p point) string {
	if rule.Fields[0] == rulebook.Existence {
		if p[0] == 1 {
			return "present"
		}
		return "absent"
	}
	if rule.Compare == rulebook.Exact {
		switch {
		case p[1] < 0:
			return "NaN"
		case trace.Kind(p[1]) == trace.KindNumber:
			return j.config.Names.Format(trace.Number(p[0]))
		}
		return j.config.Names.Format(trace.Restore(trace.Kind(p[1]), uint64(p[0])))
	}
	parts := make([]string, len(rule.Fields))
	for i := range parts {
		f := p[i]
		if rule.Compare == rulebook.Angle {
			f = math.Mod(math.Mod(f, rule.Circle)+rule.Circle, rule.Circle)
		}
		parts[i] = j.config.Names.Format(trace.Number(math.Round(f*1e3)/1e3 + 0))
	}
	return strings.Join(parts, ", ")
}
