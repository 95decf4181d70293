package stage

import (
	"context"
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"
	"testing"
	"text/tabwriter"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/hillfold"
	"zitherwheel/judge"
	"zitherwheel/plan"
)

var trialSeeds = flag.Int("seeds", 3, "seeds of each cell of TestTrial; 100 takes about three minutes on two cores")

// trialLinks are from good to terrible.
var trialLinks = []string{"village", "hill-farm", "far-shore"}

func trialPlan(t testing.TB, seed int, fault, link string) *plan.Plan {
	p, err := plan.Parse("trial.yaml", fmt.Appendf(nil, `
length: 40s
seed: %d
game: {faults: [%s]}
bots:
  - {name: fern, link: %s}
  - {name: moss, link: %s}
  - {name: oak, link: %s, steps: [{do: join, at: 8s}, {do: chase, kind: sheep, for: 6s}, {do: roam}]}
  - {name: ash, link: %s, steps: [{do: join}, {do: roam}, {do: leave, at: 20s}, {do: rejoin, at: 25s}, {do: roam}]}
`, seed, fault, link, link, link, link))
	require.NoError(t, err)
	return p
}

// cell is what came of one fault on one link.
type cell struct{ matches, showed, found, missed, named, wrong, comparisons, findings int }

// TestTrial plays healthy and broken matches over many seeds and links and
// prints how the judge did. Whether lost-goodbye showed itself is read off the
// game's own lists at the end of the match, independently of the judge; the
// other two show themselves in every match.
//
//	go test ./stage -run TestTrial -v -seeds 100
func TestTrial(t *testing.T) {
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(table, "fault\tlink\tmatches\tshowed itself\tfound\tmissed\tnamed first\tother kind\tcomparisons\tfindings\t")
	faults := []hillfold.FaultInfo{{Name: ""}}
	faults = append(faults, hillfold.AllFaults...)
	for _, fault := range faults {
		for _, link := range trialLinks {
			c := play(t, fault, link)
			name := fault.Name
			if name == "" {
				name = "(healthy)"
				assert.Zero(t, c.found, "a healthy match was flagged on %s", link)
			}
			assert.Zero(t, c.missed, "%s on %s was not found though it showed itself", name, link)
			assert.Zero(t, c.wrong, "%s on %s was named something else", name, link)
			fmt.Fprintf(table, "%s\t%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t\n", name, link, c.matches, c.showed, c.found, c.missed, c.named, c.wrong, c.comparisons, c.findings)
		}
	}
	table.Flush()
}

func play(t *testing.T, fault hillfold.FaultInfo, link string) (sum cell) {
	var wait sync.WaitGroup
	var lock sync.Mutex
	seeds := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for seed := range seeds {
				m, err := newMatch(trialPlan(t, seed, fault.Name, link), Options{})
				assert.NoError(t, err)
				assert.NoError(t, m.clock.Run(context.Background(), m.plan.Length-3*time.Second))
				lately := m.server.Things()
				r, err := m.play(context.Background())
				assert.NoError(t, err)
				assert.Empty(t, r.NeverIn)
				assert.Zero(t, r.Malformed)
				lock.Lock()
				sum.add(fault, showed(m, lately, fault), r.Verdict)
				lock.Unlock()
			}
		})
	}
	for seed := range *trialSeeds {
		seeds <- seed
	}
	close(seeds)
	wait.Wait()
	return sum
}

func (c *cell) add(fault hillfold.FaultInfo, showed bool, v *judge.Verdict) {
	c.matches++
	c.comparisons += v.Comparisons
	c.findings += len(v.Findings)
	if showed {
		c.showed++
	}
	switch {
	case len(v.Incidents) == 0 && showed:
		c.missed++
	case len(v.Incidents) > 0:
		c.found++
		if string(v.Incidents[0].Kind) == fault.Kind {
			c.named++
		} else {
			c.wrong++
		}
	}
}

// showed asks the game itself whether a fault had an effect. lately is what was
// in the world a little earlier: news of its leaving may still be on the way.
func showed(m *match, lately []string, fault hillfold.FaultInfo) bool {
	if fault.Fault != hillfold.LostGoodbye {
		return fault.Name != ""
	}
	there := slices.Concat(lately, m.server.Things())
	for _, c := range m.clients {
		for _, name := range c.game.Things() {
			if c.game.Inside() && !slices.Contains(there, name) {
				return true
			}
		}
	}
	return false
}
