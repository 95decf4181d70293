package feed

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/logs"
)

// Logs is what the logs of a run's programs tell of errors and warnings. What can be read of them
// counts, also where one cannot.
func Logs(run *run.Run) (*logs.Report, error) {
	var c logs.Collector
	err := readLogs(run, c.Line)
	return c.Report(), err
}

// SearchLogs finds lines in the logs of a run's programs.
func SearchLogs(run *run.Run, q logs.Query) (*logs.Found, error) {
	s := logs.NewSearch(q, run.About.Views)
	err := readLogs(run, s.Line)
	return s.Found(), err
}

// readLogs hands on all that the programs of a run logged.
func readLogs(run *run.Run, each func(view string, at time.Duration, text string)) error {
	var failures []error
	for _, view := range run.About.Views {
		failures = append(failures, run.Log(view, func(at time.Duration, text string) { each(view, at, text) }))
	}
	return errors.Join(failures...)
}

const (
	aroundLines = 6               // before a moment, and after it
	aroundTime  = 3 * time.Second // likewise, at most
	aroundText  = 240             // bytes of a line
)

// around is what was logged near the moment of a finding: before it, and from then on.
type around struct {
	finding       *judge.Finding
	before, after []judge.LogLine
}

// tellAround adds to findings about logs that are of one moment what all programs logged then.
func tellAround(v *judge.Verdict, logs func(each func(view string, at time.Duration, text string)) error) error {
	var moments []*around
	for _, f := range v.Findings {
		if f.Subject.About == judge.AboutLog && !f.Open {
			moments = append(moments, &around{finding: f})
		}
	}
	if len(moments) == 0 {
		return nil
	}
	// Logs come one after the other: of each, only what may be among the nearest is kept.
	err := logs(func(view string, at time.Duration, text string) {
		for _, m := range moments {
			line := judge.LogLine{At: judge.Seconds(at), Program: view, Text: strings.ToValidUTF8(text[:min(len(text), aroundText)], "")}
			switch moment := time.Duration(m.finding.BeganAt); {
			case (at - moment).Abs() > aroundTime:
			case at < moment:
				m.before = nearest(append(m.before, line), func(a, b judge.LogLine) int { return cmp.Compare(b.At, a.At) })
			default:
				m.after = nearest(append(m.after, line), func(a, b judge.LogLine) int { return cmp.Compare(a.At, b.At) })
			}
		}
	})
	for _, m := range moments {
		lines := append(m.before, m.after...)
		slices.SortStableFunc(lines, func(a, b judge.LogLine) int { return cmp.Or(cmp.Compare(a.At, b.At)) })
		m.finding.Evidence.Beside = lines
	}
	return err
}

// nearest keeps the first few lines of an order.
func nearest(lines []judge.LogLine, by func(a, b judge.LogLine) int) []judge.LogLine {
	slices.SortStableFunc(lines, by)
	return lines[:min(len(lines), aroundLines)]
}
