package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/suggest"
)

// suggestFor says what to change in the rules for traces of a healthy match.
func suggestFor(c *cobra.Command, traces feed.Traces, mustFind []string, asJSON bool) error {
	if traces.Align == feed.Tick {
		return usage("--suggest turns the knobs of lateness and tolerance; views that are compared at equal ticks have none")
	}
	var others []suggest.Other
	for _, folder := range mustFind {
		of, _, err := tracesOf([]string{folder}, "", nil, "")
		if err != nil {
			return err
		}
		of.Rules = traces.Rules // as they are, and as they would be
		others = append(others, suggest.Other{Name: folder, Traces: of})
	}
	advice, err := suggest.For(c.Context(), traces, others)
	if c.Context().Err() != nil {
		return &exitError{exitInterrupted, errors.New("interrupted; nothing was suggested")}
	}
	if err != nil {
		return failed(err)
	}
	if asJSON {
		if err := printJSON(c, advice); err != nil {
			return err
		}
	} else {
		report.NewText(c.OutOrStdout()).Advice(advice)
	}
	if len(advice.Left) > 0 {
		return quiet(exitOutOfSync)
	}
	return nil
}
