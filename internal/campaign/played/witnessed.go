package played

import (
	"context"
	"fmt"
	"slices"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// Witnessed is what came of a match of the demo game at which a witness looked from inside the game, who knows nothing
// of the judge.
type Witnessed struct {
	Showed   bool         `json:"showed"` // the fault that the plan injects
	Compared int          `json:"comparisons"`
	Kinds    []judge.Kind `json:"kinds,omitempty"` // of all findings
	First    string       `json:"first,omitempty"` // finding: its signature, and why
	Heads    []Found      `json:"heads,omitempty"` // of incidents
	Odd      []string     `json:"odd,omitempty"`   // what should not happen to any match
}

// Look plays a match with a witness, who says whether the fault showed that the plan injects.
func Look(ctx context.Context, p *plan.Plan) (r *match.Result, showed bool, err error) {
	faults, err := hillfold.ParseFaults(p.Game.Faults)
	if err != nil {
		return nil, false, err
	}
	witness := hillfold.NewWitness(hillfold.Fault(faults))
	r, err = match.Run(ctx, p, match.Options{Look: witness.Look})
	return r, witness.Showed(), err
}

// Witness plays a match in this process.
func (h Here) Witness(ctx context.Context, p *plan.Plan) (Witnessed, error) {
	r, showed, err := Look(ctx, p)
	if err != nil {
		return Witnessed{}, err
	}
	w := Witnessed{Showed: showed, Compared: r.Verdict.Comparisons, Heads: Heads(r.Verdict)}
	for i, f := range r.Verdict.Findings {
		if i == 0 {
			w.First = f.Signature + ": " + f.Why
		}
		if !slices.Contains(w.Kinds, f.Kind) {
			w.Kinds = append(w.Kinds, f.Kind)
		}
	}
	if r.Malformed > 0 {
		w.Odd = append(w.Odd, fmt.Sprintf("%d malformed packets", r.Malformed))
	}
	if len(r.NeverIn) > 0 {
		w.Odd = append(w.Odd, fmt.Sprintf("never in: %v", r.NeverIn))
	}
	return w, nil
}
