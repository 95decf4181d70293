package plan

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
	"zitherwheel/internal/bot"
	"zitherwheel/internal/demo/hillfold"
)

const built = `
clock: wall
game: {name: pond, rates: {tick: 25}, faults: [anything]}
build:
  folder: bin
  env: {LEVEL: 3}
  ports: {game: udp:7000, chat: tcp}
  server: {run: "./server --port {port} 'two words'", ready: {log: "ready|up", within: 3s}, drive: input}
  client: {run: [./client, "{name}", "{port-chat}"], trace: "{name}.jsonl", keep-running: true, stop: {signal: interrupt, within: 1s}}
  place: [x, z]
  heading: yaw
bots: [{name: fern, steps: [{do: join}, {do: hold, inputs: [crouch]}, {do: press, input: wave}]}]
watch: [{entities: "*/*", fields: existence}]
`

func TestABuildIsReadAndWrittenAgain(t *testing.T) {
	p, err := Parse(filepath.Join("games", "pond.yaml"), []byte(built))
	require.NoError(t, err)
	b := p.Build
	here, err := filepath.Abs(filepath.Join("games", "bin"))
	require.NoError(t, err)
	assert.Equal(t, here, b.Folder)
	assert.Equal(t, []Port{{"game", "udp", 7000}, {"chat", "tcp", 0}}, b.Ports)
	assert.Equal(t, []string{"./server", "--port", "{port}", "two words"}, b.Server.Run)
	assert.Equal(t, Ready{Log: "ready|up", Within: 3 * time.Second}, b.Server.Ready)
	assert.Equal(t, InputDrive, b.Server.Drive)
	assert.Equal(t, OutputTrace, b.Server.Trace)
	assert.Equal(t, "{name}.jsonl", b.Client.Trace)
	assert.True(t, b.Client.KeepRunning)
	assert.Equal(t, Stop{"interrupt", time.Second}, b.Client.Stop)
	assert.Equal(t, map[string]string{"LEVEL": "3"}, b.Env)
	assert.Len(t, p.Rules.Fields, 1, "the demo game's rules are not those of other games")
	assert.Equal(t, b, p.ToBringUp())

	text, err := p.YAML()
	require.NoError(t, err)
	again, err := Parse("elsewhere/plan.yaml", text)
	require.NoError(t, err, string(text))
	assert.Equal(t, b, again.Build)
}

func TestTheDemoGameIsBroughtUpByThisProgram(t *testing.T) {
	p, err := Parse("p.yaml", []byte("clock: wall\ngame: {faults: [narrow-numbers], population: 7}\nbots: [{name: fern}]"))
	require.NoError(t, err)
	assert.False(t, p.Build.Given())
	b := p.ToBringUp()
	assert.Contains(t, b.Server.Run, "7")
	assert.Contains(t, b.Client.Run, "{faults}")
	assert.Equal(t, "zwheel --seed 9", Fill("{zwheel} --seed {seed}", map[string]string{"zwheel": "zwheel", "seed": "9"}))
	assert.Equal(t, "{unknown}", Fill("{unknown}", nil))
}

func TestWhatIsWrongWithABuildIsSaid(t *testing.T) {
	const bots, rules = "bots: [{name: fern}]\n", "watch: [{entities: '*/*', fields: existence}]\n"
	for _, c := range []struct{ text, message string }{
		{"game: {name: pond}\n" + bots, `p.yaml: game: "pond" is no demo game of ours; say how it is started under build, or write name: hillfold`},
		{"build: {server: {run: a}}\n" + bots, "p.yaml: build: it says nothing of clients; say under client how one is run"},
		{"reference: fern\nbuild: {attach: '127.0.0.1:7000', client: {run: a}}\n" + bots, "p.yaml: clock: a server that runs already (attach:) is on the wall clock; write clock: wall"},
		{"clock: wall\ngame: {name: pond}\nbuild: {client: {run: a}}\n" + bots + rules, "p.yaml: build: the server is one of three: server: with run:, attach: with the address of one that runs, or game: host: with the name of a bot"},
		{"clock: wall\ngame: {name: pond, host: fern}\nbuild: {client: {run: a}}\n" + bots + rules, "p.yaml: build: fern is the host, so say under host how it is run"},
		{"clock: wall\ngame: {name: pond}\nbuild: {server: {run: a}, client: {run: b}}\nreference: none\n" + bots, "p.yaml: watch: there are no rules, so nothing would be compared; say which fields are to agree, see docs/integrating.md. If no program tells a trace yet, write trace: none under server and client: the match is then judged by its logs"},
		{"clock: wall\ngame: {name: pond}\nbuild: {server: {run: a, trace: none}, client: {run: b, trace: none}}\nwatch: [{entities: \"*/*\", fields: x}]\n" + bots, "p.yaml: watch: no program tells a trace (trace: none), so there is nothing that these rules could compare"},
		{"clock: wall\ngame: {name: pond}\nbuild: {attach: here, client: {run: b}}\n" + bots + rules, `p.yaml: build: attach: "here" is not an address; write HOST:PORT`},
		{"clock: wall\ngame: {name: pond}\nbuild: {attach: 'here:70', client: {run: b}}\n" + bots + rules, "p.yaml: reference: a server that is only attached to says nothing, so nothing can be held against it; write a bot's name, or none"},
		{"clock: wall\ngame: {name: pond}\nbuild: {server: {run: a}, client: {run: b, drive: socket}}\n" + bots + rules, "p.yaml: build: drive: control lines can only come over a socket if the trace goes there: write trace: socket too"},
		{"clock: wall\ngame: {name: pond}\nbuild: {server: {run: a}, client: {run: b}, place: x}\n" + bots + rules, "p.yaml: build: place: name the two fields that tell where a thing is on the ground, like [x, z]"},
		{"clock: wall\ngame: {name: pond}\nbuild: {server: {run: a}, client: {run: b}}\nbots: [{name: fern, on: mill}]\n" + rules, `p.yaml: build: address: "" is no address; for clients on other machines (on:) write the one by which they reach the server, like 10.7.0.1`},
		{"clock: wall\ngame: {name: pond}\nbuild: {address: 10.7.0.1, server: {run: a}, client: {run: b, trace: ../x.jsonl}}\nbots: [{name: fern, on: mill}]\n" + rules, "p.yaml: build: client: trace: ../x.jsonl is not below the build's folder, and on another machine (on:) a client writes nowhere else"},
		{"clock: wall\nbots: [{name: fern, on: mill}]\n", "p.yaml: bots: on: the demo game is part of this program, and starts nowhere else; give the plan a build"},
		{"game: {name: pond}\nbuild: {address: 10.7.0.1, server: {run: a}, client: {run: b}}\nbots: [{name: fern, on: mill}]\n" + rules, "p.yaml: bots: on: other machines have a clock of their own, which no match on the virtual clock can own; write clock: wall"},
		{"build: {server: {run: 'a {prot}'}}\n" + bots, "p.yaml:1:23: run: there is nothing called {prot}; there are {host}, {port}, {name}, {seed}, {trace}, {tick}, {send}, {fps}, {report}, {faults}, {duration}, {zwheel}, and {port-NAME}"},
		{"build: {server: {run: []}}\n" + bots, "p.yaml:1:23: run: it names no program"},
		{"build: {ports: {game: pigeon}}\n" + bots, `p.yaml:1:23: ports: "pigeon" is not a port; write udp or tcp, or with its number, like udp:7000`},
		{"build: {ports: 7000}\n" + bots, `p.yaml:1:16: ports: "7000" is not a mapping from names to ports, like game: udp:7000`},
		{"build: {env: [a]}\n" + bots, `p.yaml:1:14: env: a list is not a mapping from names to values`},
		{"build: {server: {ready: {log: '('}}}\n" + bots, "p.yaml:1:31: log: error parsing regexp: missing closing ): `(`"},
	} {
		_, err := Parse("p.yaml", []byte(c.text))
		assert.EqualError(t, err, c.message, c.text)
	}
}

// What is nothing in a build stays nothing: no default comes in its place.
func TestABuildIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		span := func(name string) time.Duration {
			return time.Duration(rapid.OneOf(rapid.Just(int64(0)), rapid.Int64Range(0, 9000)).Draw(t, name)) * time.Millisecond
		}
		p := Defaults()
		p.Clock, p.Game.Name = Wall, "x"
		p.Bots = []Bot{{Name: "fern", Steps: []bot.Step{{Do: bot.Join}}}}
		p.Rules.Fields = GameRules(hillfold.Game{}).Fields[:1]
		p.Strict = rapid.Bool().Draw(t, "strict")
		b := &p.Build
		b.Folder = "/game"
		b.Ports = []Port{{Name: "game", Network: "tcp", Number: rapid.IntRange(0, 65535).Draw(t, "port")}}
		b.Server.Run, b.Client.Run = []string{"server"}, []string{`C:\game\client.exe`, "a b"}
		for _, g := range []*Program{&b.Server, &b.Client} {
			g.Ready = Ready{Line: rapid.Bool().Draw(t, "line"), After: span("after"), Within: span("ready within")}
			g.Stop.Within = span("stop within")
			g.KeepRunning = rapid.Bool().Draw(t, "stays")
		}
		b.Server.Restart = span("restart")
		b.Area = [2]float64{float64(rapid.IntRange(0, 3).Draw(t, "width")), float64(rapid.IntRange(0, 3).Draw(t, "height"))}
		text, err := p.YAML()
		require.NoError(t, err)
		again, err := Parse("p.yaml", text)
		require.NoError(t, err, string(text))
		require.Equal(t, p.Build, again.Build)
		require.Equal(t, p.Strict, again.Strict)
		twice, err := again.YAML()
		require.NoError(t, err)
		require.Equal(t, string(text), string(twice))
	})
}
