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
		j.often(Subject{AboutEvent, rule.Event}, rule.Told, told, "was told", "was never told", end)
	}
	for i := range j.config.Rules.Sequences {
		rule := &j.config.Rules.Sequences[i]
		j.often(Subject{AboutSequence, rule.Name}, rule.Begun, j.begun[rule], "began", "never began", end)
	}
}

// often makes a finding of what happened too often or too seldom: did and never say what it did.
func (j *Judge) often(about Subject, must rulebook.Often, times int, did, never string, end time.Duration) {
	why := about.Name + " "
	switch times {
	case 0:
		why += never
	case 1:
		why += did + " once"
	default:
		why += fmt.Sprintf("%s %d times", did, times)
	}
	breach := must.Breach(times)
	if breach == "" {
		return
	}
	why += " in the match" + breach
	j.add(&Finding{Kind: Count, View: j.views[0].name, Subject: about, BeganAt: Seconds(j.first), EndedAt: Seconds(end), Open: true,
		Ended: "counted over the whole match", Why: why, Evidence: Evidence{Values: []ValueRow{}}})
}
