package logs

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestLevelsOfLines(t *testing.T) {
	for text, want := range map[string]Level{
		"ERROR could not find entity 17":                                        Error,
		"[2026-01-02 10:00:00] [error] lost it":                                 Error,
		`{"level":"error","msg":"boat gone"}`:                                   Error,
		"level=error msg=\"boat gone\"":                                         Error,
		"TypeError: Cannot read properties of undefined (reading 'x')":          Error,
		"NullReferenceException: Object reference not set":                      Error,
		"java.lang.IllegalStateException: no boat":                              Error,
		"Traceback (most recent call last):":                                    Error,
		"panic: runtime error: index out of range [3] with length 3":            Error,
		"Assertion failed: (boat != NULL), function row, file boat.c, line 12.": Error,
		"==123==ERROR: AddressSanitizer: heap-use-after-free":                   Error,
		"WARNING: DATA RACE":                                                    Error,
		"Segmentation fault (core dumped)":                                      Error,
		"attempt to index a nil value, nil has no field 'boat'":                 Error,
		"no such entity: 41":                                                    Error,
		"warning: 3 boats without an owner":                                     Warning,
		"WARN  [net] resend queue is long":                                      Warning,
		"row() is deprecated":                                                   Warning,
		"finished with 0 errors":                                                "",
		"no errors":                                                             "",
		"sync ok, error=0, rate 20":                                             "",
		`{"ok":true,"error":null}`:                                              "",
		"boat/7 passed the weir":                                                "",
		"loaded assets/error-sprites.png":                                       "",
		"listening on 127.0.0.1:7777":                                           "",
		"terrors of the deep, level 3":                                          "",
	} {
		assert.Equal(t, want, LevelOf(text), text)
	}
}

func TestLinesThatSayTheSameAreOneKind(t *testing.T) {
	var c Collector
	for i := range 400 { // one every 5 ms
		c.Line("fern", time.Duration(i)*5*time.Millisecond, fmt.Sprintf("ERROR entity %d is not there (0x%x)", i, i))
	}
	c.Line("server", time.Second, "warning: slow")
	c.Line("server", 2*time.Second, "KeyError: 'boat'")
	c.Line("server", 2*time.Second, `  File "server.py", line 12, in step`)
	c.Line("server", 2*time.Second, "    raise KeyError(name)") // as good as a trace's line may look
	c.Line("server", 9*time.Second, "all is well")
	r := c.Report()
	require.NotEmpty(t, r.Kinds)
	assert.Equal(t, Kind{Program: "fern", Level: Error, Text: "ERROR entity 0 is not there (0x0)", Last: r.Kinds[0].Last, Count: 400, Most: 200}, r.Kinds[0])
	assert.Equal(t, 405, r.Lines)
	assert.Equal(t, 1, r.Count(Warning))
	assert.Equal(t, Warning, r.Kinds[len(r.Kinds)-1].Level, "errors come first")
}

func TestALogOfNothingButErrorsIsBounded(t *testing.T) {
	var c Collector
	for i := range 5 * MostKinds {
		c.Line("fern", 0, "error "+strings.Repeat("x", i%1000)+strings.Repeat("é", 3000))
	}
	r := c.Report()
	assert.LessOrEqual(t, len(r.Kinds), MostKinds)
	assert.Positive(t, r.Left)
	assert.LessOrEqual(t, len(r.Kinds[0].Text), kept)
	assert.True(t, strings.ToValidUTF8(r.Kinds[0].Text, "?") == r.Kinds[0].Text)
}

// What is said of a line quickly is what the expressions say of it.
func TestTheLevelOfALineIsWhatItsExpressionsSay(t *testing.T) {
	words := append(slices.Clone(needed), "ERROR", "KeyError", "IOException", "no", "0", "10", "errors", "=", ":", "false", "pointer", "is not", "has no", "of", "Traceback (", "goroutine 7 [", "failed", "fault", "access",
		"core", "stack", "out", "key", "AddressSanitizer", "ok", "x", "-", "/", ".", "é", "0x1f")
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 0, 8).Draw(t, "words"), rapid.SampledFrom([]string{" ", "", "\t"}).Draw(t, "between"))
		var l levels
		for range 2 {
			if got := l.of(text); got != look(text) {
				t.Fatalf("%q: %q and not %q", text, got, look(text))
			}
		}
	})
}

// BenchmarkLogs tells how fast logs are looked through, and how much slower what is full of errors is.
func BenchmarkLogs(b *testing.B) {
	for name, line := range map[string]string{
		"ordinary": "12:03:%02d.%03d tick %d: sent 14 snapshots to 3 players, 412 bytes each, queue 0, longest 3.1 ms",
		"errors":   "12:03:%02d.%03d ERROR tick %d: no entity 12 to row to, of 44 that there are in this part of the lake",
	} {
		b.Run(name, func(b *testing.B) {
			var c Collector
			lines := make([]string, 1000)
			for i := range lines {
				lines[i] = fmt.Sprintf(line, i%60, i, i*7)
			}
			bytes := 0
			for i := range b.N {
				text := lines[i%len(lines)]
				bytes += len(text)
				c.Line("server", time.Duration(i)*time.Millisecond, text)
			}
			b.ReportMetric(float64(bytes)/1e6/b.Elapsed().Seconds(), "MB/s")
		})
	}
}
