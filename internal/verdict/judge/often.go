package judge

import (
	"fmt"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// expected looks at the end whether everything happened as often as it must: agreement alone would
// pass a match in which nothing did.
func (j *Judge) expected(end time.Duration) {
	for i := range j.config.Rules.Events {
		rule := &j.config.Rules.Events[i]
		if !rule.Told.Asks() {
			continue
		}
		told := 0
		for name, r := range j.ledger.reports {
			if rulebook.FindEvent(j.config.Rules.Events, name) == rule {
				told += r.Sent
			}
		}
		j.often(Subject{AboutEvent, rule.Event}, rule.Told, told, "was told", end)
	}
	for i := range j.config.Rules.Sequences {
		rule := &j.config.Rules.Sequences[i]
		j.often(Subject{AboutSequence, rule.Name}, rule.Begun, j.begun[rule], "began", end)
	}
}

// often makes a finding of what happened too often or too seldom.
func (j *Judge) often(about Subject, must rulebook.Often, times int, what string, end time.Duration) {
	why := ""
	switch count := map[int]string{0: "never", 1: "once"}[times]; {
	case times > must.Max && must.Capped, times < must.Min:
		if count == "" {
			count = fmt.Sprintf("%d times", times)
		}
		if why = fmt.Sprintf("%s %s %s in the match, where at most %d are allowed", about.Name, what, count, must.Max); times < must.Min {
			why = fmt.Sprintf("%s %s %s in the match, where at least %d are expected", about.Name, what, count, must.Min)
		}
	default:
		return
	}
	j.add(&Finding{Kind: Count, View: j.views[0].name, Subject: about, BeganAt: Seconds(j.first), EndedAt: Seconds(end), Open: true,
		Ended: "counted over the whole match", Why: why, Evidence: Evidence{Values: []ValueRow{}}})
}
