package stage

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/plan"
)

func TestTry(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("SEEDS"))
	shown := 0
	for _, fault := range []string{"", "lost-goodbye", "kept-to-itself", "narrow-numbers"} {
		for _, link := range []string{"same-room", "village", "hill-farm", "train-window", "far-shore"} {
			kinds := map[string]int{}
			bad, cmp, exc, incs, doubt, never := 0, 0, 0, 0, 0, 0
			for seed := range n {
				p, err := plan.Parse("x", []byte(fmt.Sprintf(`
length: 40s
seed: %d
game: {faults: [%s]}
bots:
  - {name: fern, link: %s}
  - {name: moss, link: %s}
  - {name: oak, link: %s, steps: [{do: join, at: 8s}, {do: roam}]}
  - {name: ash, link: %s, steps: [{do: join}, {do: roam}, {do: leave, at: 20s}]}
`, seed, fault, link, link, link, link)))
				require.NoError(t, err)
				r, err := Run(context.Background(), p, Options{})
				require.NoError(t, err)
				if len(r.Verdict.Findings) > 0 {
					bad++
				}
				never += len(r.NeverIn)
				cmp += r.Verdict.Comparisons
				exc += r.Verdict.Excused
				incs += len(r.Verdict.Incidents)
				doubt += r.Verdict.Doubtful
				for i, f := range r.Verdict.Findings {
					kinds[string(f.Signature)]++
					if fault == os.Getenv("FAULT") && i == 0 && shown < 12 {
						shown++
						fmt.Println(link, seed, f.Kind, f.View, f.Entity, f.Fields, f.BeganAt, f.EndedAt, f.Apart, f.Why, f.Ended)
						for _, v := range f.Evidence.Values {
							fmt.Println("   ", v.At, v.View, "|", v.Reference, v.Age, v.Gap)
						}
					}
				}
			}
			fmt.Printf("%-16s %-12s bad %d/%d cmp %d exc %d doubt %d incidents %d never %d %v\n", fault, link, bad, n, cmp, exc, doubt, incs, never, kinds)
		}
	}
}
