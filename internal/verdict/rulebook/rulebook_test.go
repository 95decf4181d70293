package rulebook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTheFirstRuleThatFitsDecides(t *testing.T) {
	rules := []Rule{
		{Entities: "dog/*", Of: Own, Fields: []string{"x", "y"}},
		{Entities: "dog/*", Of: Others, Fields: []string{"y", "x"}},
		{Entities: "dog/fern", Fields: []string{"stamina"}},
		{Entities: "*/*", Fields: []string{"stamina"}},
		{Entities: "*/*", Fields: []string{Existence}},
	}
	for _, c := range []struct {
		name, entity string
		own          bool
		field        string
		want         int
	}{
		{"own entities have rules of their own", "dog/fern", true, "x", 0},
		{"and so have those of others", "dog/fern", false, "x", 1},
		{"a rule for one entity, before the one for all", "dog/fern", false, "stamina", 2},
		{"a rule for all", "dog/moss", true, "stamina", 3},
		{"existence is a field like any other", "sheep/s01", false, Existence, 4},
		{"a field that no rule names", "dog/fern", true, "mood", -1},
		{"a pattern does not cross the slash", "dog/fern/tail", true, "x", -1},
	} {
		assert.Equal(t, c.want, Find(rules, c.entity, c.own, c.field), c.name)
	}
}

func TestRulesThatMakeNoSenseAreRefused(t *testing.T) {
	good := Rule{Entities: "dog/*", Fields: []string{"x", "y"}, Compare: Distance, Tolerance: 0.3, MaxDelay: DefaultMaxDelay}
	assert.NoError(t, good.Validate())
	for _, c := range []struct {
		spoil   func(*Rule)
		message string
	}{
		{func(r *Rule) { r.Entities = "dog/[" }, `entities: "dog/[" is not a pattern`},
		{func(r *Rule) { r.Fields = nil }, `fields: none named`},
		{func(r *Rule) { r.Fields = []string{"x", Existence} }, `existence cannot be compared together`},
		{func(r *Rule) { r.MaxDelay = -time.Second }, `max-delay: -1s is not between 0 and 1h`},
		{func(r *Rule) { r.Compare = Angle }, `an angle is one field, here are 2`},
		{func(r *Rule) { r.Compare = Exact }, `only distances are compared together; give each of x, y a rule of its own`},
		{func(r *Rule) { r.Fields = []string{"a", "b", "c", "d"} }, `at most 3 fields`},
		{func(r *Rule) { r.Fields, r.Compare = []string{"h"}, Angle }, `circle: an angle needs`},
		{func(r *Rule) { r.Tolerance = -1 }, `tolerance: -1 is negative`},
		{func(r *Rule) { r.SeenBy = InRange }, `interest-radius: seen-by: in-range needs it`},
		{func(r *Rule) { r.SeenBy, r.InterestRadius, r.LeaveRadius = InRange, 30, 20 }, `leave-radius: 20 is below the interest-radius of 30`},
		{func(r *Rule) { r.SeenBy, r.InterestRadius, r.LeaveRadius = InRange, 30, 40 }, `place: seen-by: in-range needs`},
	} {
		rule := good
		c.spoil(&rule)
		assert.ErrorContains(t, rule.Validate(), c.message)
	}
}
