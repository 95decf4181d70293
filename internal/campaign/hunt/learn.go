package hunt

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/rulebook"
)

const rulesName = "rules.yaml"

// learn gives a plan that says nothing of what is compared the rules that its first match teaches, and returns how
// many. A hunt learns once: matches that are judged by rules of their own cannot be counted together.
func (o *Options) learn(ctx context.Context) (int, error) {
	if !o.Plan.Unruled() {
		return 0, nil
	}
	rules := o.Rules
	if rules == nil {
		kept, err := o.taught(ctx)
		if err != nil || kept == nil {
			return 0, err // where nothing can be learned, each match says so
		}
		rules = kept
	}
	p := *o.Plan
	p.Rules.Fields, p.Rules.Events, p.Rules.Invariants = rules.Fields, rules.Events, rules.Invariants
	o.Plan = &p
	return len(rules.Fields), nil
}

// taught are the rules that the first match teaches: those that are in the folder of a hunt that is resumed, or of a
// match that is played for it. Nil if it teaches none.
func (o *Options) taught(ctx context.Context) (*rulebook.Rules, error) {
	at := filepath.Join(o.Folder, rulesName)
	if o.Folder != "" {
		if rules, err := plan.LoadRules(at); err == nil {
			return &rules, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	scratch, err := os.MkdirTemp("", "zwheel-learn-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	p := *o.Plan
	p.Seed = o.First
	folder := filepath.Join(scratch, "run")
	if _, err := o.Crew.Record(ctx, &p, folder); err != nil {
		return nil, err
	}
	recorded, err := run.Open(folder)
	if err != nil {
		return nil, err
	}
	rules, err := plan.LoadRules(recorded.RulesPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && o.Folder != "" {
		var text []byte
		if text, err = os.ReadFile(recorded.RulesPath()); err == nil {
			err = atomicfile.Text(at, text)
		}
	}
	return &rules, err
}
