package hunt

import (
	"context"

	"zitherwheel/audit"
	"zitherwheel/measure"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/stage"
)

// Recorded makes a match of a run that was recorded, as if it had been hunted, and
// returns its measures by view too.
func Recorded(ctx context.Context, run *runfolder.Run) (Match, *measure.Measures, error) {
	p, err := plan.Load(run.PlanPath())
	if err != nil {
		return Match{}, nil, err
	}
	said, err := audit.Recorded(ctx, run, p)
	if err != nil {
		return Match{}, nil, err
	}
	return matchOf(p, &stage.Result{Verdict: said.Verdict, Measures: said.Measures}), said.Measures, nil
}
