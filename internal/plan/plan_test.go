package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

const ms = time.Millisecond

const whole = `
title: Three dogs on the moor
seed: 42
duration: 12s
game:
  population: 5
  rates: {tick: 20, report: 10}
  faults: [lost-goodbye]
bots:
  - name: fern
    link: moor
    steps:
      - {do: join, at: 1s}
      - {do: hold, inputs: [forward, run], for: 2s}
      - {do: go, to: [10, -5]}
      - {do: chase, kind: sheep, for: 3s}
      - {do: press, input: bark}
      - {do: leave, at: 9s}
  - {name: dog, count: 2}
links:
  moor:
    latency: 80ms
    loss: 4%
    burst: 3
    down: {latency: 90ms, jitter: 25ms, reorder: true, duplicate: 0.01}
watch:
  - {entities: sheep/*, fields: [x, y], compare: distance, tolerance: 1.5, max-delay: 1s}
`

func TestAWholePlan(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(whole))
	require.NoError(t, err)
	assert.Equal(t, "Three dogs on the moor", p.Title)
	assert.Equal(t, uint64(42), p.Seed)
	assert.Equal(t, Game{Name: "hillfold", Population: 5, Tick: 20, Send: 20, FPS: 60, Report: 10, Faults: []string{"lost-goodbye"}}, p.Game)
	assert.Equal(t, link.Pair{Name: "moor",
		Up:   link.Course{Conditions: link.Conditions{Latency: 80 * ms, Loss: 0.04, Burst: 3}},
		Down: link.Course{Conditions: link.Conditions{Latency: 90 * ms, Loss: 0.04, Burst: 3, Jitter: 25 * ms, Reorder: true, Duplicate: 0.01}}},
		p.Links[0], "a direction takes from the link what it does not say itself... and the other way round")
	require.Len(t, p.Bots, 3)
	assert.Equal(t, []bot.Step{
		{Do: bot.Join, At: time.Second},
		{Do: bot.Hold, Inputs: []string{"forward", "run"}, For: 2 * time.Second},
		{Do: bot.Go, To: [2]float64{10, -5}},
		{Do: bot.Chase, Kind: "sheep", For: 3 * time.Second},
		{Do: bot.Press, Input: "bark"},
		{Do: bot.Leave, At: 9 * time.Second},
	}, p.Bots[0].Steps)
	assert.Equal(t, Bot{Name: "dog-2", Steps: []bot.Step{{Do: bot.Join}, {Do: bot.Roam}}}, p.Bots[2], "what a bot does unless told otherwise")

	first := p.Rules.Fields[rulebook.Find(p.Rules.Fields, "sheep/s01", false, "x")]
	assert.Equal(t, 1.5, first.Tolerance, "a rule of the plan comes before the game's")
	assert.Equal(t, rulebook.DefaultMinDuration, first.MinDuration)
	assert.Equal(t, rulebook.Angle, p.Rules.Fields[rulebook.Find(p.Rules.Fields, "sheep/s01", false, "heading")].Compare, "the game's rules fill the rest")
}

func TestAPlanAsWrittenReadsTheSame(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(whole))
	require.NoError(t, err)
	text, err := p.YAML()
	require.NoError(t, err)
	again, err := Parse("resolved.yaml", text)
	require.NoError(t, err, "%s", text)
	assert.Equal(t, read(p), read(again))
}

func TestEveryReadyLinkIsPossible(t *testing.T) {
	for _, l := range link.Ready {
		assert.NoError(t, l.Up.Validate(), l.Name)
		assert.NoError(t, l.Down.Validate(), l.Name)
	}
}

func TestErrorsSayWhereAndWhat(t *testing.T) {
	const bots = "bots: [{name: fern}]\n"
	for _, c := range []struct{ name, text, message string }{
		{"a share", "links:\n  moor:\n    loss: \"3 percent\"\n", `plan.yaml:3:11: loss: "3 percent" is not a share; write 3% or 0.03`},
		{"an unknown key", "titel: x\n" + bots, `plan.yaml:1:1: the plan: there is no key "titel"; did you mean "title"?`},
		{"an unknown key far from all", bots + "zzzzzzzz: 1\n", `plan.yaml:2:1: the plan: there is no key "zzzzzzzz"; the keys are title, seed, duration, clock, game, build, reference, align, strict, max-entities, links, bots, draw, watch, events, effects, invariants, sequences, limits, logs, ticks-per-second, smallest-update`},
		{"a key that was called otherwise", "length: 60s\n" + bots, `plan.yaml:1:1: the plan: there is no key "length"; it is called duration now`},
		{"a word that was called otherwise", bots + "watch:\n  - {entities: dog/*, fields: [x, y], seen-by: near}\n", `plan.yaml:3:48: seen-by: "near" is not known; it is called in-range now`},
		{"a nested key", "game:\n  rates: {tik: 30}\n", `plan.yaml:2:11: rates: there is no key "tik"; did you mean "tick"?`},
		{"a time without a unit", "duration: 60\n" + bots, `plan.yaml:1:11: duration: "60" is not a time span; write a number and its unit, like 80ms, 1.5s or 2m`},
		{"a negative time", "duration: -1s\n" + bots, `plan.yaml:1:11: duration: "-1s" is negative; write 0s or more`},
		{"a rate", "game: {rates: {tick: fast}}\n", `plan.yaml:1:22: tick: "fast" is not a whole number from 1 to 240`},
		{"no bots", "title: x\n", `plan.yaml: no bots; a match needs at least one under the key bots`},
		{"an empty list of bots", "bots: []\n", `plan.yaml: no bots; a match needs at least one under the key bots`},
		{"an empty file", "# nothing\n", `plan.yaml: the file is empty; see docs/plan.md for what a plan looks like`},
		{"a list", "- a\n", `plan.yaml:1:1: the plan: a list is not a mapping of keys to values; the keys are title, seed, duration, clock, game, build, reference, align, strict, max-entities, links, bots, draw, watch, events, effects, invariants, sequences, limits, logs, ticks-per-second, smallest-update`},
		{"an unknown link", "bots:\n  - name: fern\n    link: moor\n", `plan.yaml:2:5: bot fern: there is no link "moor"; there are same-room, village, hill-farm, train-window, far-shore, lost-valley`},
		{"the least plan there is", bots, ``},
		{"the same bot twice", "bots:\n  - name: fern\n  - name: fern\n", `plan.yaml:3:5: bot: the name "fern" is taken; every bot needs its own`},
		{"a bot called server", "bots:\n  - name: server\n", `plan.yaml:2:5: bot: "server" cannot be a bot's name; use up to 32 letters, digits, - and _, begin with a letter or digit, and not a word that systems keep for themselves, like server, none or con`},
		{"two bots whose names differ in case", "bots:\n  - name: fern\n  - name: Fern\n", `plan.yaml:3:5: bot: the names "fern" and "Fern" differ in case only; every bot needs its own`},
		{"all errors at once", "titel: x\nduration: 60\nlinks:\n  moor: {loss: 2}\nbots:\n  - {name: fern, link: moor}\n  - {name: ash, link: mor}\n", `plan.yaml:1:1: the plan: there is no key "titel"; did you mean "title"?
plan.yaml:2:11: duration: "60" is not a time span; write a number and its unit, like 80ms, 1.5s or 2m
plan.yaml:4:16: loss: "2" is not a share; write 3% or 0.03
plan.yaml:7:5: bot ash: there is no link "mor"; there are moor, same-room, village, hill-farm, train-window, far-shore, lost-valley`},
		{"an alias of nothing", "bots: *all\n", `plan.yaml:1:7: nothing before this is named &all`},
		{"an alias of itself", "bots: &all [*all]\n", `plan.yaml:1:13: *all stands within what it stands for`},
		{"a merge of no mapping", "game: {<<: 3}\n" + bots, `plan.yaml:1:12: <<: "3" is not a mapping to merge`},
		{"a bot that never joins", "bots:\n  - {name: fern, steps: [{do: roam}]}\n", `plan.yaml: bot fern never joins; begin its steps with do: join`},
		{"an unknown action", "bots:\n  - name: fern\n    steps:\n      - do: jion\n", `plan.yaml:4:13: do: "jion" is not known; did you mean "join"? write one of join, roam, hold, press, go, chase, idle, leave, rejoin, cheat`},
		{"inputs without hold", "bots:\n  - {name: fern, steps: [{do: roam, inputs: [bark]}]}\n", `plan.yaml:2:26: step: inputs: goes with hold; roam takes input:, one alone, if any`},
		{"hold what", "bots:\n  - {name: fern, steps: [{do: hold}]}\n", `plan.yaml:2:26: step: hold goes with inputs:, a list of forward, left, right, run, or with turn`},
		{"a point", "bots:\n  - {name: fern, steps: [{do: go, to: [1]}]}\n", `plan.yaml:2:39: to: a list is not a point; write two numbers, like [10, -5]`},
		{"an impossible burst", "links:\n  moor: {loss: 90%, burst: 2}\n", `plan.yaml:2:9: link moor: loss: 90% cannot come in bursts of 2 packets on average; at most 66.67% can, or write a longer burst`},
		{"a rule", bots + "watch:\n  - {entities: dog/*, fields: [x, y]}\n", `plan.yaml:3:5: watch rule: fields: only distances are compared together; give each of x, y a rule of its own`},
		{"rates that cannot be", "game: {rates: {send: 60}}\n" + bots, `plan.yaml: rates: a server cannot send 60 times a second with 30 ticks`},
		{"two documents", bots + "---\n" + bots, `plan.yaml:3:5: a second document begins here; a plan is one`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse("plan.yaml", []byte(c.text))
			if c.message == "" {
				assert.NoError(t, err)
			} else {
				assert.EqualError(t, err, c.message)
			}
		})
	}
}

func TestBrokenYAMLNamesThePlace(t *testing.T) {
	_, err := Parse("plan.yaml", []byte("title: [a\nseed: 3\n"))
	assert.ErrorContains(t, err, "plan.yaml:")
	assert.ErrorContains(t, err, "not YAML")
}

func TestNamesOfBotsAreNamesOfFiles(t *testing.T) {
	for _, name := range []string{"..", ".", "a/b", "<b>", "a\\x00b", "con", "NUL", "lpt1", "-x", "none", "börn", strings.Repeat("x", 33), "trailing."} {
		_, err := Parse("plan.yaml", []byte("bots: [{name: \""+name+"\"}]\n"))
		assert.ErrorContains(t, err, "cannot be a bot's name", name)
	}
	for _, name := range []string{"fern", "F-1", "under_score", "7"} {
		_, err := Parse("plan.yaml", []byte("bots: [{name: \""+name+"\"}]\n"))
		assert.NoError(t, err, name)
	}
}

func TestAliasesAndMergesStandForWhatTheyName(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(`
links:
  near: &near {latency: 20ms, loss: 1%}
  far: {<<: *near, latency: 200ms}
  both: {<<: [{jitter: 3ms}, *near]}
bots:
  - &first
    name: fern
    link: far
    steps: &steps [{do: join}, {do: roam, for: 3s}]
  - {<<: *first, name: moss}
  - {name: ash, link: both, steps: *steps}
`))
	require.NoError(t, err)
	require.Len(t, p.Bots, 3)
	assert.Equal(t, p.Bots[0].Steps, p.Bots[1].Steps)
	assert.Equal(t, p.Bots[0].Steps, p.Bots[2].Steps)
	assert.Equal(t, "far", p.Bots[1].Link)
	assert.Equal(t, 200*time.Millisecond, p.Links[1].Up.Latency)
	assert.InDelta(t, 0.01, p.Links[1].Down.Loss, 1e-9)
	assert.Equal(t, 3*time.Millisecond, p.Links[2].Up.Jitter)
	varied, err := p.Vary([]Change{{"links.far.latency", "90ms"}})
	require.NoError(t, err)
	assert.Equal(t, 90*time.Millisecond, varied.Links[1].Up.Latency)
	assert.InDelta(t, 0.01, varied.Links[1].Up.Loss, 1e-9)
}

// Depth and size are bounded before anything is understood, whose memory grows with them.
func TestWhatIsNestedTooDeepIsNotRead(t *testing.T) {
	for what, text := range map[string]string{
		"brackets": "bots: " + strings.Repeat("[", 40_000),
		"braces":   "bots: " + strings.Repeat("{a: ", 40_000),
		"items":    strings.Repeat("- ", 40_000) + "x",
		"indents":  func() string { return strings.Repeat(" ", 500) + "a: 1\n" }(),
	} {
		_, err := Parse("plan.yaml", []byte(text))
		assert.ErrorContains(t, err, "nested more than 60 deep, which no plan is", what)
	}
	_, err := Parse("plan.yaml", []byte("title: "+strings.Repeat("x", mostText)))
	assert.ErrorContains(t, err, "a plan has 4194304 at most")
	_, err = Parse("plan.yaml", []byte("title: \"[[[ { it's fine\" # [[[[\nbots: [{name: fern}]\n"))
	assert.NoError(t, err, "brackets in text are none")
}

func TestCommandsAreSplitAsShellsDo(t *testing.T) {
	for line, want := range map[string][]string{
		`node server.mjs --port {port}`:        {"node", "server.mjs", "--port", "{port}"},
		`C:\game\server.exe -log`:              {`C:\game\server.exe`, "-log"},
		`"C:\my games\server.exe" "-name=a b"`: {`C:\my games\server.exe`, "-name=a b"},
		`\\host\share\x.exe`:                   {`\host\share\x.exe`},
		`a\ b 'c d' "e\"f" ''`:                 {"a b", "c d", `e"f`, ""},
		`'single \" stays'`:                    {`single \" stays`},
		"  many   blanks\t":                    {"many", "blanks"},
	} {
		words, err := splitWords(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, words, line)
	}
	_, err := splitWords(`"open`)
	assert.EqualError(t, err, "a quote in it is not closed")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Add([]byte("bots: *a"))
	f.Fuzz(func(t *testing.T, text []byte) { _, _ = Parse("plan.yaml", text) })
}

// read is what was read of a plan, without what it was read from.
func read(p *Plan) Plan {
	q := *p
	q.file = ""
	return q
}

// What is merged again adds nothing, so it is not read again: else a page of merges of
// merges takes longer than anybody waits.
func TestMergesOfMergesAreReadOnce(t *testing.T) {
	var text strings.Builder
	text.WriteString("bots: [{name: fern, link: l199}]\nlinks:\n  l0: &m0 {latency: 10ms, jitter: 1ms}\n")
	for i := 1; i < 200; i++ {
		fmt.Fprintf(&text, "  l%d: &m%d {jitter: %dms, <<: [*m%d, *m%d]}\n", i, i, i%5, i-1, i-1)
	}
	p, err := Parse("plan.yaml", []byte(text.String()))
	require.NoError(t, err)
	last := p.LinkOf(p.Bots[0])
	assert.Equal(t, 10*time.Millisecond, last.Up.Latency)
	assert.Equal(t, 4*time.Millisecond, last.Up.Jitter)
}
