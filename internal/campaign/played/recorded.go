package played

import (
	"context"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/metrics"
)

// Recorded makes a match of a run that was recorded, as if it had been one of many, and
// returns its measures by view too.
func Recorded(ctx context.Context, run *run.Run) (Match, *metrics.Measures, error) {
	p, err := plan.Load(run.PlanPath())
	if err != nil {
		return Match{}, nil, err
	}
	said, err := feed.Recorded(ctx, run, p)
	if err != nil {
		return Match{}, nil, err
	}
	logged, err := feed.Logs(run)
	if err != nil {
		return Match{}, nil, err
	}
	return matchOf(p, &match.Result{Verdict: said.Verdict, Measures: said.Measures, Logs: logged}), said.Measures, nil
}
