package match

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

// bridge is a small game in Python over UDP: who is on a bridge walks along it, and everybody sees it. A client
// reads control lines where it is told to: from standard input or the connection of its trace. With "dies" the
// server crashes after four seconds; with "stays" it goes on telling clients of who has left.
const bridge = `
import json, os, random, select, socket, sys, time
role, words = sys.argv[1], sys.argv[2:]
start = time.monotonic()
trace = sys.stdout
commands = sys.stdin
if os.environ.get("ZWHEEL_TRACE", "").count(":") == 1:
    host, port = os.environ["ZWHEEL_TRACE"].split(":")
    connection = socket.create_connection((host, int(port)))
    trace, commands = connection.makefile("w"), connection
def tell(**line):
    trace.write(json.dumps({"t": round(time.monotonic() - start, 4), **line}) + "\n")
    trace.flush()
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
if role == "server":
    s.bind(("127.0.0.1", int(words[0])))
    print("the bridge is open", flush=True)
    people, places, ghosts, turn = {}, {}, {}, time.monotonic()
    while True:
        ready, _, _ = select.select([s], [], [], max(0, turn - time.monotonic()))
        if ready:
            data, at = s.recvfrom(1000)
            what, name = data.decode().split()
            if what == "come" and at not in people:
                people[at], places[name] = name, random.random() * 10
                tell(joined=name, entity="walker/" + name)
            elif what == "go" and at in people:
                del people[at]
                ghosts[name] = places.pop(name)
                tell(left=name)
            continue
        turn += 0.05
        if "dies" in words and time.monotonic() - start > 4:
            raise SystemExit("the bridge has broken")
        for name in sorted(places):
            places[name] += random.random() / 10
        tell(full=True, state={"walker/" + n: {"x": round(x, 3)} for n, x in places.items()})
        for at in people:
            s.sendto(json.dumps({**(ghosts if "stays" in words else {}), **places}).encode(), at)
else:
    host, port, name = words[0], int(words[1]), words[2]
    s.connect((host, port))
    inside, wanted, asked, rest = False, False, 0, ""
    while True:
        ready, _, _ = select.select([s, commands], [], [], 0.1)
        if commands in ready:
            data = commands.recv(4096).decode() if commands is not sys.stdin else os.read(0, 4096).decode()
            if not data:
                break
            rest += data
            while "\n" in rest:
                line, rest = rest.split("\n", 1)
                do = json.loads(line)["do"]
                if do == "join":
                    wanted = True
                elif do in ("leave", "stop"):
                    if inside:
                        s.send(("go " + name).encode())
                        tell(left=name)
                    sys.exit(0)
        if s in ready:
            try:
                places = json.loads(s.recv(4000))
            except ConnectionRefusedError:
                continue
            if not inside and name in places:
                inside = True
                tell(joined=name, entity="walker/" + name)
            if inside:
                tell(full=True, state={"walker/" + n: {"x": round(x, 3)} for n, x in places.items()})
        if wanted and not inside and time.monotonic() - asked > 0.2:
            asked = time.monotonic()
            s.send(("come " + name).encode())
`

// onBridge is a plan of the bridge; with is put where faults, drive and the bots go.
func onBridge(t *testing.T, faults, client, bots string) *plan.Plan {
	t.Helper()
	if testing.Short() {
		t.Skip("starts many programs, and has no goroutine of its own")
	}
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("there is no python3 here")
	}
	if virtual := Machine(context.Background())[0]; !virtual.Has {
		t.Skip(virtual.What)
	}
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "bridge.py"), []byte(bridge), 0o600))
	p, err := plan.Parse(filepath.Join(folder, "plan.yaml"), fmt.Appendf(nil, `
seed: 4
duration: 8s
game: {name: bridge}
build:
  server: {run: "python3 bridge.py server {port} %s", ready: {log: the bridge is open}}
  client: {run: "python3 bridge.py client {host} {port} {name}"%s}
links: {plank: {latency: 40ms, jitter: 10ms, loss: 3%%}}
bots: [%s]
watch:
  - {entities: walker/*, fields: x, compare: distance, tolerance: 0.05, max-delay: 400ms}
  - {entities: walker/*, fields: existence, max-delay: 400ms}
`, faults, client, bots))
	require.NoError(t, err)
	return p
}

func played(t *testing.T, p *plan.Plan, o Options) *Result {
	t.Helper()
	r, err := Run(context.Background(), p, o)
	require.NoError(t, err)
	return r
}

const comeAndGo = "{name: fern, link: plank}, {name: moss, link: plank, steps: [{do: join, at: 1s}, {do: rejoin, at: 4s, away: 1s}]}, {name: oak, link: plank, steps: [{do: join, at: 2s}, {do: leave, at: 6s}]}"

func TestABuildPlaysOnTheVirtualClockTheSameEveryTime(t *testing.T) {
	for name, client := range map[string]string{"driven by its input": "", "driven by its connection": ", trace: socket, drive: socket"} {
		t.Run(name, func(t *testing.T) {
			p := onBridge(t, "", client, comeAndGo)
			var first map[string][]byte
			for i := range 2 {
				folder := filepath.Join(t.TempDir(), "run")
				r := played(t, p, Options{Folder: folder})
				assert.Equal(t, judge.InSync, r.Verdict.Outcome, "%+v", r.Ending)
				assert.Equal(t, ending.Complete, r.Ending.How)
				assert.Equal(t, 8*time.Second, r.Played)
				assert.Empty(t, r.NeverIn)
				files := map[string][]byte{}
				for _, name := range []string{"views/server.jsonl.zst", "views/fern.jsonl.zst", "views/moss.jsonl.zst", "views/oak.jsonl.zst", "packets.jsonl.zst", "inputs.jsonl.zst", "logs/server.log", "findings.json"} {
					text, err := os.ReadFile(filepath.Join(folder, filepath.FromSlash(name)))
					if os.IsNotExist(err) { // what is not packed
						text, err = os.ReadFile(strings.TrimSuffix(filepath.Join(folder, filepath.FromSlash(name)), ".zst"))
					}
					require.NoError(t, err)
					files[name] = text
				}
				if i == 0 {
					first = files
				}
				for name := range files {
					assert.Equal(t, string(first[name]), string(files[name]), "%s of run %d", name, i)
				}
			}
		})
	}
}

func TestAnotherSeedDrawsOtherwiseInTheProgramsToo(t *testing.T) {
	p := onBridge(t, "", "", "{name: fern}")
	one := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "one")})
	p.Seed = 5
	two := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "two")})
	assert.NotEqual(t, one.Measures.Timing.Supervised.Visible, two.Measures.Timing.Supervised.Visible)
}

func TestAMistakeOfABuildIsFoundAsItHappens(t *testing.T) {
	p := onBridge(t, "stays", "", comeAndGo)
	var alerts []judge.Alert
	r := played(t, p, Options{StopAtFirst: true, Alert: func(a judge.Alert) { alerts = append(alerts, a) }})
	assert.Equal(t, judge.OutOfSync, r.Verdict.Outcome)
	require.NotEmpty(t, alerts)
	assert.Equal(t, ending.Stopped, r.Ending.How)
	assert.Less(t, r.Played, 8*time.Second)
}

func TestAServerThatDiesOnTheVirtualClock(t *testing.T) {
	p := onBridge(t, "dies", "", "{name: fern}")
	r := played(t, p, Options{})
	assert.Equal(t, judge.OutOfSync, r.Verdict.Outcome)
	require.NotEmpty(t, r.Verdict.Findings)
	assert.Equal(t, judge.Crashed, r.Verdict.Findings[0].Kind)
	assert.InDelta(t, 4, time.Duration(r.Verdict.Findings[0].BeganAt).Seconds(), 0.2)
	assert.Contains(t, strings.Join(r.Ending.Log, "\n"), "the bridge has broken")

	p.Build.Server.Restart = time.Second
	r = played(t, p, Options{})
	require.NotEmpty(t, r.Ending.Breaks)
	assert.Equal(t, ending.Crashed, r.Ending.Breaks[0].Kind)
	assert.InDelta(t, 1, time.Duration(r.Ending.Breaks[0].Back-r.Ending.Breaks[0].At).Seconds(), 0.01, "it came back after a second of virtual time")
}

func TestWhatBotsDidOnTheVirtualClockIsPlayedAgain(t *testing.T) {
	p := onBridge(t, "", "", comeAndGo)
	script := map[string][]bot.Moment{}
	one := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "one"), Acted: func(name string, m bot.Moment) { script[name] = append(script[name], m) }})
	require.NotEmpty(t, script["moss"])
	var carried []string
	two := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "two"), Script: script, Packet: func(p Packet) {
		if p.Describe != nil && len(carried) < 2 {
			carried = append(carried, p.Describe())
		}
	}})
	assert.Equal(t, one.Measures.Timing.Supervised.Visible, two.Measures.Timing.Supervised.Visible)
	require.Len(t, carried, 2)
	assert.Equal(t, "come fern", carried[0])
}

func TestAMatchOnTheVirtualClockCanBeInterrupted(t *testing.T) {
	p := onBridge(t, "", "", "{name: fern}")
	p.Duration = time.Hour
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	far := false
	r, err := Run(ctx, p, Options{Progress: func(now Progress) {
		if now.At > 2*time.Second && !far {
			far = true
			cancel()
		}
	}})
	require.NoError(t, err)
	assert.Equal(t, ending.Interrupted, r.Ending.How)
	assert.Less(t, r.Played, time.Hour)
}

func TestAPreflightOnTheVirtualClock(t *testing.T) {
	p := onBridge(t, "", "", "{name: fern}, {name: moss}")
	var failed []Step
	_, err := Preflight(context.Background(), p, Options{}, func(s Step) {
		if s.Error != "" {
			failed = append(failed, s)
		}
	})
	require.NoError(t, err)
	for _, s := range failed { // nobody reads inputs in this game
		assert.Contains(t, s.Name, "input")
	}
}

func TestAProgramThatUsesMoreMemoryThanItMayEndsTheMatch(t *testing.T) {
	p := onBridge(t, "", "", "{name: fern, link: plank}")
	p.Build.MemoryMB = 1
	r := played(t, p, Options{Folder: filepath.Join(t.TempDir(), "run")})
	assert.Equal(t, ending.Failed, r.Ending.How)
	assert.Regexp(t, `^server uses \d+ MB of memory, and the plan allows 1 \(build: memory-mb\)$`, r.Ending.Why)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
}
