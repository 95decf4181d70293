package played

import (
	"context"
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

	UsualFrom int // the draw of the order of threads from which on the usual order is taken; 0 is never
}

// Shown is a finding, as far as it takes to know it again.
type Shown struct {
	Signature string        `json:"signature"`
	View      string        `json:"view,omitempty"`
	Entity    string        `json:"entity,omitempty"`
	Subject   string        `json:"subject,omitempty"` // what of the entity, as judge.Subject has it
	Began     time.Duration `json:"began_ns"`
	Ended     time.Duration `json:"ended_ns"`
}

// Tried is what came of a variant: what shows in it, and what is known of the rest.
type Tried struct {
	Shown        []Shown       `json:"shown,omitempty"`
	Aside        []Shown       `json:"aside,omitempty"`        // set aside, because the machine stood still: nobody knows of these
	Judged       time.Duration `json:"judged_ns"`              // until then
	Stays        []Stay        `json:"stays,omitempty"`        // when each client was in the match
	Cut          string        `json:"cut,omitempty"`          // why what is later than Judged cannot be told, or ""
	Inconclusive string        `json:"inconclusive,omitempty"` // why nothing can be told of it, or ""
}

// Stay is when a client was in the match.
type Stay struct {
	View  string        `json:"view"`
	From  time.Duration `json:"from_ns"`
	Until time.Duration `json:"until_ns"`
}

// TriedOf sums up the verdict on a variant. A match that may not repeat is inconclusive.
func TriedOf(v *judge.Verdict) (t Tried) {
	if v == nil {
		t.Inconclusive = "it was not judged"
		return t
	}
	t.Shown, t.Aside, t.Judged = shown(v.Findings), shown(v.Aside), time.Duration(v.To)
	for _, view := range v.Views {
		for _, s := range view.Stays {
			t.Stays = append(t.Stays, Stay{view.Name, time.Duration(s.From), time.Duration(s.Until)})
		}
	}
	switch {
	case v.Ending.Unrepeatable != "":
		t.Inconclusive = v.Ending.Unrepeatable
	case !v.Ending.Well():
		t.Cut = "it was not played to its end"
		for _, text := range v.Ending.Sentences(time.Duration(v.To)) {
			t.Cut = text
			break
		}
	case v.Outcome == judge.NothingCompared:
		t.Cut = "nothing was compared in it"
		t.Judged = 0
	}
	return t
}

func shown(findings []*judge.Finding) (list []Shown) {
	for _, f := range findings {
		list = append(list, Shown{f.Signature, f.View, f.Entity, f.Subject.String(), time.Duration(f.BeganAt), time.Duration(f.EndedAt)})
	}
	return list
}

// Try plays a variant in this process.
func (h Here) Try(ctx context.Context, v Variant, _ int) (Tried, error) {
	options := match.Options{Script: v.Script, Until: v.Until, UsualFrom: v.UsualFrom}
	if v.Plan.ByPrograms() {
		options.Guard, options.Zwheel = h.Wall.Guard, h.Wall.Zwheel
	}
	r, err := match.Run(ctx, v.Plan, options)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return Tried{}, err
	}
	return TriedOf(r.Verdict), nil
}
