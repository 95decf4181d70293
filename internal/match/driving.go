package match

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/control"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
)

// driver is what a participant needs of its bot, and what it has had the client do.
type driver struct {
	bot    bot.Player
	did    bot.Recorder
	steps  plan.Bot
	seq    uint64
	told   string       // the input that its view was told last
	sent   control.Line // the input that was sent last
	joins  bool         // it is to join as soon as its process has ended
	leaves time.Duration
	asked  time.Duration // when it was to join last; 0 means never
}

// drivable reports whether its client reads control lines.
func (p *participant) drivable() bool { return p.program.Drive != plan.NoDrive }

// act lets the bot do what it does now.
func (p *participant) act(now time.Duration) error {
	action := p.bot.Act(now, &p.mirror)
	if !p.drivable() { // it plays by itself: nobody knows what it does but by what it tells
		action = bot.Action{Join: action.Join, Leave: action.Leave}
	}
	if p.did.Saw(now, action) {
		p.match.note(p.match.moment(p.name, p.did.Moments[len(p.did.Moments)-1]))
		p.did.Moments = p.did.Moments[:0]
	}
	if action.Leave {
		p.leave(now)
	}
	if action.Join {
		p.joins = true
	}
	if p.joins && p.leaves == 0 {
		p.joins = false
		if err := p.join(now); err != nil {
			return err
		}
	}
	if cheat := action.Cheat; cheat != nil {
		for _, what := range cheat.Sets {
			switch what {
			case "speed": // more than any key gives; see Hurry
			case "place":
				p.say(control.Line{Do: control.Set, What: what, To: cheat.To[:]})
			default:
				p.say(control.Line{Do: control.Set, What: what})
			}
		}
		tellSet(now, cheat, func(r *trace.Record) { p.record(r) })
	}
	if p.mirror.inside && p.drivable() {
		p.input(now, action)
	}
	return nil
}

// tellSet puts into a view's trace what its player set behind the game's back, once. Speed is no
// value that is set: it shows in how the player moves.
func tellSet(now time.Duration, cheat *bot.Step, say func(*trace.Record)) {
	for _, what := range cheat.Sets {
		r := &trace.Record{T: now, Input: trace.SetInput + what}
		switch what {
		case "speed":
			continue
		case "place":
			r.Data = fmt.Sprintf(`{"to":[%s,%s]}`, strconv.FormatFloat(cheat.To[0], 'f', -1, 64), strconv.FormatFloat(cheat.To[1], 'f', -1, 64))
		}
		say(r)
	}
}

// join starts the process if there is none, and asks it to join.
func (p *participant) join(now time.Duration) error {
	if p.machine != nil && p.machine.Err() != nil {
		p.match.lost(p, p.machine.Err().Error())
		return nil
	}
	p.asked = max(now, 1)
	p.record(&trace.Record{T: now, Checkpoint: trace.AskMark})
	if !p.running() {
		if err := p.start(); err != nil {
			return err
		}
	}
	p.say(control.Line{Do: control.Join})
	return nil
}

// leaveWithin is how long a client has for its goodbye before it is stopped.
const leaveWithin = 300 * time.Millisecond

// leave asks the client to leave, and ends its process if that is not to stay.
func (p *participant) leave(now time.Duration) {
	p.asked = 0
	if !p.running() {
		return
	}
	p.say(control.Line{Do: control.Leave})
	if p.match.plan.Untraced() && p.mirror.inside {
		p.take(&trace.Record{T: p.match.stage.now(), Left: p.name})
	}
	if p.program.KeepRunning {
		return
	}
	p.leaves = max(now, 1)
	process, wait := p.process, leaveWithin
	if !p.drivable() {
		wait = 0
	}
	p.match.stage.later(wait, func() { p.match.stage.end(process) })
}

// input hands the client what the bot does, when that changes.
func (p *participant) input(now time.Duration, a bot.Action) {
	round := func(f float64) float64 { return math.Round(f*100) / 100 }
	line := control.Line{Do: control.Input, Move: round(a.Move + a.Hurry), Turn: round(a.Turn), Run: a.Run, Hold: a.Held}
	if !same(line, p.sent) {
		p.sent = line
		p.seq++
		line.Seq = p.seq
		p.say(line)
	}
	if a.Press != "" {
		p.seq++
		p.say(control.Line{Do: control.Press, Seq: p.seq, Input: a.Press})
	}
	if text := a.Text(); text != p.told {
		p.told = text
		p.record(&trace.Record{T: now, Input: text, Seq: p.seq})
	}
}

func same(a, b control.Line) bool {
	return a.Do == b.Do && a.Move == b.Move && a.Turn == b.Turn && a.Run == b.Run && slices.Equal(a.Hold, b.Hold)
}
