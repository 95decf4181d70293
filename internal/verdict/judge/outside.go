package judge

import (
	"fmt"
	"time"

	"zitherwheel/internal/verdict/metrics"
)

// Outside is what others than the judge know of a match when it ends.
type Outside struct {
	Exceeded   []metrics.Excess // limits that were broken
	Unmeasured []string         // what has a limit and was not measured in any view
	Starving   []metrics.Short
	Logs       []BrokenLog
}

// BrokenLog is a rule about lines of logs that was not kept.
type BrokenLog struct {
	View    string // whose program's
	Rule    string // its label
	At      time.Duration
	Missing bool // too few lines, and not too many
	Why     string
	Lines   []LogLine
}

// outside makes findings of it, at the end.
func (j *Judge) outside(o Outside, end time.Duration) {
	j.unmeasured, j.starving = o.Unmeasured, o.Starving
	for _, x := range o.Exceeded {
		kind := OverLimit
		if metrics.OfMotion(x.Measure) {
			kind = Jerky
		}
		j.add(&Finding{Kind: kind, View: x.View, Subject: Subject{AboutMeasure, x.Measure}, BeganAt: Seconds(j.first), EndedAt: Seconds(end), Open: true,
			Ended: "measured over the whole match", Why: x.Why, Evidence: Evidence{Values: []ValueRow{}}})
	}
	for _, b := range o.Logs {
		f := &Finding{Kind: LogBroken, View: b.View, Subject: Subject{AboutLog, b.Rule}, BeganAt: Seconds(min(b.At, end)), EndedAt: Seconds(min(b.At, end)), Open: b.Missing,
			Ended: fmt.Sprintf("the first that is too many came at %s", Seconds(b.At)), Why: b.Why, Evidence: Evidence{Values: []ValueRow{}, Lines: b.Lines}}
		if b.Missing {
			f.Ended = "counted to the end of the logs"
		}
		j.add(f)
	}
}
