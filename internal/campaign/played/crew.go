package played

import (
	"context"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
)

// Crew plays matches.
type Crew interface {
	// Play plays a match as its seed has it, and leaves nothing behind.
	Play(ctx context.Context, p *plan.Plan) (Match, error)

	// Record plays it likewise, and leaves a run folder.
	Record(ctx context.Context, p *plan.Plan, folder string) (Match, error)

	// Try plays a variant of a match, and says what shows in it. On the wall clock the same one is played several times,
	// and nth is which of them it is.
	Try(ctx context.Context, v Variant, nth int) (Tried, error)

	// Witness plays a match of the demo game with a witness.
	Witness(ctx context.Context, p *plan.Plan) (Witnessed, error)

	// AtOnce is how many matches may be asked for at once.
	AtOnce(wall bool) int
}

// Here plays matches in this process.
type Here struct {
	Workers int           // matches at once; 0 means one for each core, or on the wall clock two
	Wall    match.Options // what a match on the wall clock needs
}

func (h Here) AtOnce(wall bool) int { return campaign.AtOnce(h.Workers, wall) }

func (h Here) Play(ctx context.Context, p *plan.Plan) (Match, error) {
	return h.Record(ctx, p, "")
}

func (h Here) Record(ctx context.Context, p *plan.Plan, folder string) (Match, error) {
	drawn, values, err := p.Drawn()
	if err != nil {
		return Match{}, err
	}
	options := h.Wall
	options.Folder, options.Logs = folder, true
	r, err := match.Run(ctx, drawn, options)
	if err != nil {
		return Match{}, err
	}
	m := matchOf(drawn, r)
	for _, v := range values {
		m.Drawn = append(m.Drawn, v.Path+" "+v.Value)
	}
	return m, nil
}
