package feed

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Clients on other machines are told about by the clock of the one that played the match, which is known of each to an error
// only. So much more late, or ahead, may they be.

// allowing are the rules with that error in their times.
func allowing(rules rulebook.Rules, timing *metrics.Timing) rulebook.Rules {
	if timing == nil || len(timing.Machines) == 0 {
		return rules
	}
	most := 0.0
	for _, m := range timing.Machines {
		most = max(most, m.ErrorMs)
	}
	more := time.Duration(most*1000) * time.Microsecond
	rules.Fields, rules.Events = slices.Clone(rules.Fields), slices.Clone(rules.Events)
	for i := range rules.Fields {
		rules.Fields[i].MaxDelay += more
		rules.Fields[i].MaxAhead += more
	}
	for i := range rules.Events {
		rules.Events[i].MaxDelay += more
		rules.Events[i].MaxAhead += more
	}
	return rules
}

// tellClocks says how well the clocks of other machines were known.
func tellClocks(v *judge.Verdict, timing *metrics.Timing) {
	if timing == nil {
		return
	}
	for _, m := range timing.Machines {
		v.Warnings = append(v.Warnings, judge.Warning{Text: fmt.Sprintf("the clock of %s: %+.3f s to it, %+.1f ppm, known to %.2f ms from %d exchanges, which its views may be late or ahead beyond their rules",
			m.Machine, time.Duration(m.Offset).Seconds(), m.DriftPPM, m.ErrorMs, m.Exchanges)})
	}
}
