package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
)

const varied = `
title: to vary
seed: 7
duration: 20s
links:
  hill: {latency: 80ms, loss: 4%, changes: [{at: 5s, loss: 10%}]}
bots:
  - {name: fern, link: hill}
  - name: moss
    link: village
    steps: [{do: join}, {do: roam}]
`

func TestAnyValueOfAPlanCanBeVaried(t *testing.T) {
	p, err := Parse("p.yaml", []byte(varied))
	require.NoError(t, err)
	p.Seed = 99 // as the command line had it
	for _, row := range []struct {
		path, value string
		is          func(p *Plan) any
		want        any
	}{
		{"duration", "12s", func(p *Plan) any { return p.Duration }, 12 * time.Second},
		{"game.rates.send", "10", func(p *Plan) any { return p.Game.Send }, 10},
		{"game.faults", "[coarse-grid, two-masters]", func(p *Plan) any { return p.Game.Faults }, []string{"coarse-grid", "two-masters"}},
		{"links.hill.loss", "20%", func(p *Plan) any { return p.LinkOf(p.Bots[0]).Up.Loss }, 0.2},
		{"links.hill.down.latency", "5ms", func(p *Plan) any { return p.LinkOf(p.Bots[0]).Down.Latency }, 5 * ms},
		{"links.village.loss", "20%", func(p *Plan) any { l := p.LinkOf(p.Bots[1]); return []any{l.Up.Loss, l.Down.Latency} }, []any{0.2, 25 * ms}},
		{"bots.moss.fps", "30", func(p *Plan) any { return p.Bots[1].FPS }, 30},
		{"bots.2.link", "hill", func(p *Plan) any { return p.Bots[1].Link }, "hill"},
		{"latency", "300ms", func(p *Plan) any { return p.LinkOf(p.Bots[1]).Up.Latency }, 300 * ms},
		{"loss", "50%", func(p *Plan) any { return p.LinkOf(p.Bots[0]).Down.Changes[0].Loss }, 0.5},
		{"bots", "4", func(p *Plan) any { return []string{p.Bots[2].Name, p.Bots[3].Name, p.Bots[3].Link} }, []string{"moss-3", "moss-4", "village"}},
		{"bots", "1", func(p *Plan) any { return len(p.Bots) }, 1},
	} {
		v, err := p.Vary([]Change{{row.path, row.value}})
		require.NoError(t, err, row.path)
		assert.Equal(t, row.want, row.is(v), row.path)
		assert.Equal(t, uint64(99), v.Seed, "the seed stays")
	}
	both, err := p.Vary([]Change{{"latency", "10ms"}, {"bots", "3"}, {"game.population", "1"}})
	require.NoError(t, err)
	for _, b := range both.Bots {
		assert.Equal(t, 10*ms, both.LinkOf(b).Up.Latency, "%s: more bots first, then their links", b.Name)
	}
	assert.Equal(t, 0.04, both.LinkOf(both.Bots[0]).Up.Loss, "the rest of a link stays")
	for path, wrong := range map[string]string{"game.sheeep": "there is no key", "bots.rowan.fps": `there is no "rowan" in that list`, "duration.much": "has no", "loss": "not a share"} {
		_, err := p.Vary([]Change{{path, "much"}})
		assert.ErrorContains(t, err, wrong, path)
	}
}

func TestWhatIsDrawnIsDrawnByTheSeed(t *testing.T) {
	p, err := Parse("p.yaml", []byte(varied+`
draw:
  roles: true
  links: [village, far-shore, hill]
  acts: [roam, idle, chase sheep]
  values: {game.rates.send: [10, 20, 30], bots.fern.fps: [30, 60]}
`))
	require.NoError(t, err)
	seen := map[string]map[string]bool{"link": {}, "act": {}, "send": {}, "role": {}}
	for seed := range uint64(40) {
		one := *p
		one.Seed = seed
		drawn, values, err := one.Drawn()
		require.NoError(t, err)
		again, _, err := one.Drawn()
		require.NoError(t, err)
		assert.Equal(t, read(drawn), read(again), "the same seed draws the same")
		assert.Equal(t, seed, drawn.Seed)
		require.Len(t, values, 2)
		assert.Equal(t, Change{"game.rates.send", values[0].Value}, values[0])
		seen["send"][values[0].Value] = true
		for _, b := range drawn.Bots {
			seen["link"][b.Link] = true
			for _, s := range b.Steps {
				seen["act"][s.Do] = true
			}
		}
		text, err := drawn.YAML()
		require.NoError(t, err)
		assert.NotContains(t, string(text), "draw:", "what was drawn is a plan like any other")
		_, err = Parse("drawn.yaml", text)
		require.NoError(t, err)
	}
	assert.Len(t, seen["link"], 3)
	assert.Equal(t, map[string]bool{bot.Join: true, bot.Roam: true, bot.Idle: true, bot.Chase: true}, seen["act"])
	assert.Len(t, seen["send"], 3)
	plain, err := Parse("p.yaml", []byte(varied))
	require.NoError(t, err)
	same, values, err := plain.Drawn()
	require.NoError(t, err)
	assert.Same(t, plain, same)
	assert.Empty(t, values)
}

func TestWhatCannotBeDrawnIsAnErrorAtOnce(t *testing.T) {
	for text, wrong := range map[string]string{
		"draw: {links: [bog]}":                    `there is no link "bog"`,
		"draw: {acts: [dance]}":                   `"dance" cannot be done instead of roaming`,
		"draw: {acts: [chase]}":                   `"chase" cannot be done instead of roaming`,
		"draw: {values: {game.rates.send: [0]}}":  "game.rates.send: send",
		"draw: {values: {game.rates.sendd: [3]}}": "there is no key",
		"draw: {values: {game.rates.send: []}}":   "there is nothing to draw from",
		"draw: {values: [1]}":                     "is not a mapping",
	} {
		_, err := Parse("p.yaml", []byte(varied+text))
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestOutcomesOfSinglePacketsInAPlan(t *testing.T) {
	text := `
bots: [{name: fern, link: odd}]
links:
  odd:
    down:
      latency: 20ms
      outcomes:
        - {packet: 3, dropped: lost}
        - {packet: 5, after: 90ms}
        - {packet: 6, after: [20ms, 35ms], flipped: 12}
    up:
      outcomes: [{packet: 9, dropped: lost, sent: 1250ms, bytes: 57}]
`
	p, err := Parse("p.yaml", []byte(text))
	require.NoError(t, err)
	want := []link.Given{{Number: 3, Dropped: link.Lost}, {Number: 5, Copies: 1, Delay: [2]time.Duration{90 * ms}}, {Number: 6, Copies: 2, Delay: [2]time.Duration{20 * ms, 35 * ms}, Flipped: 12}}
	assert.Equal(t, want, p.Links[0].Down.Given)
	assert.Equal(t, []link.Given{{Number: 9, Dropped: link.Lost, Like: link.Recorded{Sent: 1250 * ms, Size: 57}}}, p.Links[0].Up.Given)
	for _, write := range []func(*Plan) ([]byte, error){(*Plan).YAML, (*Plan).Brief} {
		written, err := write(p)
		require.NoError(t, err)
		again, err := Parse("again.yaml", written)
		require.NoError(t, err, "%s", written)
		assert.Equal(t, read(p), read(again), "%s", written)
	}
	for outcome, wrong := range map[string]string{
		"{packet: 0, dropped: lost}":                       "packet: \"0\" is not a whole number",
		"{packet: 3}":                                      "packet 3 is either dropped: with a reason, or arrives after: some time",
		"{packet: 3, dropped: lost, after: 5ms}":           "packet 3 is either dropped",
		"{packet: 3, dropped: eaten}":                      "is not known",
		"{packet: 3, after: [9ms, 5ms]}":                   "its second copy before its first",
		"{packet: 3, after: [1ms, 2ms, 3ms]}":              "at most twice",
		"{packet: 3, after: 1ms}, {packet: 3, after: 1ms}": "packet 3 stands behind packet 3",

		"{packet: 3, after: 1ms, sent: 2s}":                                                            "how many bytes: they have",
		"{packet: 3, after: 1ms, bytes: 9}, {packet: 4, after: 1ms}":                                   "say of all or of none",
		"{packet: 3, after: 1ms, bytes: 9, sent: 2s}, {packet: 4, after: 1ms, bytes: 9, sent: 1900ms}": "packet 4 was sent before packet 3",
	} {
		_, err := Parse("p.yaml", []byte("bots: [{name: fern, link: odd}]\nlinks: {odd: {outcomes: ["+outcome+"]}}\n"))
		assert.ErrorContains(t, err, wrong, outcome)
	}
}

func TestABriefPlanSaysOnlyWhatIsNotUsual(t *testing.T) {
	p, err := Parse("p.yaml", []byte("title: brief\nduration: 5s\nseed: 3\ngame: {population: 2, faults: [coarse-grid]}\nbots: [{name: fern, link: hill-farm}, {name: moss}]\nevents: [{event: bark, max-delay: 1s}]\nlimits: {unevenness: 9}\n"))
	require.NoError(t, err)
	text, err := p.Brief()
	require.NoError(t, err)
	again, err := Parse("brief.yaml", text)
	require.NoError(t, err)
	assert.Equal(t, read(p), read(again))
	for _, not := range []string{"watch:", "rates:", "sequences:", "build:", "clock:", "links:"} {
		assert.NotContains(t, string(text), not)
	}
	assert.Contains(t, string(text), "max-delay: 1s")
	assert.Contains(t, string(text), "unevenness: 9")
}

// Whatever a plan says, what is written of it reads the same, in full and in brief.
func TestWhatIsWrittenReadsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pick := func(name string, list ...string) string { return rapid.SampledFrom(list).Draw(t, name) }
		text := "seed: " + pick("seed", "1", "7", "18446744073709551615") + "\nduration: " + pick("length", "5s", "60s", "1m30s") + "\n"
		text += "game: {" + pick("sheep", "population: 0", "population: 20") + pick("faults", "", ", faults: [two-masters, coarse-grid]") + pick("radius", "", ", interest-radius: 25") +
			pick("places", "", ", max-players: 2") + pick("rates", "", ", rates: {send: 10}", ", rates: {tick: 60, send: 60, fps: 144, report: 30}") + "}\n"
		text += "links:\n  a: {latency: " + pick("latency", "0s", "80ms") + pick("loss", "", ", loss: 4%, burst: 3") + pick("outcomes", "", ", outcomes: [{packet: 9, dropped: lost}, {packet: 12, after: 4ms}]") +
			pick("changes", "", ", changes: [{at: 3s, loss: 50%}, {at: 4s, loss: 0}]") + pick("outages", "", ", outages: [{at: 2s, for: 100ms}]") + "}\n"
		text += "  b: {up: {latency: 10ms}, down: {" + pick("down", "", "jitter: 5ms, spread: heavy-tail", "rate: 2Mbit/s, queue: 64KiB") + "}}\n"
		text += "bots:\n  - {name: fern, link: " + pick("link", "a", "b", "village") + pick("frame", "", ", fps: 30") + "}\n"
		text += "  - name: moss\n    steps: [{do: join" + pick("at", "", ", at: 3s") + "}, {do: hold, inputs: [forward], turn: " + pick("turn", "0", "-0.35", "1") + ", for: 2s}, {do: " + pick("act", "roam", "chase, kind: sheep", "idle") + "}]\n"
		text += pick("events", "", "events: [{event: bark, max-delay: 1s}]\n") + pick("limits", "", "limits: {unevenness: 9}\n") + pick("logs", "", "logs: [{match: lost, in: clients, at-most: 0}, {match: \"joined: moss\", at-least: 1}]\n") + pick("reference", "", "reference: none\n", "reference: moss\n") +
			pick("draw", "", "draw: {roles: true, links: [a, b], values: {game.population: [1, 2]}}\n")
		p, err := Parse("p.yaml", []byte(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		for name, write := range map[string]func(*Plan) ([]byte, error){"in full": (*Plan).YAML, "in brief": (*Plan).Brief} {
			written, err := write(p)
			if err != nil {
				t.Fatal(err)
			}
			again, err := Parse("again.yaml", written)
			if err != nil {
				t.Fatalf("%s: %v\n%s", name, err, written)
			}
			assert.Equal(t, read(p), read(again), "%s:\n%s", name, written)
			twice, err := write(again)
			if err != nil {
				t.Fatal(err)
			}
			assert.Equal(t, string(written), string(twice), name)
		}
	})
}

// The same holds for plans with a build of one's own.
func TestABuildAsWrittenReadsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pick := func(name string, list ...string) string { return rapid.SampledFrom(list).Draw(t, name) }
		text := "clock: wall\nduration: 5s\nbots: [{name: fern}]\nwatch: [{entities: boat/*, fields: [x, z], compare: distance, tolerance: " + pick("tolerance", "0.5", "2") + "}]\n" +
			pick("name", "", "game: {name: regatta}\n") + "build:\n  folder: /builds/regatta\n" +
			"  server: {run: [./server, --port, '{port}']" + pick("trace", "", ", trace: socket", ", trace: server.jsonl") + pick("ready", "", ", ready: {log: 'listening', within: 4s}", ", ready: {after: 1s}") + pick("restart", "", ", restart: 2s") + "}\n" +
			"  client: {run: './client {name} {fps}'" + pick("keep", "", ", keep-running: true") + pick("drive", "", ", drive: none") + pick("stop", "", ", stop: {signal: interrupt, within: 1s}") + pick("env", "", ", env: {MODE: test}") + "}\n" +
			pick("rate", "", "  control-rate: 30\n") + pick("area", "", "  area: [80, 60]\n") + pick("place", "", "  place: [x, z]\n") + pick("ports", "", "  ports: [{name: game, network: tcp}]\n")
		p, err := Parse("/plans/p.yaml", []byte(text))
		if err != nil {
			t.Skip(err) // a combination that is none
		}
		written, err := p.YAML()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Parse("/plans/again.yaml", written)
		if err != nil {
			t.Fatalf("%v\n%s", err, written)
		}
		assert.Equal(t, read(p), read(again), string(written))
		twice, err := again.YAML()
		if err != nil {
			t.Fatal(err)
		}
		assert.Equal(t, string(written), string(twice))
	})
}
