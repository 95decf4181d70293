package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
	"zitherwheel/internal/verdict/rulebook"
)

// Run returns the traces of a run folder, to be judged as its plan says. Whoever is to
// judge them otherwise changes what they hold.
func Run(run *run.Run, p *plan.Plan) Traces {
	t := Traces{Packets: run.PacketsPath(), Rules: p.Watched(), Align: p.Align, Reference: p.Reference, Strict: p.Strict, Untraced: p.Untraced(), Unruled: p.Unruled(), Entities: p.MaxEntities,
		Ending: run.About.Ending, MayHush: true, OneClock: p.Clock != plan.Recorded}
	t.Logs = func(each func(view string, at time.Duration, text string)) error { return readLogs(run, each) }
	var timing metrics.Timing
	if run.Timing(&timing) {
		t.Timing = &timing
	}
	if rules, err := plan.LoadRules(run.RulesPath()); t.Unruled && err == nil {
		t.Freeze(rules)
	}
	for _, b := range p.Bots {
		if b.Name != p.Game.Host && p.Clock != plan.Recorded {
			t.Linked = append(t.Linked, b.Name)
		}
	}
	for _, view := range run.About.Views {
		t.Sources = append(t.Sources, Source{view, run.ViewPath(view)})
	}
	return t
}

// Freeze has traces judged by rules that were learned before: from the same match, or one of which this is another
// play. So what is compared does not change with what goes wrong.
func (t *Traces) Freeze(rules rulebook.Rules) {
	rules.Refused = t.Rules.Refused
	t.Rules, t.Unruled, t.Frozen = rules, false, true
}

// Recorded returns what was said of a run when it was played, or lets the judge speak
// if nothing was: of a run that was cut off, say.
func Recorded(ctx context.Context, run *run.Run, p *plan.Plan) (*Result, error) {
	if len(run.About.Damage) > 0 { // what was said of it then is no better
		return judged(ctx, run, p)
	}
	r := &Result{Verdict: &judge.Verdict{}, Measures: &metrics.Measures{}}
	for path, into := range map[string]any{run.FindingsPath(): r.Verdict, run.MeasuresPath(): r.Measures} {
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return judged(ctx, run, p)
		}
		if err == nil {
			err = json.Unmarshal(text, into)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return r, nil
}

// Rules are those that a run is compared by: its plan's, or those that were learned from it. Ask for
// them after Recorded, which says what is wrong with traces that nothing can be learned from.
func Rules(ctx context.Context, run *run.Run, p *plan.Plan) (rulebook.Rules, error) {
	t := Run(run, p)
	switch {
	case t.Frozen:
		return t.Rules, nil
	case !t.Unruled:
		return p.Rules, nil
	}
	var unusable *UnusableError
	if err := t.learn(ctx); err != nil && !errors.As(err, &unusable) {
		return t.Rules, err
	}
	return t.Rules, nil
}

// judged lets the judge speak of a run. Of one that went wrong there may be nothing to
// judge, and that is what there is to say of it.
func judged(ctx context.Context, run *run.Run, p *plan.Plan) (*Result, error) {
	r, err := Judge(ctx, Run(run, p))
	var unusable *UnusableError
	if errors.As(err, &unusable) {
		how := run.About.Ending
		if how.Why == "" {
			how.How, how.Why = ending.Failed, unusable.Error()
		}
		return &Result{Verdict: Unjudged(how, p.Reference), Measures: &metrics.Measures{}}, nil
	}
	return r, err
}

// Unjudged is the verdict of a match of which nothing could be judged.
func Unjudged(how ending.Ending, reference string) *judge.Verdict {
	if reference == "" {
		reference = rulebook.Server
	}
	return &judge.Verdict{Outcome: judge.Inconclusive, Alignment: Shared, Reference: reference, Views: []judge.ViewReport{}, Events: []*judge.EventReport{},
		Rules: []judge.RuleReport{}, Incidents: []judge.Incident{}, Findings: []*judge.Finding{}, Ending: how, Warnings: []judge.Warning{}}
}
