package judge

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// lately is what went over a view's link and what its player did, of late, for
// the evidence of a crash.
type lately struct {
	packets [keptPackets]link.Packet
	inputs  [keptInputs]deed
}

type deed struct {
	t    time.Duration
	view int
	text string
}

const (
	aroundEnd   = 200 * time.Millisecond
	keptPackets = 8
	keptInputs  = 4
)

// did remembers what a view's player does.
func (v *view) did(r *trace.Record) {
	copy(v.lately.inputs[:], v.lately.inputs[1:])
	v.lately.inputs[keptInputs-1] = deed{r.T, v.number, r.Input}
}

// Broke takes in that something broke for a view, by its place in Config.Views, when
// the records and packets up to then were taken in. A crash is a finding; whatever
// else a view told of last, it is out of the match from then on.
func (j *Judge) Broke(view int, b ending.Break) {
	j.advance(time.Duration(b.At))
	v := j.views[view]
	if b.Kind == ending.Crashed {
		j.crashed(v, b)
	}
	at := time.Duration(b.At)
	if j.ticks != nil {
		j.ticks.broke(view)
	}
	switch {
	case view == 0 && b.Back > 0: // it begins anew, and so does everybody
		j.reference(&trace.Record{T: at, Full: true})
		j.waiting.when(at, func() {
			for _, v := range j.views[1:] {
				j.leave(v, at)
				v.broken = true
			}
		})
	case view > 0:
		j.waiting.when(at, func() { j.leave(v, at); v.broken = b.Kind == ending.TraceBroken })
	}
}

// comesBack reports whether a view whose trace broke off has said so much that it can be
// judged again: what it told of a snapshot that was lost in between is not known.
func (v *view) comesBack(r *trace.Record) bool { return v.broken && r.Full && !v.in }

// crashed makes the finding of a program that ended by itself.
func (j *Judge) crashed(v *view, b ending.Break) {
	at := time.Duration(b.At)
	whose := "the server"
	if v.number > 0 || v.name != rulebook.Server {
		whose = v.name + "'s client"
	}
	f := &Finding{Kind: Crashed, View: v.name, Subject: Subject{About: AboutProgram}, Own: v.number > 0, BeganAt: b.At, EndedAt: b.At, Open: true, Ended: "it did not come back",
		Why: fmt.Sprintf("%s ended by itself (%s)", whose, b.How), Evidence: Evidence{Since: Seconds(at - lookBack), Values: []ValueRow{}, Log: b.Log}}
	if v.number > 0 && v.own != trace.Nobody {
		f.Entity = j.config.Names.EntityID(v.own)
	}
	if b.Back > 0 {
		f.Open, f.EndedAt, f.Ended = false, b.Back, "its being started again"
	}
	f.cause = b.How + lastSaid(b.Log)
	views := []*view{v}
	if v.number == 0 {
		views = j.views[1:]
	}
	f.Evidence.addLately(j, views, at)
	for _, m := range j.members {
		itself := m.view == v.number && m.text == v.name+"'s program ended" && (m.t-at).Abs() < aroundEnd
		if (m.t-at).Abs() < lookAround && !itself && len(f.Evidence.Around) < memberRows {
			f.Evidence.Around = append(f.Evidence.Around, MemberRow{Seconds(m.t), j.views[m.view].name, m.text})
		}
	}
	j.add(f)
}

// addLately adds the last packets and inputs of some views.
func (ev *Evidence) addLately(j *Judge, views []*view, at time.Duration) {
	type packet struct {
		link.Packet
		view *view
	}
	var packets []packet
	var deeds []deed
	for _, v := range views {
		for _, p := range v.lately.packets {
			if p.Number > 0 && at-p.Sent < lookAround {
				packets = append(packets, packet{p, v})
			}
		}
		for _, d := range v.lately.inputs {
			if d.text != "" && at-d.t < lookAround {
				deeds = append(deeds, d)
			}
		}
	}
	slices.SortStableFunc(packets, func(a, b packet) int { return int(a.Sent - b.Sent) })
	for _, p := range packets[max(0, len(packets)-keptPackets):] {
		row := PacketRow{Direction: p.Direction.String(), Number: p.Number, Sent: Seconds(p.Sent), Size: p.Size, Outcome: "arrived"}
		if len(views) > 1 {
			row.Link = p.view.name
		}
		switch {
		case p.Copies == 0:
			row.Outcome = p.Dropped.String()
			ev.Lost++
		case p.Arrives[0] > at:
			row.Outcome = "on its way"
		}
		ev.Packets = append(ev.Packets, row)
	}
	slices.SortStableFunc(deeds, func(a, b deed) int { return int(a.t - b.t) })
	for _, d := range deeds[max(0, len(deeds)-keptInputs):] {
		ev.Inputs = append(ev.Inputs, MemberRow{Seconds(d.t), j.views[d.view].name, d.text})
	}
}

var digits = regexp.MustCompile(`0x[0-9a-fA-F]+|[0-9]+`)

// lastSaid is the last line of a log with its numbers taken out: what crashes of one
// cause have in common.
func lastSaid(log []string) string {
	for _, line := range slices.Backward(log) {
		if line = strings.TrimSpace(line); line != "" {
			return ": " + digits.ReplaceAllString(line, "#")
		}
	}
	return ""
}

// resumed reports whether lines came of a view after its trace had broken off.
func (v *view) resumed(e ending.Ending) bool {
	b := e.BreakOf(ending.TraceBroken, v.name)
	return b != nil && v.to > time.Duration(b.At)
}
