package plan

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/watch"
)

const watched = `
reference: fern
game: {host: fern, places: 3, radius: 25, rates: {send: 5}}
bots:
  - {name: fern, link: hill-farm, frame: 144}
  - {name: moss, link: hill-farm, steps: [{do: join}, {do: cheat, sets: [place, stamina], to: [3, 4]}, {do: cheat, sets: speed, for: 2s}]}
watch:
  - {entities: bell/*, fields: wearer, role: owner, every: true, lag: 1s}
  - {entities: mill/*, fields: angle, compare: angle, circle: 360, within: 2, computed: true}
events:
  - {event: bark, seen-by: others, lag: 1s, lead: 100ms, ordered: true}
world:
  - {law: speed, entities: dog/*, fields: [x, y], most: 9, least: 1}
sequences:
  - {name: bark heard, steps: [{mark: bark, in: client}, {event: bark, in: all, within: 2s}]}
limits: {jerkiness: 2.5, age-p95-ms: 400}
least-news: {down: 50}
`

func TestEverythingThatIsWatched(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(watched))
	require.NoError(t, err)
	assert.Equal(t, "fern", p.Reference)
	assert.Equal(t, 144, p.Bots[0].Frame)
	assert.Equal(t, Link{}, p.LinkOf(p.Bots[0]), "the host's link is perfect")
	assert.Equal(t, "hill-farm", p.LinkOf(p.Bots[1]).Name)
	assert.Equal(t, Step{Do: Cheat, Sets: []string{"place", "stamina"}, To: [2]float64{3, 4}}, p.Bots[1].Steps[1])

	r := p.Rules
	bell := r.Fields[watch.Find(r.Fields, "bell/brass", false, "wearer")]
	assert.Equal(t, watch.Owner, bell.Role)
	assert.True(t, bell.Every)
	assert.Equal(t, time.Second, bell.Lag)
	assert.True(t, r.Fields[watch.Find(r.Fields, "mill/old", false, "angle")].Computed)
	assert.Equal(t, watch.EventRule{Event: "bark", SeenBy: watch.AllButOwner, Lag: time.Second, Lead: 100 * ms, Settle: watch.DefaultSettle, Grace: watch.DefaultGrace, Ordered: true}, r.Events[0])
	assert.Equal(t, "*", r.Events[len(r.Events)-1].Event, "the game's come behind")
	assert.Equal(t, 9.0, r.World[0].Most)
	speeds := 0
	for _, law := range r.World {
		if law.Law == watch.Speed {
			speeds++
		}
	}
	assert.Equal(t, 1, speeds, "the plan's law replaces the game's")
	assert.Equal(t, "by", r.Sequences[0].By)
	assert.Len(t, r.Sequences, 2)
	assert.ElementsMatch(t, []watch.Limit{{Measure: "jerkiness", Most: 2.5}, {Measure: "age-p95-ms", Most: 400}}, r.Limits)
	assert.Equal(t, watch.News{Down: 50}, r.News)
}

func TestTheGamesRulesFollowItsRatesAndReach(t *testing.T) {
	rule := func(text, entity, field string) watch.Rule {
		p, err := Parse("plan.yaml", []byte(text+"bots: [{name: fern}]\n"))
		require.NoError(t, err)
		return p.Rules.Fields[watch.Find(p.Rules.Fields, entity, false, field)]
	}
	usual, seldom := rule("", "sheep/s01", "x"), rule("game: {rates: {send: 2}}\n", "sheep/s01", "x")
	assert.Equal(t, usual.Lag+900*ms, seldom.Lag, "two more intervals")
	assert.Equal(t, usual.Settle+450*ms, seldom.Settle)
	assert.Equal(t, watch.Everyone, usual.SeenBy)

	near := rule("game: {radius: 20}\n", "sheep/s01", "x")
	assert.Equal(t, watch.Near, near.SeenBy)
	assert.Equal(t, 20.0, near.Radius)
	assert.Equal(t, 25.0, near.Leave)
	assert.Equal(t, watch.Everyone, rule("game: {radius: 20}\n", "bell/brass", "wearer").SeenBy)
	assert.Equal(t, 200*ms, rule("game: {rates: {send: 2}}\n", "mill/old", "angle").Lag, "what follows from the clock does not wait for news")
	assert.False(t, rule("", "tuft/3", "x").Judged())
}

func TestAWatchedPlanAsWrittenReadsTheSame(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(watched))
	require.NoError(t, err)
	text, err := p.YAML()
	require.NoError(t, err)
	again, err := Parse("resolved.yaml", text)
	require.NoError(t, err, "%s", text)
	// Limits come in the order of the table of measures.
	assert.ElementsMatch(t, p.Rules.Limits, again.Rules.Limits)
	p.Rules.Limits, again.Rules.Limits = nil, nil
	assert.Equal(t, read(p), read(again))
}

func TestErrorsInWhatIsWatched(t *testing.T) {
	const bots = "bots: [{name: fern}]\n"
	for _, c := range []struct{ name, text, message string }{
		{"a law", bots + "world:\n  - {law: fairness, entities: dog/*}\n", `plan.yaml:3:11: law: "fairness" is not known; write one of one, unique, apart, range, rising, falling, speed`},
		{"a law that lacks something", bots + "world:\n  - {law: apart, entities: dog/*, fields: [x, y]}\n", `plan.yaml:3:5: world rule: least: the law apart needs the distance, above 0`},
		{"an event rule", bots + "events:\n  - {event: bark, seen-by: near}\n", `plan.yaml:3:5: event rule: seen-by: events cannot be watched by nearness; write everyone, owner, others or nobody`},
		{"a sequence", bots + "sequences:\n  - {name: bell, steps: [{mark: a}]}\n", `plan.yaml:3:5: sequence: steps: a sequence has at least two, here are 1`},
		{"a step of one", bots + "sequences:\n  - {name: bell, steps: [{mrak: a}]}\n", `plan.yaml:3:27: step of a sequence: there is no key "mrak"; did you mean "mark"?`},
		{"a limit", bots + "limits: {jerk: 3}\n", `plan.yaml:2:10: limits: there is no key "jerk"; the keys are age-p95-ms, age-max-ms, corrections-per-minute, correction-p95, correction-max, response-own-ms, response-server-ms, response-others-ms, jerkiness, clock-error-ms, up-bytes-per-second, down-bytes-per-second, up-packets-per-second, down-packets-per-second`},
		{"a role", bots + "watch:\n  - {entities: a/*, fields: b, role: king}\n", `plan.yaml:3:38: role: "king" is not known; write one of plain, owner, outcome`},
		{"a reference", "reference: moss\n" + bots, `plan.yaml: reference: there is no bot "moss"; write server, none, or a bot's name`},
		{"a host", "game: {host: moss}\n" + bots, `plan.yaml: game: host: there is no bot "moss"`},
		{"a radius", "game: {radius: -3}\n" + bots, `plan.yaml: game: radius: -3 is negative`},
		{"a fault", "game: {faults: [lost-godbye]}\n" + bots, `plan.yaml:1:16: faults: there is no fault "lost-godbye"`},
		{"a cheat without what", "bots: [{name: fern, steps: [{do: cheat}]}]\n", `plan.yaml:1:29: step: cheat goes with sets:, a list of place, stamina, speed`},
		{"a cheat of what cannot be", "bots: [{name: fern, steps: [{do: cheat, sets: [score]}]}]\n", `plan.yaml:1:29: step: sets: there is no "score" to change; there are place, stamina, speed`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse("plan.yaml", []byte(c.text))
			assert.ErrorContains(t, err, c.message)
		})
	}
}

func TestRulesAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "rules.yaml")
	require.NoError(t, os.WriteFile(path, []byte("watch: [{entities: a/*, fields: b}]\nlimits: {jerkiness: 1}\n"), 0o600))
	r, err := LoadRules(path)
	require.NoError(t, err)
	assert.Len(t, r.Fields, 1)
	assert.Len(t, r.Limits, 1)
	require.NoError(t, os.WriteFile(path, []byte("events: [{event: bark}]\n"), 0o600))
	_, err = LoadRules(path)
	assert.ErrorContains(t, err, "no watch rules in it; write them under the key watch")
	_, err = LoadRules(path + ".gone")
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.NotEmpty(t, HillfoldRules().Fields)
}
