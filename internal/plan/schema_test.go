package plan

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func compiled(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := Schema()
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("plan.json", doc))
	s, err := c.Compile("plan.json")
	require.NoError(t, err)
	return s
}

func document(t *testing.T, text []byte) any {
	t.Helper()
	asJSON, err := yaml.YAMLToJSON(text)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
	require.NoError(t, err)
	return doc
}

// Every plan that is read must fit the schema: those of the examples, the starters,
// those of these tests, and each as it is written with everything filled in.
func TestPlansFitTheSchema(t *testing.T) {
	s := compiled(t)
	plans := map[string][]byte{"full": []byte(whole), "built": []byte(built)}
	paths, err := filepath.Glob("../../examples/*.yaml")
	require.NoError(t, err)
	more, err := filepath.Glob("../../examples/*/*.yaml")
	require.NoError(t, err)
	for _, path := range append(paths, more...) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		plans[path] = text
	}
	for _, shape := range Shapes {
		text, err := Starter(shape.Name)
		require.NoError(t, err)
		plans["starter "+shape.Name] = text
	}
	require.Greater(t, len(plans), 10)
	for name, text := range plans {
		assert.NoError(t, s.Validate(document(t, text)), name)
		p, err := Parse(name, text)
		require.NoError(t, err, name)
		written, err := p.YAML()
		require.NoError(t, err)
		assert.NoError(t, s.Validate(document(t, written)), "%s as written:\n%s", name, written)
	}
}

func TestWhatIsNoPlanDoesNotFitTheSchema(t *testing.T) {
	s := compiled(t)
	for _, text := range []string{
		"title: no bots",
		"bots: [{name: fern}]\ntitel: x",
		"bots: [{name: fern}]\nduration: 60",
		"bots: [{name: fern, steps: [{do: jump}]}]",
		"bots: [{name: fern}]\nlinks: {moor: {loss: much}}",
		"bots: [{name: fern}]\nlinks: {moor: {down: {latency: 5}}}",
		"bots: [{name: fern}]\nwatch: [{entities: a, fields: b, compare: nearly}]",
		"bots: [{name: fern}]\nlimits: {charm: 3}",
	} {
		assert.Error(t, s.Validate(document(t, []byte(text))), text)
	}
}

func TestThereIsNoStarterOfAnotherShape(t *testing.T) {
	_, err := Starter("round")
	assert.ErrorContains(t, err, `there is no shape "round"; there are demo, server, attached, hosted`)
}
