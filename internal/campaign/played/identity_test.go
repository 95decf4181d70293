package played

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/plan"
)

const lamps = `
title: lamps
seed: 4
build:
  server: {run: "node server.mjs {port}"}
  client: {run: "node client.mjs {host} {port}"}
links: {wire: {latency: 40ms, loss: 3%}}
bots: [{name: fern, link: wire}]
watch: [{entities: lamp/*, fields: lit}]
`

// Whatever decides how a match goes, or what is said of it, gives it another key; where its build lies does not.
func TestAMatchIsKnownByAllThatDecidesIt(t *testing.T) {
	at := func(change func(folder string, p *plan.Plan)) (string, string) {
		folder := t.TempDir()
		for name, text := range map[string]string{"server.mjs": "listen()", "client.mjs": "connect()", "data/hall.json": "{}"} {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
		}
		p, err := plan.Parse(filepath.Join(folder, "plan.yaml"), []byte(lamps))
		require.NoError(t, err)
		change(folder, p)
		of, _, err := IdentityOf(p)
		require.NoError(t, err)
		judged := of
		judged.Judge += " changed"
		return of.Key(), judged.Key()
	}
	key, judged := at(func(string, *plan.Plan) {})
	again, _ := at(func(string, *plan.Plan) {})
	assert.Equal(t, key, again, "in another folder")
	seen := map[string]string{key: "nothing", judged: "the program that judges"}
	for what, change := range map[string]func(folder string, p *plan.Plan){
		"the seed":           func(_ string, p *plan.Plan) { p.Seed++ },
		"its length":         func(_ string, p *plan.Plan) { p.Duration++ },
		"the clock":          func(_ string, p *plan.Plan) { p.Clock = plan.Wall },
		"a link":             func(_ string, p *plan.Plan) { p.Links[len(p.Links)-1].Up.Latency++ },
		"a rule":             func(_ string, p *plan.Plan) { p.Rules.Fields[0].MaxDelay++ },
		"a bot":              func(_ string, p *plan.Plan) { p.Bots[0].FPS = 20 },
		"strictness":         func(_ string, p *plan.Plan) { p.Strict = true },
		"an option":          func(_ string, p *plan.Plan) { p.Build.Server.Run[1] = "other.mjs" },
		"a variable":         func(_ string, p *plan.Plan) { p.Build.Env = map[string]string{"HALL": "2"} },
		"one that is passed": func(_ string, p *plan.Plan) { p.Build.Inherit = []string{"LAMPS"} },
		"the program": func(folder string, _ *plan.Plan) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "server.mjs"), []byte("listen(2)"), 0o600))
		},
		"a file beside it": func(folder string, _ *plan.Plan) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "data", "hall.json"), []byte("[]"), 0o600))
		},
		"one more file": func(folder string, _ *plan.Plan) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "data", "room.json"), nil, 0o600))
		},
		"what may be run": func(folder string, _ *plan.Plan) {
			require.NoError(t, os.Chmod(filepath.Join(folder, "client.mjs"), 0o700))
		},
	} {
		key, _ := at(change)
		assert.Empty(t, seen[key], "%s does not change the key", what)
		seen[key] = what
	}
	other := Identity{Plan: "a", Variant: "b"}
	assert.NotEqual(t, other.Key(), Identity{Plan: "a", Build: "b"}.Key())
}
