package judge

import (
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
	View  string // whose program's
	Rule  string // its label
	At    time.Duration
	Open  bool   // it is of the whole match; else of the moment At
	Ended string // how
	Why   string
	Lines []LogLine
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
		at := Seconds(min(b.At, end))
		j.add(&Finding{Kind: LogBroken, View: b.View, Subject: Subject{AboutLog, b.Rule}, BeganAt: at, EndedAt: at, Open: b.Open, Ended: b.Ended,
			Why: b.Why, Evidence: Evidence{Values: []ValueRow{}, Lines: b.Lines}})
	}
}
