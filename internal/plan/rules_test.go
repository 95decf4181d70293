package plan

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/verdict/rulebook"
)

const watched = `
reference: fern
game: {host: fern, max-players: 3, interest-radius: 25, rates: {send: 5}}
bots:
  - {name: fern, link: hill-farm, fps: 144}
  - {name: moss, link: hill-farm, steps: [{do: join}, {do: cheat, sets: [place, stamina], to: [3, 4]}, {do: cheat, sets: speed, for: 2s}]}
watch:
  - {entities: bell/*, fields: wearer, role: owner, every-value: true, max-delay: 1s}
  - {entities: mill/*, fields: angle, compare: angle, circle: 360, tolerance: 2, time-driven: true}
events:
  - {event: bark, seen-by: others, max-delay: 1s, max-ahead: 100ms, ordered: true}
invariants:
  - {invariant: speed, entities: dog/*, fields: [x, y], max: 9, min: 1}
sequences:
  - {name: bark heard, steps: [{checkpoint: bark, in: client}, {event: bark, in: all, within: 2s}]}
limits: {unevenness: 2.5, age-p95-ms: 400}
smallest-update: {down: 50}
`

func TestEverythingThatIsWatched(t *testing.T) {
	p, err := Parse("plan.yaml", []byte(watched))
	require.NoError(t, err)
	assert.Equal(t, "fern", p.Reference)
	assert.Equal(t, 144, p.Bots[0].FPS)
	assert.Equal(t, link.Pair{}, p.LinkOf(p.Bots[0]), "the host's link is perfect")
	assert.Equal(t, "hill-farm", p.LinkOf(p.Bots[1]).Name)
	assert.Equal(t, bot.Step{Do: bot.Cheat, Sets: []string{"place", "stamina"}, To: [2]float64{3, 4}}, p.Bots[1].Steps[1])

	r := p.Rules
	bell := r.Fields[rulebook.Find(r.Fields, "bell/brass", false, "wearer")]
	assert.Equal(t, rulebook.Owner, bell.Role)
	assert.True(t, bell.EveryValue)
	assert.Equal(t, time.Second, bell.MaxDelay)
	mill := r.Fields[rulebook.Find(r.Fields, "mill/old", false, "angle")]
	assert.True(t, mill.TimeDriven)
	assert.Equal(t, rulebook.TimeDrivenDuration, mill.MinDuration, "a flip that comes half a second late must not pass")
	assert.Equal(t, rulebook.DefaultMinDuration, bell.MinDuration)
	assert.Equal(t, rulebook.EventRule{Event: "bark", SeenBy: rulebook.AllButOwner, MaxDelay: time.Second, MaxAhead: 100 * ms, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace, Ordered: true}, r.Events[0])
	assert.Equal(t, "*", r.Events[len(r.Events)-1].Event, "the game's come behind")
	assert.Equal(t, 9.0, r.Invariants[0].Max)
	speeds := 0
	for _, invariant := range r.Invariants {
		if invariant.Invariant == rulebook.Speed {
			speeds++
		}
	}
	assert.Equal(t, 1, speeds, "the plan's invariant replaces the game's")
	assert.Equal(t, "by", r.Sequences[0].By)
	assert.Len(t, r.Sequences, 2)
	assert.ElementsMatch(t, []rulebook.Limit{{Measure: "unevenness", Max: 2.5}, {Measure: "age-p95-ms", Max: 400}}, r.Limits)
	assert.Equal(t, rulebook.News{Down: 50}, r.News)
}

func TestTheGamesRulesFollowItsRatesAndReach(t *testing.T) {
	rule := func(text, entity, field string) rulebook.Rule {
		p, err := Parse("plan.yaml", []byte(text+"bots: [{name: fern}]\n"))
		require.NoError(t, err)
		return p.Rules.Fields[rulebook.Find(p.Rules.Fields, entity, false, field)]
	}
	usual, seldom := rule("", "sheep/s01", "x"), rule("game: {rates: {send: 2}}\n", "sheep/s01", "x")
	assert.Equal(t, usual.MaxDelay+900*ms, seldom.MaxDelay, "two more intervals")
	assert.Equal(t, usual.MinDuration+450*ms, seldom.MinDuration)
	assert.Equal(t, rulebook.Everyone, usual.SeenBy)

	near := rule("game: {interest-radius: 20}\n", "sheep/s01", "x")
	assert.Equal(t, rulebook.InRange, near.SeenBy)
	assert.Equal(t, 20.0, near.InterestRadius)
	assert.Equal(t, 25.0, near.LeaveRadius)
	assert.Equal(t, rulebook.Everyone, rule("game: {interest-radius: 20}\n", "bell/brass", "wearer").SeenBy)
	assert.Equal(t, 200*ms, rule("game: {rates: {send: 2}}\n", "mill/old", "angle").MaxDelay, "what follows from the clock does not wait for news")
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
		{"an invariant", bots + "invariants:\n  - {invariant: fairness, entities: dog/*}\n", `plan.yaml:3:17: invariant: "fairness" is not known; write one of one, unique, apart, range, rising, falling, speed`},
		{"an invariant that lacks something", bots + "invariants:\n  - {invariant: apart, entities: dog/*, fields: [x, y]}\n", `plan.yaml:3:5: invariant: min: the invariant apart needs the distance, above 0`},
		{"an event rule", bots + "events:\n  - {event: bark, seen-by: in-range}\n", `plan.yaml:3:5: event rule: seen-by: events cannot be watched by nearness; write everyone, owner, others or nobody`},
		{"a sequence", bots + "sequences:\n  - {name: bell, steps: [{checkpoint: a}]}\n", `plan.yaml:3:5: sequence: steps: a sequence has at least two, here are 1`},
		{"a step of one", bots + "sequences:\n  - {name: bell, steps: [{chekpoint: a}]}\n", `plan.yaml:3:27: step of a sequence: there is no key "chekpoint"; did you mean "checkpoint"?`},
		{"a limit", bots + "limits: {jerk: 3}\n", `plan.yaml:2:10: limits: there is no key "jerk"; the keys are age-p95-ms, age-max-ms, corrections-per-minute, correction-p95, correction-max, response-own-ms, response-server-ms, response-others-ms, unevenness, standing, leaps-per-minute, leap-p95, off-path-p95, overshoot-p95, settling-p95-ms, own-unevenness, own-standing, own-leaps-per-minute, own-leap-p95, own-off-path-p95, own-overshoot-p95, own-settling-p95-ms, predicted-from-received-p95, shown-from-predicted-p95`},
		{"a role", bots + "watch:\n  - {entities: a/*, fields: b, role: king}\n", `plan.yaml:3:38: role: "king" is not known; write one of plain, owner, outcome`},
		{"a reference", "reference: moss\n" + bots, `plan.yaml: reference: there is no bot "moss"; write server, none, or a bot's name`},
		{"a host", "game: {host: moss}\n" + bots, `plan.yaml: game: host: there is no bot "moss"`},
		{"a radius", "game: {interest-radius: -3}\n" + bots, `plan.yaml: game: interest-radius: -3 is negative`},
		{"a fault", "game: {faults: [lost-godbye]}\n" + bots, `plan.yaml:1:16: faults: hillfold has no fault "lost-godbye"`},
		{"a cheat without what", "bots: [{name: fern, steps: [{do: cheat}]}]\n", `plan.yaml:1:29: step: cheat goes with sets:, a list of place, stamina, speed`},
		{"a cheat of what cannot be", "bots: [{name: fern, steps: [{do: cheat, sets: [score]}]}]\n", `plan.yaml:1:29: step: sets: hillfold has no "score" to change; it has place, stamina, speed`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse("plan.yaml", []byte(c.text))
			assert.ErrorContains(t, err, c.message)
		})
	}
}

func TestRulesAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "rules.yaml")
	require.NoError(t, os.WriteFile(path, []byte("watch: [{entities: a/*, fields: b}]\nlimits: {unevenness: 1}\n"), 0o600))
	r, err := LoadRules(path)
	require.NoError(t, err)
	assert.Len(t, r.Fields, 1)
	assert.Len(t, r.Limits, 1)
	require.NoError(t, os.WriteFile(path, []byte("events: [{event: bark}]\n"), 0o600))
	_, err = LoadRules(path)
	assert.ErrorContains(t, err, "no watch rules in it; write them under the key watch")
	_, err = LoadRules(path + ".gone")
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.NotEmpty(t, GameRules(hillfold.Game{}).Fields)
}
