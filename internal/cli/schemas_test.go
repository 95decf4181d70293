package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	reflected "github.com/invopop/jsonschema"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/campaign/sweep"
	"zitherwheel/internal/match"
	"zitherwheel/internal/review/inspect"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

var update = flag.Bool("update", false, "write docs/schemas anew")

// outputs are what programs may read, by the names of their schemas.
var outputs = map[string]any{
	"compare":   compare.Result{},
	"findings":  judge.Verdict{},
	"hunt":      hunt.Result{},
	"measures":  metrics.Measures{},
	"preflight": []match.Step{},
	"replay":    replay.Followed{},
	"sheet":     inspect.Sheet{},
	"shrink":    replay.ShrunkSummary{},
	"story":     []inspect.Chapter{},
	"sweep":     sweep.Result{},
	"why":       replay.Why{},
}

// The schemas in the docs are those of the types.
func TestTheSchemasInTheDocsAreCurrent(t *testing.T) {
	r := &reflected.Reflector{Anonymous: true, AllowAdditionalProperties: true, Mapper: func(t reflect.Type) *reflected.Schema {
		if t == reflect.TypeFor[judge.Subject]() {
			return &reflected.Schema{Type: "string"}
		}
		if t == reflect.TypeFor[judge.Seconds]() {
			return &reflected.Schema{Type: "number", Description: "seconds"}
		}
		return nil
	}}
	for name, v := range outputs {
		text, err := json.MarshalIndent(r.Reflect(v), "", "  ")
		require.NoError(t, err)
		path := filepath.Join("..", "..", "docs", "schemas", name+".json")
		if *update {
			require.NoError(t, os.WriteFile(path, append(text, '\n'), 0o644))
		}
		written, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(text)+"\n", string(written), "run go test ./internal/cli -run Schemas -update")
	}
}

// What the program prints fits them.
func TestWhatIsPrintedFitsTheSchemas(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector has nothing to find in it")
	}
	dir := t.TempDir()
	path, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(path, []byte("duration: 8s\ngame: {faults: [narrow-numbers, once-unreliable]}\nbots: [{name: fern, link: far-shore}, {name: moss}]"), 0o600))
	for _, c := range []struct {
		schema string
		code   int
		args   []string
	}{
		{"findings", exitOutOfSync, []string{"run", path, "--out", folder, "--json"}},
		{"findings", exitOutOfSync, []string{"check", folder, "--json"}},
		{"sheet", exitInSync, []string{"show", folder, "F1", "--json"}},
		{"story", exitInSync, []string{"show", folder, "F1", "--around", "--json"}},
		{"replay", exitOutOfSync, []string{"replay", folder, "--json"}},
		{"why", exitInSync, []string{"why", folder, "F1", "--json"}},
		{"shrink", exitInSync, []string{"shrink", folder, "F1", "--json", "--max", "40"}},
		{"hunt", exitOutOfSync, []string{"hunt", path, "--times", "4", "--out", filepath.Join(dir, "hunt"), "--json"}},
		{"compare", exitInSync, []string{"compare", filepath.Join(dir, "hunt"), path, "--times", "4", "--json"}},
		{"sweep", exitInSync, []string{"sweep", path, "--vary", "latency=0ms,50ms", "--out", filepath.Join(dir, "sweep"), "--json"}},
	} {
		var out, messages bytes.Buffer
		assert.Equal(t, c.code, Main(c.args, &out, &messages), "%v: %s", c.args, messages.String())
		fits(t, c.schema, out.Bytes())
	}
	text, err := os.ReadFile(filepath.Join(folder, "measures.json"))
	require.NoError(t, err)
	fits(t, "measures", text)
}

func fits(t *testing.T, schema string, text []byte) {
	t.Helper()
	s, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "..", "docs", "schemas", schema+".json"))
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err, "%s", text)
	assert.NoError(t, s.Validate(doc), schema)
}
