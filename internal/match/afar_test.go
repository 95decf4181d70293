package match

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match/far"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

// clockOf is a clock that is off, and goes too fast.
func clockOf(off time.Duration, ppm float64) func() time.Time {
	began := time.Now()
	return func() time.Time {
		now := time.Now()
		return now.Add(off + time.Duration(float64(now.Sub(began))*ppm/1e6))
	}
}

// elsewhere is another machine, as far as its clock goes; cut ends the connection to it.
func elsewhere(t *testing.T, folder string, clock func() time.Time) (find func(string, *plan.Plan) (*far.Machine, error), cut func()) {
	t.Helper()
	here, there := net.Pipe()
	served := make(chan error, 1)
	host := &far.Host{Folder: folder, Clock: clock}
	go func() { served <- host.Serve(context.Background(), there) }()
	t.Cleanup(func() {
		here.Close()
		<-served
	})
	line := &silence{Conn: here}
	return func(name string, _ *plan.Plan) (*far.Machine, error) { return far.NewMachine(name, line) }, func() { line.cut.Store(true) }
}

// silence is a connection on which nothing comes any more once it is cut, nor an end.
type silence struct {
	net.Conn
	cut atomic.Bool
}

func (s *silence) Read(p []byte) (int, error) {
	for {
		n, err := s.Conn.Read(p)
		if !s.cut.Load() || err != nil {
			return n, err
		}
	}
}

const pondAfar = `title: afar
clock: wall
duration: %s
seed: 5
game: {name: millpond, faults: [%s]}
build:
  folder: FOLDER
  address: 127.0.0.1
  ports: {game: tcp}
  server: {run: "node server.mjs --port {port} --seed {seed} --faults \"{faults}\"", ready: {log: listening on port, within: 30s}}
  client: {run: "node client.mjs --host {host} --port {port} --name {name} --faults \"{faults}\"", ready: {within: 30s}}
  heading: heading
  area: [40, 30]
bots:
  - {name: fern, link: village, steps: [{do: join}, {do: chase, kind: crumb}]}
  - {name: moss, link: hill-farm, on: mill, steps: [{do: join}, {do: chase, kind: crumb}, {do: leave, at: 5s}, {do: join, at: 6s}, {do: chase, kind: crumb}]}
watch:
  - {entities: duck/*, fields: [x, y], compare: distance, tolerance: 0.3, max-delay: 500ms}
  - {entities: duck/*, fields: score, max-delay: 600ms}
  - {entities: "*/*", fields: existence, max-delay: 600ms}
events: [{event: quack, max-delay: 500ms}]
`

func pond(t *testing.T, length, faults string) (*plan.Plan, string) {
	t.Helper()
	if testing.Short() {
		t.Skip("it plays by the clock")
	}
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("there is no node")
	}
	folder, err := filepath.Abs("../../examples/millpond")
	require.NoError(t, err)
	p, err := plan.Parse("plan.yaml", []byte(strings.ReplaceAll(fmt.Sprintf(pondAfar, length, faults), "FOLDER", folder)))
	require.NoError(t, err)
	return p, folder
}

// A client on a machine whose clock is off by minutes, and goes too fast, is judged like one here; its packets go over its
// link there, and are recorded here.
func TestAClientOnAnotherMachineIsJudgedLikeOneHere(t *testing.T) {
	p, folder := pond(t, "9s", "")
	find, _ := elsewhere(t, folder, clockOf(217*time.Second+345*time.Millisecond, 80))
	r, err := Run(context.Background(), p, Options{Folder: filepath.Join(t.TempDir(), "run"), Machines: find})
	require.NoError(t, err)
	require.Equal(t, judge.InSync, r.Verdict.Outcome, "%+v %+v", r.Ending, r.Verdict.Findings)
	require.NotNil(t, r.Measures.Timing)
	require.Len(t, r.Measures.Timing.Machines, 1)
	clock := r.Measures.Timing.Machines[0]
	assert.Equal(t, "mill", clock.Machine)
	assert.InDelta(t, -217.345, time.Duration(clock.Offset).Seconds(), 0.002+clock.ErrorMs/1e3+0.001, "what it has gained until the end is 1 ms")
	assert.Less(t, clock.ErrorMs, 20.0)
	for _, v := range r.Measures.Views {
		if v.Name == "moss" {
			assert.Greater(t, v.Up.Packets, 20)
			assert.Greater(t, v.Down.Packets, 50)
			assert.InDelta(t, 80, v.Down.Delay, 60, "hill-farm is that far away")
		}
	}
}

// It may tell its trace, and hear what it is to do, in every way that one here may; what it uses of its machine is told too.
func TestAClientOnAnotherMachineMayTellItsTraceElsewhere(t *testing.T) {
	wrapper, err := filepath.Abs("testdata/elsewhere.mjs")
	require.NoError(t, err)
	for _, c := range []struct{ name, place string }{{"over a connection", "socket, drive: socket"}, {"into a file", "\"traces/{name}.jsonl\""}} {
		t.Run(c.name, func(t *testing.T) {
			_, from := pond(t, "8s", "")
			folder := t.TempDir() // it is written to
			require.NoError(t, os.CopyFS(folder, os.DirFS(from)))
			text := strings.ReplaceAll(fmt.Sprintf(pondAfar, "8s", ""), "FOLDER", folder)
			text = strings.ReplaceAll(text, "client: {run: \"node ", "client: {trace: "+c.place+", run: \"node "+wrapper+" ")
			p, err := plan.Parse("plan.yaml", []byte(text))
			require.NoError(t, err)
			find, _ := elsewhere(t, folder, clockOf(-91*time.Second, -40))
			r, err := Run(context.Background(), p, Options{Machines: find})
			require.NoError(t, err)
			require.Equal(t, judge.InSync, r.Verdict.Outcome, "%+v %+v", r.Ending, r.Verdict.Findings)
			for _, v := range r.Measures.Views {
				if v.Name == "moss" {
					require.NotNil(t, v.Load, "what it uses is told")
					assert.Greater(t, v.Load.Resident.Max, 10.0, "MB")
				}
			}
		})
	}
}

func TestAPreflightTriesOtherMachines(t *testing.T) {
	p, folder := pond(t, "8s", "")
	p.Bots = append([]plan.Bot{p.Bots[0], {Name: "oak", Link: "village", Steps: p.Bots[0].Steps}}, p.Bots[1:]...)
	find, _ := elsewhere(t, folder, clockOf(12*time.Second, 0))
	var said []string
	ok, err := Preflight(context.Background(), p, Options{Machines: find}, func(s Step) { said = append(said, s.Name+": "+s.Observed+s.Error) })
	require.NoError(t, err)
	assert.True(t, ok, "%v", said)
	assert.Contains(t, said[0], "mill is reached: its clock is -12s off")
	assert.Contains(t, strings.Join(said, "\n"), "moss and fern see each other: duck/")
}

func TestAMistakeOfAClientOnAnotherMachineIsFound(t *testing.T) {
	p, folder := pond(t, "8s", "counts-twice")
	find, _ := elsewhere(t, folder, clockOf(-3*time.Hour, 0))
	r, err := Run(context.Background(), p, Options{Machines: find})
	require.NoError(t, err)
	require.Equal(t, judge.OutOfSync, r.Verdict.Outcome)
	assert.Equal(t, judge.Doubled, r.Verdict.Findings[0].Kind)
}

// A machine that is lost takes its views with it, and nobody else's: the match goes on, and is no pass.
func TestAMachineThatIsLostEndsItsViews(t *testing.T) {
	p, folder := pond(t, "10s", "")
	p.Bots[1].Steps = p.Bots[1].Steps[:2] // it does not leave by itself
	find, cut := elsewhere(t, folder, nil)
	time.AfterFunc(5*time.Second, cut)
	r, err := Run(context.Background(), p, Options{Machines: find})
	require.NoError(t, err)
	assert.Equal(t, ending.Complete, r.Ending.How)
	b := r.Ending.BreakOf(ending.MachineLost, "moss")
	require.NotNil(t, b)
	assert.Contains(t, b.How, "its machine, mill, was lost")
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome, "%+v", r.Verdict.Findings)
	for _, f := range r.Verdict.Findings {
		assert.Fail(t, "that nothing came from there is found to be a mistake", "%+v", f)
	}
}

func TestAMachineThatNobodyKnowsIsTold(t *testing.T) {
	p, _ := pond(t, "8s", "")
	_, err := Run(context.Background(), p, Options{})
	assert.ErrorContains(t, err, "mill is another machine, and nobody said how it is reached")
}
