package rulebook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTheFirstEventRuleThatFitsDecides(t *testing.T) {
	rules := []EventRule{{Event: "bark", SeenBy: AllButOwner}, {Event: "pen*"}, {Event: "final", SeenBy: Nobody}}
	assert.Equal(t, AllButOwner, FindEvent(rules, "bark").SeenBy)
	assert.Equal(t, "pen*", FindEvent(rules, "penned").Event)
	assert.Nil(t, FindEvent(rules, "whistle"))
	assert.ErrorContains(t, EventRule{Event: "[", MaxDelay: time.Second}.Validate(), `event: "[" is not a pattern`)
	assert.ErrorContains(t, EventRule{}.Validate(), "write event:")
	assert.ErrorContains(t, EventRule{Event: "a", Checkpoint: "b"}.Validate(), "write event:")
	assert.Nil(t, FindEvent([]EventRule{{Checkpoint: "*"}}, "bark"), "a rule about checkpoints is about no event")
	assert.ErrorContains(t, EventRule{Event: "*", SeenBy: InRange}.Validate(), "events cannot be watched by nearness")
	assert.NoError(t, EventRule{Event: "*"}.Validate())
}

func TestLawsThatMakeNoSenseAreRefused(t *testing.T) {
	place := []string{"x", "y"}
	for _, c := range []struct {
		rule    InvariantRule
		message string
	}{
		{InvariantRule{Invariant: One, Entities: "bell/*"}, ""},
		{InvariantRule{Invariant: One, Entities: ""}, `entities: "" is not a pattern`},
		{InvariantRule{Invariant: One, Entities: "bell/*", Fields: place}, "the invariant one takes 0 to 0 fields, here are 2"},
		{InvariantRule{Invariant: Unique, Entities: "dog/*"}, "the invariant unique takes 1 to 1 fields, here are 0"},
		{InvariantRule{Invariant: Unique, Entities: "dog/*", Fields: []string{"player"}}, ""},
		{InvariantRule{Invariant: Apart, Entities: "dog/*", Fields: place}, "min: the invariant apart needs the distance"},
		{InvariantRule{Invariant: Speed, Entities: "dog/*", Fields: place}, "max: the invariant speed needs the speed"},
		{InvariantRule{Invariant: Range, Entities: "dog/*", Fields: []string{"stamina"}, Min: 5, Max: 5}, "max: 5 is not above least, 5"},
		{InvariantRule{Invariant: Rising, Entities: "dog/*", Fields: []string{"score"}}, ""},
	} {
		err := c.rule.Validate()
		if c.message == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.message)
		}
	}
	assert.Equal(t, "speed x, y", InvariantRule{Invariant: Speed, Fields: place}.Label())
	assert.Equal(t, "one", InvariantRule{Invariant: One}.Label())
	assert.True(t, InvariantRule{Entities: "dog/*"}.Fits("dog/fern"))
	assert.False(t, InvariantRule{Entities: "dog/*"}.Fits("bell/brass"))
}

func TestSequencesThatMakeNoSenseAreRefused(t *testing.T) {
	two := []SequenceStep{{Checkpoint: "touch", In: "client"}, {Event: "granted", In: "all", Within: time.Second}}
	for _, c := range []struct {
		name    string
		s       Sequence
		message string
	}{
		{"a good one", Sequence{Name: "bell", Steps: two}, ""},
		{"without a name", Sequence{Steps: two}, "name: a sequence needs one"},
		{"with one step", Sequence{Name: "bell", Steps: two[:1]}, "steps: a sequence has at least two, here are 1"},
		{"that begins everywhere", Sequence{Name: "bell", Steps: []SequenceStep{two[1], two[1]}}, "the first step happens in one view"},
		{"with a step that is nothing", Sequence{Name: "bell", Steps: []SequenceStep{two[0], {In: "server", Within: 1}}}, "step 2 needs a mark: or an event:, and not both"},
		{"with a step that is both", Sequence{Name: "bell", Steps: []SequenceStep{two[0], {Checkpoint: "a", Event: "b", Within: 1}}}, "step 2 needs a mark: or an event:, and not both"},
		{"with a step that may take for ever", Sequence{Name: "bell", Steps: []SequenceStep{two[0], {Checkpoint: "a"}}}, "step 2 needs within:"},
	} {
		err := c.s.Validate()
		if c.message == "" {
			assert.NoError(t, err, c.name)
		} else {
			assert.ErrorContains(t, err, c.message, c.name)
		}
	}
	assert.Equal(t, "mark touch", two[0].What())
	assert.Equal(t, "event granted", two[1].What())
}

func TestValuesThatMustShowAreExact(t *testing.T) {
	r := Rule{Entities: "lamp/*", Fields: []string{"lit"}, EveryValue: true}
	assert.NoError(t, r.Validate())
	r.Compare, r.Tolerance = Distance, 1
	assert.ErrorContains(t, r.Validate(), "every-value: only exact values")
}

func TestWordsOfRules(t *testing.T) {
	assert.Equal(t, "owner", Owner.String())
	assert.Equal(t, "outcome", Outcome.String())
	assert.Equal(t, "in-range", InRange.String())
	assert.Equal(t, "angle", Angle.String())
	assert.Equal(t, "others", Others.String())
}
