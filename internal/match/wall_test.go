//go:build linux || darwin

package match_test

import (
	"bytes"
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/programs"
	"zitherwheel/internal/match"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// This program plays the programs of a build under test: the demo game's, with what
// MISCHIEF says they do wrong.
func TestMain(m *testing.M) {
	if len(os.Args) < 2 || strings.HasPrefix(os.Args[1], "-test.") {
		os.Exit(m.Run())
	}
	switch os.Args[1] {
	case "host":
		host(os.Args[2], os.Args[3])
		return
	case "pebbles":
		pebbles(os.Args[2], os.Args[3], os.Args[4:]...)
		return
	case "guard":
		process.RunGuard(os.Stdin, os.Args[2])
		return
	}
	c := programs.Command()
	c.SetOut(mischief(os.Getenv("MISCHIEF")))
	c.SetArgs(os.Args[2:])
	if c.Execute() != nil {
		os.Exit(3)
	}
}

const short = `
title: real
duration: 2500ms
clock: wall
seed: 4
bots: [{name: fern, link: village}, {name: moss, link: village}]
`

func parse(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plan.Parse(filepath.Join(t.TempDir(), "plan.yaml"), []byte(text))
	require.NoError(t, err)
	return p
}

// spoil makes one side of the demo game's build go wrong.
func spoil(p *plan.Plan, side, what, mark string) {
	p.Build = p.ToBringUp()
	p.Build.Env = map[string]string{"STAGE_TEST": unique(mark)}
	g := &p.Build.Client
	if side == "server" {
		g = &p.Build.Server
	}
	g.Env = map[string]string{"MISCHIEF": what}
	for _, g := range []*plan.Program{&p.Build.Server, &p.Build.Client} {
		// Who never gets ready is not waited for long, everybody else as long as a busy
		// machine takes.
		g.Ready.Within = 20 * time.Second
		switch what {
		case "hang", "mute", "garbage":
			g.Ready.Within = 1500 * time.Millisecond
		case "misspells": // its second line is as it should be
			g.Ready.Within = 6 * time.Second
		}
		g.Stop.Within = 400 * time.Millisecond
	}
}

// unique tells the marks of this process of tests from those of others.
func unique(mark string) string { return mark + "-" + strconv.Itoa(os.Getpid()) }

// left counts the processes of a test that are still there.
func left(mark string) (n int) {
	paths, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range paths {
		env, err := os.ReadFile(path)
		if err == nil && bytes.Contains(env, []byte("STAGE_TEST="+unique(mark)+"\x00")) {
			n++
		}
	}
	return n
}

func TestWhateverABuildDoesTheRunEndsAndSaysSo(t *testing.T) {
	var together sync.WaitGroup // they wait most of the time
	turns := make(chan bool, 6)
	for _, c := range []struct {
		side, what string
		ended      ending.How
		why        string // in the reason, or in why a bot was never in
		log        string // in the last log lines
	}{
		{"server", "nothing", ending.Complete, "", ""},
		{"server", "flood", ending.Complete, "", ""},
		{"client", "flood", ending.Complete, "", ""},
		{"client", "half lines", ending.Complete, "", ""},
		{"server", "forks", ending.Complete, "", ""},
		{"client", "forks", ending.Complete, "", ""},
		{"client", "deaf", ending.Complete, "", ""},
		{"server", "deaf", ending.Complete, "", ""},
		{"client", "clock jumps", ending.Complete, "", ""},
		{"server", "clock jumps", ending.Complete, "", ""},
		{"server", "hang", ending.Failed, "server: it is ready: not ready after 1.5s: no trace line", ""},
		{"server", "mute", ending.Failed, "server: it is ready: not ready after 1.5s: no trace line", "listening on udp"},
		{"server", "crash at start", ending.Failed, "the server ended by itself (exit status 3)", "cannot load the field"},
		{"client", "hang", ending.Failed, `never got in: the first step that fails is "its packets reach the relay": no packet has come from it`, ""},
		{"client", "mute", ending.Failed, `"its trace lines are well formed": no trace line has come, only log text`, "in the match"},
		{"client", "garbage", ending.Failed, `lines and all malformed, the first: no "t": every line needs its time in seconds: {"time":"now"}`, ""},
		{"client", "crash at start", ending.Failed, "client ended by itself (exit status 3)", "cannot load the field"},
	} {
		together.Go(func() {
			turns <- true
			defer func() { <-turns }()
			t.Run(c.side+" "+c.what, func(t *testing.T) {
				mark := strings.ReplaceAll(t.Name(), " ", "-")
				p := parse(t, short)
				spoil(p, c.side, c.what, mark)
				if c.ended == ending.Failed { // before it is over, however long a busy machine takes
					p.Duration = 20 * time.Second
				}
				folder := filepath.Join(t.TempDir(), "run")
				r, err := match.Run(context.Background(), p, match.Options{Folder: folder, Guard: []string{"guard"}})
				require.NoError(t, err)
				assert.Equal(t, c.ended, r.Ending.How, "%s\n%s", r.Ending.Why, strings.Join(r.Ending.Log, "\n"))
				assert.Contains(t, r.Ending.Why, c.why)
				assert.Contains(t, strings.Join(r.Ending.Log, "\n"), c.log)
				if c.ended == ending.Complete {
					require.NotNil(t, r.Verdict)
					assert.Empty(t, r.NeverIn)
					if !testing.Short() { // with the race detector all is too slow to be right in time
						assert.Greater(t, r.Verdict.Comparisons, 100)
						if c.what != "flood" { // which starves the others of the machine
							assert.Empty(t, whys(r.Verdict))
						}
					}
				}
				if c.what == "clock jumps" {
					assert.NotEmpty(t, r.Measures.Timing.Clocks)
				}
				run, err := run.Open(folder)
				require.NoError(t, err)
				assert.Equal(t, c.ended, run.About.How)
				assert.Equal(t, r.Ending.Why, run.About.Why)
				if runtime.GOOS == "linux" {
					assert.Zero(t, left(mark), "processes left behind")
				}
			})
		})
	}
	together.Wait()
}

func TestTracesAndControlLinesGoTheWayThatThePlanSays(t *testing.T) {
	notSlowed(t)
	for _, c := range []struct {
		what, trace, drive string
		open               bool // a finding, at the end
	}{
		{"to a file", "traces/{name}.jsonl", plan.InputDrive, false},
		{"over a socket", plan.SocketTrace, plan.SocketDrive, false},
		{"over a socket that breaks", plan.SocketTrace, plan.SocketDrive, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			p := parse(t, strings.Replace(short, "2500ms", "4s", 1))
			spoil(p, "client", c.what, "way")
			p.Build.Folder = t.TempDir()
			require.NoError(t, os.Mkdir(filepath.Join(p.Build.Folder, "traces"), 0o755))
			p.Build.Client.Trace, p.Build.Client.Drive = c.trace, c.drive
			r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run")})
			require.NoError(t, err)
			require.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
			assert.Empty(t, r.NeverIn)
			if c.open {
				assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome, "a client whose trace broke off is neither in sync nor frozen")
				assert.NotNil(t, r.Ending.BreakOf(ending.TraceBroken, "fern"))
				return
			}
			assert.Empty(t, whys(r.Verdict))
			assert.Greater(t, r.Verdict.Comparisons, 200)
		})
	}
}

func TestOneClientMayBeTheServerToo(t *testing.T) {
	notSlowed(t)
	p := parse(t, `
title: hosted
duration: 4s
clock: wall
game: {name: fold, host: fern}
build:
  host: {run: ["{zwheel}", host, "{host}:{port}", "{name}"]}
  client: {run: ["{zwheel}", hillfold, play, --server, "{host}:{port}", --name, "{name}"]}
  heading: heading
bots: [{name: fern}, {name: moss, link: village}]
watch: [{entities: dog/*, fields: [x, y], compare: distance, tolerance: 1, max-delay: 400ms, max-ahead: 400ms}]
`)
	r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run")})
	require.NoError(t, err)
	require.Equal(t, ending.Complete, r.Ending.How, "%s %v", r.Ending.Why, r.Ending.Log)
	assert.Empty(t, r.NeverIn)
	assert.Empty(t, whys(r.Verdict))
	require.Len(t, r.Verdict.Views, 2)
	assert.Greater(t, r.Verdict.Comparisons, 30)
}

func TestAPortInUseIsNamed(t *testing.T) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	p := parse(t, short)
	spoil(p, "server", "", "port")
	p.Build.Ports[0].Number = conn.LocalAddr().(*net.UDPAddr).Port
	r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run")})
	require.NoError(t, err)
	assert.Equal(t, ending.Failed, r.Ending.How)
	assert.Contains(t, r.Ending.Why, "the server ended by itself (exit status 3)")
	assert.Contains(t, strings.Join(r.Ending.Log, "\n"), "address already in use")
}

// That nobody gets in whose link loses everything is no fault of the server's.
func TestALinkThatLosesEverythingIsToldFromAServerThatDoesNotAnswer(t *testing.T) {
	for link, want := range map[string]string{"{loss: 100%}": "to the server", "{down: {loss: 100%}}": "from the server"} {
		p := parse(t, "duration: 2500ms\nclock: wall\nlinks: {dead: "+link+"}\nbots: [{name: fern, link: dead}, {name: moss}]\n")
		r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run"), Guard: []string{"guard"}})
		require.NoError(t, err)
		require.Len(t, r.NeverIn, 1)
		assert.Regexp(t, "its link lost all \\d+ packets "+want+"; that is the link that the plan gives it, and no fault of the server's", r.NeverIn[0].Why)
	}
}

func TestNothingOfARunStaysOpen(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("counts in /proc")
	}
	count := func() int {
		entries, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(entries)
	}
	before, routines := count(), runtime.NumGoroutine()
	p := parse(t, strings.Replace(short, "2500ms", "800ms", 1))
	r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run"), Guard: []string{"guard"}})
	require.NoError(t, err)
	require.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
	assert.LessOrEqual(t, count(), before)
	// One more asks.
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= routines+1 }, 5*time.Second, 10*time.Millisecond)
}

func TestARunMayBeInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	p := parse(t, strings.Replace(short, "2500ms", "30s", 1))
	spoil(p, "server", "", "interrupted")
	time.AfterFunc(5*time.Second, cancel)
	r, err := match.Run(ctx, p, match.Options{Folder: filepath.Join(t.TempDir(), "run"), Guard: []string{"guard"}})
	require.NoError(t, err)
	assert.Equal(t, ending.Interrupted, r.Ending.How)
	require.NotNil(t, r.Verdict)
	assert.Positive(t, r.Verdict.Comparisons, "what was played is judged")
	assert.Zero(t, left("interrupted"))
}

// notSlowed skips a test whose match must keep to the clock, where the race detector
// slows all down.
func notSlowed(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("must keep to the clock")
	}
}

// The same plan on both clocks finds the same.
func TestBothClocksFindTheSame(t *testing.T) {
	notSlowed(t)
	var together sync.WaitGroup
	for fault, want := range map[string]string{"": "", "narrow-numbers": "overflow", "only-here": "never-arrived", "swapped-axes": "swapped"} {
		together.Go(func() {
			t.Run(fault, func(t *testing.T) {
				text := strings.Replace(short, "2500ms", "6s", 1) + "game: {faults: [" + fault + "]}\n"
				for _, clock := range []string{plan.Virtual, plan.Wall} {
					p := parse(t, text)
					p.Clock = clock
					r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), clock)})
					require.NoError(t, err)
					require.NotNil(t, r.Verdict, r.Ending.Why)
					if want == "" {
						assert.Empty(t, r.Verdict.Findings, clock)
						continue
					}
					require.NotEmpty(t, r.Verdict.Incidents, clock)
					assert.Equal(t, want, string(r.Verdict.Incidents[0].Kind), clock)
				}
			})
		})
	}
	together.Wait()
}

func TestALinkIsCutMovedAndSlowedOnRealSockets(t *testing.T) {
	notSlowed(t)
	p := parse(t, `
title: a bad day
duration: 6s
clock: wall
bots: [{name: fern, link: moor}, {name: moss, link: village}]
links:
  moor: {latency: 30ms, rate: 400kbit/s, nat-rebind: [2s], outages: [{at: 3s, for: 700ms}], changes: [{at: 5s, latency: 120ms}]}
`)
	folder := filepath.Join(t.TempDir(), "run")
	r, err := match.Run(context.Background(), p, match.Options{Folder: folder})
	require.NoError(t, err)
	require.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
	assert.Empty(t, r.Verdict.Findings, "none of it is the game's fault")
	recorded, err := run.Open(folder)
	require.NoError(t, err)
	file, err := trace.Open(recorded.PacketsPath())
	require.NoError(t, err)
	defer file.Close()
	packets := run.NewPacketReader(file)
	var cut, passed, quick, slow int
	for {
		view, p, err := packets.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if view != "fern" || p.Direction != link.Down {
			continue
		}
		if p.Sent >= 3*time.Second && p.Sent < 3700*time.Millisecond {
			cut++
			assert.Equal(t, link.Outage, p.Dropped, "sent at %v", p.Sent)
			continue
		}
		passed++
		if !assert.Equal(t, 1, p.Copies, "sent at %v", p.Sent) {
			continue
		}
		least := 30 * time.Millisecond
		if p.Sent >= 5*time.Second {
			slow++
			least = 120 * time.Millisecond
		} else if p.Arrives[0]-p.Sent < 120*time.Millisecond {
			quick++
		}
		assert.GreaterOrEqual(t, p.Arrives[0]-p.Sent, least, "sent at %v", p.Sent)
	}
	assert.Greater(t, cut, 5)
	assert.Greater(t, passed, 40)
	assert.Greater(t, slow, 5)
	assert.Greater(t, 2*quick, passed, "most were as quick as the link before it changed")
	assert.Equal(t, cut, r.Measures.Views[0].Down.Lost, "and nothing else was lost")
}

func TestManyBots(t *testing.T) {
	if testing.Short() {
		t.Skip("starts 65 processes")
	}
	p := parse(t, `
title: many
duration: 6s
clock: wall
bots: [{name: dog, count: 64, link: village}]
`)
	spoil(p, "client", "", "many")
	for _, g := range []*plan.Program{&p.Build.Server, &p.Build.Client} {
		g.Ready.Within, g.Stop.Within = 20*time.Second, 5*time.Second
	}
	r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run"), Guard: []string{"guard"}})
	require.NoError(t, err)
	require.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
	assert.Empty(t, r.NeverIn)
	assert.Len(t, r.Verdict.Views, 64)
	assert.Zero(t, left("many"))
}

func TestPreflightStopsAtTheFirstThingThatIsWrong(t *testing.T) {
	var together sync.WaitGroup
	for _, c := range []struct {
		side, what  string
		last, wrong string
		steps       int
	}{
		{"server", "", "moss: when it leaves, it is gone everywhere", "", 27},
		{"server", "crash at start", "server: it stays up", "the server ended by itself (exit status 3)", 2},
		{"server", "mute", "server: it is ready", "not ready after 1.5s: no trace line", 3},
		{"client", "crash at start", "fern: it stays up", "fern's client ended by itself (exit status 3)", 6},
		{"client", "hang", "fern: its packets reach the relay", "no packet has come from it", 7},
		{"server", "misspells", "fern: it is there exactly once", `the server's snapshot has no dog/fern; it told`, 13},
		{"client", "mute", "fern: its trace lines are well formed", "no trace line has come, only log text", 12},
	} {
		together.Go(func() {
			t.Run(c.side+" "+c.what, func(t *testing.T) {
				p := parse(t, short)
				spoil(p, c.side, c.what, "preflight")
				if c.wrong == "" {
					p.Build.Client.Ready.Within = 15 * time.Second
				}
				var steps []match.Step
				var lock sync.Mutex
				ok, err := match.Preflight(context.Background(), p, match.Options{}, func(s match.Step) {
					lock.Lock()
					steps = append(steps, s)
					lock.Unlock()
				})
				require.NoError(t, err)
				assert.Equal(t, c.wrong == "", ok)
				last := steps[len(steps)-1]
				if testing.Short() && c.what == "crash at start" && len(steps) > c.steps {
					// With the race detector it takes longer to crash than to count as up.
					assert.Contains(t, []string{"server: it is ready", "fern: its packets reach the relay"}, last.Name)
				} else {
					require.Len(t, steps, c.steps)
					assert.Equal(t, c.last, last.Name)
				}
				assert.True(t, strings.HasPrefix(last.Error, c.wrong), last.Error)
				assert.Equal(t, c.wrong == "", last.Error == "")
				if c.wrong != "" {
					assert.NotEmpty(t, last.Hint)
				}
			})
		})
	}
	together.Wait()
	t.Run("a program that is not there", func(t *testing.T) {
		p := parse(t, short)
		p.Build = p.ToBringUp()
		p.Build.Server.Run = []string{"./no-such-server"}
		p.Build.Folder = t.TempDir()
		var steps []match.Step
		ok, err := match.Preflight(context.Background(), p, match.Options{}, func(s match.Step) { steps = append(steps, s) })
		require.NoError(t, err)
		assert.False(t, ok)
		require.Len(t, steps, 1)
		assert.Equal(t, "server: the program is found", steps[0].Name)
		assert.Contains(t, steps[0].Error, "./no-such-server: ")
		assert.Contains(t, steps[0].Hint, "build: server: run: names it")
	})
}
