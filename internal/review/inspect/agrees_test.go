package inspect

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// judging is how often the judge looks at whom nobody spoke about: after a time of grace, say, it
// begins to judge so much later at most.
const judging = 201 * time.Millisecond

// What is shown of a moment says what the verdict says: nothing explains a value where its
// finding begins, and something did just before. Whatever fault is played.
func TestASheetSaysWhatTheVerdictSays(t *testing.T) {
	asked, most := 0, 50
	faults := (hillfold.Game{}).Faults()
	if testing.Short() { // the race detector finds in a few what it finds in all
		faults, most = faults[:3], 1
	}
	for _, fault := range faults {
		p, err := plan.Parse("p.yaml", []byte(`
duration: 12s
seed: 5
game: {faults: [`+fault.Name+`]}
bots: [{name: fern, link: hill-farm}, {name: moss, link: hill-farm, steps: [{do: join, at: 3s}, {do: roam}]}, {name: oak, link: village, steps: [{do: join}, {do: roam}, {do: leave, at: 8s}]}]
`))
		require.NoError(t, err)
		folder := filepath.Join(t.TempDir(), "run")
		played, err := match.Run(context.Background(), p, match.Options{Folder: folder})
		require.NoError(t, err)
		recorded, err := run.Open(folder)
		require.NoError(t, err)
		for i, f := range played.Verdict.Findings {
			if f.Subject.About != judge.AboutFields || f.Entity == "" || i >= 5 {
				continue
			}
			stands := func(at time.Duration) judge.Stands {
				w, err := Open(context.Background(), recorded, p.Rules, played.Verdict, f.Entity, at, at)
				require.NoError(t, err)
				s := w.At(at)
				view := slices.Index(s.Views, f.View)
				stands := judge.Stands("not there")
				for _, row := range s.Rows { // of fields that are compared together one is enough
					if row.Of == "" && slices.Contains(f.Subject.Fields(), row.Field) && stands != judge.Differs {
						stands = row.Cells[view].Mark
					}
				}
				return stands
			}
			asked++
			began, ended := time.Duration(f.BeganAt), time.Duration(f.EndedAt)
			at := stands(began)
			if at == judge.Ahead { // it is wrong from then on, and counts from when the view could know
				for i := range 20 {
					if at != judge.Differs {
						at = stands(began + time.Duration(i)*(ended-began)/20)
					}
				}
			}
			assert.Equal(t, judge.Differs, at, "%s: %s of %s %s in %s at %s", fault.Name, f.Kind, f.Entity, f.Subject, f.View, began)
			assert.NotEqual(t, judge.Differs, stands(began-judging), "%s: %s of %s %s in %s before %s", fault.Name, f.Kind, f.Entity, f.Subject, f.View, began)
		}
	}
	assert.Greater(t, asked, most)
}
