package report

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

func mixed() *judge.Verdict {
	f := func(id string, kind judge.Kind, entity, fields string) *judge.Finding {
		return &judge.Finding{ID: id, Kind: kind, View: "fern", Entity: entity, Subject: judge.ParseSubject(fields), BeganAt: 1e9, EndedAt: 2e9, Why: "so <it> is & \x01"}
	}
	return &judge.Verdict{Outcome: judge.OutOfSync, To: 5e9, Comparisons: 1234, Views: []judge.ViewReport{{Name: "fern"}, {Name: "moss"}},
		Ending:   ending.Ending{How: ending.Failed, Why: "the server ended"},
		Warnings: []judge.Warning{{View: "moss", Text: "moss was never in the match"}, {Event: "misspelt", Text: "the event rule for misspelt met no event"}},
		Rules: []judge.RuleReport{
			{Entities: "dog/*", Of: "own", Fields: "x, y", Judged: true, Fits: 1},
			{Entities: "dog/*", Of: "any", Fields: "x, y", Judged: true, Fits: 3, Findings: 1},
			{Entities: "cat/*", Of: "any", Fields: "x", Judged: true},
			{Entities: "tuft/*", Of: "any", Fields: "x", Judged: false},
		},
		Events:    []*judge.EventReport{{Event: "bark"}, {Event: "final"}},
		Incidents: []judge.Incident{{ID: "I1", Kind: judge.Frozen, Head: "F1", Findings: []string{"F1"}}},
		Findings:  []*judge.Finding{f("F1", judge.Frozen, "dog/|moss*", "x, y"), f("F2", judge.EventLost, "", "event bark"), f("F3", judge.OverLimit, "", "age-p95-ms"), f("F4", judge.RejectedButPlaying, "", "membership")}}
}

// What CI servers take, as far as they agree: suites of cases, with failures, errors
// and skips counted.
func TestJUnitHasACaseForEachRuleEventAndLimit(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, JUnit(&out, "a <match>", mixed(), []rulebook.Limit{{Measure: "age-p95-ms", Max: 5}, {Measure: "unevenness", Max: 3}}))
	var read junitSuites
	decoder := xml.NewDecoder(bytes.NewReader(out.Bytes()))
	decoder.Strict = true
	require.NoError(t, decoder.Decode(&read), out.String())
	suite := read.Suites[0]
	assert.Equal(t, "a <match>", suite.Name)
	assert.Equal(t, [4]int{12, 4, 1, 3}, [4]int{suite.Tests, suite.Failures, suite.Errors, suite.Skipped})
	state := map[string]string{}
	for _, c := range suite.Cases {
		switch {
		case c.Failure != nil:
			state[c.Name] = c.Failure.Type
		case c.Error != nil:
			state[c.Name] = "error"
		case c.Skipped != nil:
			state[c.Name] = "skipped"
		default:
			state[c.Name] = "passed"
		}
	}
	assert.Equal(t, map[string]string{"x, y of dog/* (own)": "passed", "x, y of dog/* (any)": "frozen", "x of cat/* (any)": "skipped", "bark": "event-lost", "final": "passed",
		"age-p95-ms at most 5": "limit", "unevenness at most 3": "passed", "what else was found": "rejected-but-playing", "played to its end": "error", "fern was compared": "passed", "moss was compared": "skipped", "misspelt": "skipped"}, state)
	assert.NotContains(t, out.String(), "\x01")
}

func TestMarkdownIsHarmless(t *testing.T) {
	var out bytes.Buffer
	Markdown(&out, "a <script>|", 7, mixed(), "runs/`one`")
	text := out.String()
	assert.Contains(t, text, `**a &lt;script&gt;\|: OUT OF SYNC**, 1 incident, 4 findings (seed 7)`)
	assert.Contains(t, text, `dog/\|moss\*`)
	assert.Contains(t, text, "run folder `runs/'one'`")
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "| I1") {
			assert.Equal(t, 6, strings.Count(line, "|"), "five bars of the table and one that is escaped")
		}
	}
}
