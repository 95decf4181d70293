package match

import (
	"context"
	"io"
	"net"
	"net/netip"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/metrics"
)

// stage is what the programs of a match run on: this machine as it is, or a supervisor that
// owns their time. It is used by the goroutine of the match alone, and hands what happens to
// buildMatch.handle in that goroutine.
type stage interface {
	zero() time.Time    // from which now counts, by the clocks of programs
	now() time.Duration // since the stage was set

	// beat lets happen what happens until bots act the next time.
	beat(ctx context.Context) error
	later(d time.Duration, do func())

	start(p *participant, spec process.Spec) (program, error)
	end(p program)         // asks it to end, and does not wait for that
	endAll(list []program) // likewise, and does
	close() error

	port(network string) (held io.Closer, number int, err error) // a free one; held is nil if nobody else could take it
	listen() (net.Listener, error)                               // for a program's trace
	bound(network string, at netip.AddrPort) (bound, known bool)
	carry(zero time.Duration, record bool) (carrier, error) // the times of packets count from zero

	readLoads()              // of processes, where they mean something; they come as an event
	readWaits()              // how long programs had to wait for a processor, for timing
	timing() *metrics.Timing // how well it has kept time
}

// program is a program that was started.
type program interface {
	PID() int
	Running() bool
	Connected() bool // for its trace, where it is to do so
	Exit() (how string, asked bool)
	Failed() bool
	Say(line []byte) bool
}

// carrier carries packets between clients and the server.
type carrier interface {
	Add(relay.Path) (netip.AddrPort, error)
	Move(path int) error
	Reset(path int)
	Take([]relay.Packet) []relay.Packet
	Stats() relay.Stats
	Close() error
}

// newStage sets the stage that a match's plan asks for.
func newStage(ctx context.Context, m *buildMatch) (stage, error) {
	every := (time.Second / time.Duration(m.build.ControlRate)).Round(time.Microsecond)
	if m.plan.Clock == plan.Wall {
		return newWallStage(m, every), nil
	}
	return newSupervisedStage(ctx, m, every)
}
