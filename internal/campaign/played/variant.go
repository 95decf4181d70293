package played

import (
	"context"
	"errors"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// Variant is a match that is played in place of one that was recorded.
type Variant struct {
	Plan   *plan.Plan
	Script map[string][]bot.Moment // of the bots that follow one
	Until  time.Duration           // it is cut off there; 0 means at its end
}

// Shown is a finding, as far as it takes to know it again.
type Shown struct {
	Signature string        `json:"signature"`
	View      string        `json:"view,omitempty"`
	Entity    string        `json:"entity,omitempty"`
	Began     time.Duration `json:"began_ns"`
}

// ShownIn are the findings of a verdict; of one of a match that could not be judged there are none.
func ShownIn(v *judge.Verdict) (list []Shown) {
	if v == nil {
		return nil
	}
	for _, f := range v.Findings {
		list = append(list, Shown{f.Signature, f.View, f.Entity, time.Duration(f.BeganAt)})
	}
	return list
}

// Told are the findings of a variant that was played. It is an error if another play of it might show others.
func Told(v *judge.Verdict) ([]Shown, error) {
	if v != nil && v.Ending.Unrepeatable != "" {
		return nil, errors.New(v.Ending.Unrepeatable)
	}
	return ShownIn(v), nil
}

// Try plays a variant in this process.
func (h Here) Try(ctx context.Context, v Variant, _ int) ([]Shown, error) {
	options := match.Options{Script: v.Script, Until: v.Until}
	if v.Plan.ByPrograms() {
		options.Guard, options.Zwheel = h.Wall.Guard, h.Wall.Zwheel
	}
	r, err := match.Run(ctx, v.Plan, options)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	return Told(r.Verdict)
}
