package judge

import (
	"fmt"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// often makes a finding of what happened too often or too seldom: did and never say what it did.
// Agreement alone would pass a match in which nothing happened.
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
