package feed

import (
	"errors"
	"time"

	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/logs"
)

// Logs is what the logs of a run's programs tell of errors and warnings. What can be read of them
// counts, also where one cannot.
func Logs(run *run.Run) (*logs.Report, error) {
	var c logs.Collector
	err := readLogs(run, c.Line)
	return c.Report(), err
}

// readLogs hands on all that the programs of a run logged.
func readLogs(run *run.Run, each func(view string, at time.Duration, text string)) error {
	var failures []error
	for _, view := range run.About.Views {
		failures = append(failures, run.Log(view, func(at time.Duration, text string) { each(view, at, text) }))
	}
	return errors.Join(failures...)
}
