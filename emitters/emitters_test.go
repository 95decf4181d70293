// Package emitters holds no code: it tests the emitters of trace lines in its
// folders, each in its own language, against one expectation.
package emitters

import (
	"bytes"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	zwtrace "zitherwheel/emitters/go"
	"zitherwheel/internal/trace"
)

func expected(t *testing.T) []byte {
	t.Helper()
	text, err := os.ReadFile("expected.jsonl")
	require.NoError(t, err)
	return text
}

// run runs a command in a folder, or skips the test where its program is missing.
func run(t *testing.T, folder string, words ...string) []byte {
	t.Helper()
	if _, err := exec.LookPath(words[0]); err != nil {
		t.Skipf("%s is not on this machine", words[0])
	}
	c := exec.Command(words[0], words[1:]...)
	c.Dir = folder
	var errors bytes.Buffer
	c.Stderr = &errors
	out, err := c.Output()
	require.NoError(t, err, errors.String())
	return out
}

func TestEveryEmitterWritesTheSameLines(t *testing.T) {
	built := filepath.Join(t.TempDir(), "scenario")
	for _, c := range []struct {
		language string
		folder   string
		commands [][]string // the last one writes the lines
	}{
		{"C", "c", [][]string{{"cc", "-std=c99", "-Wall", "-Wextra", "-Werror", "-Wno-unused-function", "scenario.c", "-o", built}, {built}}},
		{"C++", "c", [][]string{{"c++", "-x", "c++", "-std=c++11", "-Wall", "-Werror", "-Wno-unused-function", "scenario.c", "-o", built + "++"}, {built + "++"}}},
		{"C#", "csharp", [][]string{{"mcs", "-out:" + built + ".exe", "ZwTrace.cs", "Scenario.cs"}, {"mono", built + ".exe"}}},
		{"JavaScript", "javascript", [][]string{{"node", "scenario.mjs"}}},
		{"JavaScript, required", "javascript", [][]string{{"node", "-e", required(t)}}},
		{"Python", "python", [][]string{{"python3", "-B", "scenario.py"}}},
		{"Rust", "rust", [][]string{{"rustc", "--edition", "2018", "-D", "warnings", "-o", built + "-rust", "scenario.rs"}, {built + "-rust"}}},
		{"Java", "java", [][]string{{"javac", "-Xlint:all", "-Werror", "--release", "8", "-Xlint:-options", "-d", filepath.Dir(built), "ZwTrace.java", "Scenario.java"}, {"java", "-cp", filepath.Dir(built), "Scenario"}}},
		{"Lua", "lua", [][]string{{lua(), "scenario.lua"}}},
	} {
		t.Run(c.language, func(t *testing.T) {
			var out []byte
			for _, words := range c.commands {
				out = run(t, c.folder, words...)
			}
			assert.Equal(t, string(expected(t)), string(out))
		})
	}
	t.Run("Go", func(t *testing.T) {
		var out bytes.Buffer
		scenario(&out)
		assert.Equal(t, string(expected(t)), out.String())
	})
}

// required is the scenario in JavaScript with the emitter as a CommonJS module.
func required(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("javascript/scenario.mjs")
	require.NoError(t, err)
	return strings.Replace(string(text), "import { Trace } from './zwtrace.mjs'", "const { Trace } = require('./zwtrace.cjs')", 1)
}

// There is one emitter in JavaScript: the one that is required differs in how it is handed out.
func TestBothModulesInJavaScriptAreOne(t *testing.T) {
	module, err := os.ReadFile("javascript/zwtrace.mjs")
	require.NoError(t, err)
	common, err := os.ReadFile("javascript/zwtrace.cjs")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(string(module), "export class", "class", 1)+"\nmodule.exports = { Trace }\n", string(common))
}

// A game that draws by itself draws the same for one seed and name, and otherwise for others.
func TestSeedsReachWhatAGameDraws(t *testing.T) {
	program := filepath.Join(t.TempDir(), "draws.py")
	require.NoError(t, os.WriteFile(program, []byte("import random, sys\nprint(sys.argv[1:], random.random(), random.random())\n"), 0o600))
	for language, words := range map[string][]string{
		"JavaScript": {"node", "-r", "./javascript/zwseed.cjs", "-e", "console.log(process.argv.slice(1), Math.random(), Math.random())", "word"},
		"Python":     {"python3", "-B", "python/zwseed.py", program, "word"},
	} {
		t.Run(language, func(t *testing.T) {
			drawn := func(seed, name string) string {
				t.Setenv("ZWHEEL_SEED", seed)
				t.Setenv("ZWHEEL_NAME", name)
				out := string(run(t, ".", words...))
				assert.Contains(t, out, "word")
				return out
			}
			assert.Equal(t, drawn("7", "fern"), drawn("7", "fern"))
			assert.NotEqual(t, drawn("7", "fern"), drawn("8", "fern"))
			assert.NotEqual(t, drawn("7", "fern"), drawn("7", "moss"))
			assert.NotEqual(t, drawn("", ""), drawn("", ""), "where no match is played nothing is changed")
		})
	}
}

// lua is what Lua is called here.
func lua() string {
	for _, name := range []string{"lua", "lua5.4", "luajit", "lua5.1"} {
		if _, err := exec.LookPath(name); err == nil {
			return name
		}
	}
	return "lua"
}

// scenario is what every emitter is made to say.
func scenario(out io.Writer) {
	tr := zwtrace.New(out)
	picture := func(t float64, tick int64, x float64, gait string, tired bool, rest func()) {
		tr.Begin(t, tick)
		tr.Number("dog/fern", "x", x)
		tr.Text("dog/fern", "gait", gait)
		tr.Flag("dog/fern", "tired", tired)
		rest()
		tr.End()
	}
	nothing := func() {}
	sheep := func() {
		tr.Number("sheep/s01", "x", 10)
		tr.Number("sheep/s01", "y", 0.5)
	}
	gate := func() { tr.Text("gate/n", "label", "say \"hi\"\\\n\x01 über 羊") }
	tr.Joined(0, "fern", "dog/fern")
	picture(0, 0, -3.25, "run", false, sheep)
	picture(0.05, 1, -2.875, "run", false, sheep)
	picture(0.1, 2, -2.875, "run", false, sheep)
	picture(0.15, 3, -2.875, "trot", true, gate)
	tr.Event(0.16, "bark", "81", "dog/fern", "fern", "moss", `{"loud":true}`)
	tr.Event(0.17, "final", "", "", "", "", "")
	tr.Input(0.18, "run", 12)
	tr.Checkpoint(0.19, "touch", "7", "bell/brass", "fern", "")
	tr.Sent(0.191, "1042", "fern", `"sheep/s01 is gone"`, 96)
	tr.Got(0.192, "7", "fern")
	tr.Clock(0.2, 0.081, 12.5)
	picture(0.25, 5, math.NaN(), "trot", true, func() {
		gate()
		tr.Number("sheep/s02", "x", math.Inf(1))
		tr.Number("sheep/s02", "y", math.Inf(-1))
	})
	picture(1, 20, 1234567.891, "trot", true, nothing)
	picture(1.1, -1, 0, "trot", true, nothing)
	own := func() {
		tr.Received()
		tr.Number("dog/fern", "x", 0.125)
		tr.Predicted()
		tr.Number("dog/fern", "x", 0.5)
		tr.Flag("dog/fern", "tired", false)
	}
	picture(1.2, -1, 0, "trot", true, own)
	picture(1.3, -1, 0, "trot", true, own)
	tr.At(25)
	tr.Left(1.5, "fern")
	tr.Refused(1.6, "oak")
}

// What the emitters write must be what the reader reads, without a flaw.
func TestTheExpectationIsReadAsItIsMeant(t *testing.T) {
	names := trace.NewNames()
	r := trace.NewReader(bytes.NewReader(expected(t)), names)
	var records []trace.Record
	for {
		var rec trace.Record
		if err := r.Next(&rec); err != nil {
			require.ErrorIs(t, err, io.EOF)
			break
		}
		records = append(records, rec)
	}
	flaws := r.Flaws()
	assert.Zero(t, flaws.Malformed+flaws.LogText+flaws.Backward)
	require.Len(t, records, 18)
	assert.True(t, records[1].Full)
	assert.Len(t, records[2].State, 1, "only what has changed")
	assert.Equal(t, int64(2), records[3].Tick, "a tick at which nothing has changed is told")
	assert.Empty(t, records[3].State)
	assert.Equal(t, "say \"hi\"\\\n\x01 über 羊", names.TextOf(records[4].State[2].Value))
	assert.Equal(t, "sheep/s01", names.EntityID(records[4].Despawned[0]))
	assert.Equal(t, "moss", records[5].To)
	assert.Equal(t, int64(3), records[5].Tick, "an event is of the tick of the snapshot before it")
	assert.JSONEq(t, `{"loud":true}`, records[5].Data)
	assert.Len(t, records[15].Received, 1)
	assert.Len(t, records[15].Predicted, 2)
	assert.Equal(t, uint64(12), records[7].Seq)
	assert.Equal(t, []any{"1042", "fern", `"sheep/s01 is gone"`, int64(96)}, []any{records[9].Sent, records[9].To, records[9].Data, records[9].Bytes})
	assert.Equal(t, []string{"7", "fern"}, []string{records[10].Got, records[10].By})
	assert.Equal(t, int64(25), records[16].Tick, "or of the one that was said")
	assert.True(t, records[11].HasPing)
}

// The stand-in game has a copy of its emitter, as a game would.
func TestTheCopiesInTheExamplesAreTheEmitters(t *testing.T) {
	for ours, copied := range map[string]string{"javascript/zwtrace.mjs": "../examples/millpond/zwtrace.mjs", "python/zwtrace.py": "../examples/stonewain/zwtrace.py"} {
		a, err := os.ReadFile(ours)
		require.NoError(t, err)
		b, err := os.ReadFile(copied)
		require.NoError(t, err)
		assert.Equal(t, string(a), string(b))
	}
}
