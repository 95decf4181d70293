// Package match plays a match: it puts the plan's game, bots and links on a
// clock, and hands what every view says, and what becomes of every packet, to
// the judge and to the run folder.
//
// The demo game's state machines are played on a virtual clock and an in-memory network
// (virtual.go), and judged as they go. A build is brought up as programs (build.go),
// clients reach the server through a relay, and the recorded traces are judged when the
// match has ended. What its programs run on is a stage (stage.go): the wall clock
// (wall.go), or a supervisor that owns their time (supervised.go).
package match

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/match/far"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/logs"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Views are the names of the views of a match: the server's, then the bots' in
// the plan's order.
func viewsOf(p *plan.Plan) []string {
	views := []string{rulebook.Server}
	for _, b := range p.Bots {
		views = append(views, b.Name)
	}
	return views
}

// Result is what came of a match.
type Result struct {
	Verdict   *judge.Verdict
	Findings  []byte // the verdict as findings.json has it
	Measures  *metrics.Measures
	Logs      *logs.Report // what its programs logged of errors and warnings, where Options asks for it
	Ending    ending.Ending
	Played    time.Duration
	Refused   []string // bots that the full server did not let in, as the plan asked for
	NeverIn   []Absent // bots whose clients never got into the match
	Malformed int      // packets that the demo game found malformed
	Why       string   // it could not be carried out to its end; Ended is run.Failed
	Log       []string // the last log lines of the process concerned
	Remarks   []feed.Remark
}

// Aftermath is how long a match goes on that is to stop at its first finding.
const Aftermath = 2 * time.Second

// Progress is how far a match is.
type Progress struct {
	At       time.Duration
	Length   time.Duration
	Findings int // that are certain so far
	Bots     []BotProgress
}

// BotProgress is how one bot gets on.
type BotProgress struct {
	Name     string
	In       bool
	Up, Down LinkProgress
	Now      feed.Standing
}

// LinkProgress is what went over one direction of a bot's link so far.
type LinkProgress struct {
	Packets, Lost int
	Delay         time.Duration // of the last that arrived
}

// Absent is a bot whose client never got into the match, and what is known of why.
type Absent struct {
	Name string
	Why  string // "" if nothing is
}

// Options say what is done with a match beside playing it.
type Options struct {
	Folder string            // where the run folder is made; "" records nothing
	Silent bool              // without judge
	Logs   bool              // put together what programs log of errors and warnings, on the wall clock: a flood takes its time
	Record bool              // keep the payloads of all packets too, on the wall clock, as packets.pcapng
	Guard  []string          // arguments with which this program runs process.RunGuard, for the wall clock; without, nothing ends what is left of a run that was killed
	Zwheel string            // the path of this program, for the demo game's processes; "" is the one that runs
	Tell   func(text string) // hears how a match on the wall clock gets on; may be nil

	Rules *rulebook.Rules // of a plan without any: those that were learned from a match before; nil learns them from this one

	Sign run.Sign // signs the run folder, so that its user knows it again; may be nil

	Machines func(name string, p *plan.Plan) (*far.Machine, error) // finds another machine, for bots that play on one; may be nil

	ByHand map[string]uint16 // bots that somebody plays by hand, and the port for their clients; 0 is any. On the wall clock

	Alert       func(judge.Alert) // hears of findings as they become certain; may be nil
	StopAtFirst bool              // ends the match Aftermath after the first finding has become certain
	Progress    func(Progress)    // hears how far the match is, a few times a second; may be nil

	Script map[string][]bot.Moment              // what bots do, instead of their steps; those that are not named do theirs
	Acted  func(name string, moment bot.Moment) // hears what bots do; may be nil
	Packet func(Packet)                         // hears of every packet; may be nil
	Until  time.Duration                        // the match is cut off there; 0 means at its length

	UsualFrom int // the draw of the order of threads, from 1, from which on the usual order is taken; 0 is never

	// Look looks at the game from the inside, on the virtual clock, and says when it wants to
	// look again; may be nil.
	Look func(now time.Duration, server game.Server, clients []game.Client) time.Duration
}

// Packet is a packet that was sent on a bot's link.
type Packet struct {
	Link string
	link.Packet
	Describe func() string // says what it carries; nil where that is not known. It is to be called at once
}

// player is who plays for a bot.
func player(o Options, b plan.Bot, area game.Area, press string, random *rand.Rand) bot.Player {
	if moments, ok := o.Script[b.Name]; ok {
		return bot.Replay(moments)
	}
	return bot.New(b.Steps, area, press, random)
}

// acted tells what a bot does.
func (o *Options) acted(did *bot.Recorder, name string, now time.Duration, a bot.Action) {
	if o.Acted != nil && did.Saw(now, a) {
		o.Acted(name, did.Moments[len(did.Moments)-1])
		did.Moments = did.Moments[:0]
	}
}

// length is how long the match is played.
func (o *Options) length(p *plan.Plan) time.Duration {
	if o.Until > 0 {
		return min(o.Until, p.Duration)
	}
	return p.Duration
}

// judgedAfterwards reports whether a match on the virtual clock is judged from what was
// recorded and not as it goes: clocks are brought together by looking at whole traces.
func judgedAfterwards(p *plan.Plan) bool { return p.Align != "" && p.Align != feed.Shared }

// ErrRecorded is the error of a plan of which nothing can be played.
var ErrRecorded = errors.New("these traces were recorded elsewhere (clock: recorded), and there is nothing to play")

// Playable is ErrRecorded if a plan cannot be played, on whatever clock.
func Playable(p *plan.Plan) error {
	if _, known := p.Game.Played(); !known && !p.Build.Given() || p.Clock == plan.Recorded {
		return ErrRecorded
	}
	return nil
}

// Run plays a match, judges it and records it. When ctx is done it stops and keeps
// what there is. The error of a folder that cannot be made wraps
// run.ErrExists if it is there already.
func Run(ctx context.Context, p *plan.Plan, options Options) (*Result, error) {
	p, _, err := p.Drawn()
	if err != nil {
		return nil, err
	}
	if err := Playable(p); err != nil {
		return nil, err
	}
	if p.ByPrograms() || judgedAfterwards(p) {
		if options.Folder == "" && !options.Silent { // it is judged from what was recorded
			folder, err := os.MkdirTemp("", "zwheel-")
			if err != nil {
				return nil, err
			}
			defer os.RemoveAll(folder)
			options.Folder = filepath.Join(folder, "run")
		}
	}
	if p.ByPrograms() {
		var r *Result
		onItsThread(p, func() { r, err = runBuild(ctx, p, options) })
		return r, err
	}
	m, err := newMatch(p, options)
	if err != nil {
		return nil, err
	}
	return m.play(ctx)
}

// onItsThread does what plays a match. A supervisor binds the goroutine that it is made in to a thread,
// changes what that thread sees of the system, and ends it; so it gets a goroutine of its own.
func onItsThread(p *plan.Plan, do func()) {
	if p.Clock == plan.Wall {
		do()
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		do()
	}()
	<-done
}
