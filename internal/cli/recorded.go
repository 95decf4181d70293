package cli

import (
	"errors"
	"fmt"
	"strings"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/trust"
)

// openRun opens a run folder and reads its plan. What is no run folder is the caller's to mend; one that is damaged
// so far that nothing can be read of it is no verdict of any kind.
func openRun(path string) (*run.Run, *plan.Plan, error) {
	r, err := run.Open(path)
	if errors.Is(err, run.ErrDamaged) {
		return nil, nil, failed(err)
	}
	if err != nil {
		return nil, nil, &exitError{exitUsage, err}
	}
	p, err := loadPlan(r.PlanPath())
	if err != nil && len(r.About.Damage) > 0 {
		return nil, nil, failed(fmt.Errorf("%w: %s: %s", run.ErrDamaged, path, strings.Join(r.About.Damage, "; ")))
	}
	return r, p, err
}

// unsealed says why nobody knows whether traces are what was recorded, or "". Run is nil of those that were named one
// by one.
func unsealed(r *run.Run) string {
	switch {
	case r == nil:
		return "these traces have no seal: nothing shows whether they are whole and of one match"
	case !r.Sealed() && !r.About.CutOff() && len(r.About.Damage) == 0:
		return r.Path + " has no seal, because an earlier version of this program recorded it; nothing shows whether it is whole"
	case r.Sealed() && !r.SignedBy(trust.Known):
		return r.Path + " was sealed by somebody else or on another machine: its files match the seal, and the seal has no mark of yours"
	}
	return ""
}
