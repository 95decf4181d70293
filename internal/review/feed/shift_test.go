package feed

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

func TestTicksThatAreCountedFromAnotherBeginning(t *testing.T) {
	tell := func(from int, count func(tick int) int, late int) string {
		var text strings.Builder
		for k := from; k < 200; k++ {
			fmt.Fprintf(&text, `{"t":%.2f,"tick":%d,"full":true,"state":{"unit/1":{"x":%d,"hp":%d}}}`+"\n", float64(k)/10, count(k), 3*(k-late), 100-(k-late)/7)
		}
		return text.String()
	}
	same := func(k int) int { return k }
	for _, c := range []struct {
		name string
		view string
		want string
	}{
		{"the same", tell(20, same, 0), ""},
		{"from the moment that it joined", tell(20, func(k int) int { return k - 20 }, 0), "fern has at its ticks what server has 20 ticks later, in 205 of 205 changes: it counts them from another beginning, or is that far off"},
		{"two ticks behind all the time", tell(20, same, 2), "fern has at its ticks what server has 2 ticks earlier, in 205 of 205 changes: it counts them from another beginning, or is that far off"},
		{"wrong in a value, and now and then", strings.ReplaceAll(tell(20, same, 0), `"hp":9`, `"hp":8`), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			traces := files(t, tell(0, same, 0), c.view)
			traces.Align = Tick
			traces.Rules = rulebook.Rules{Fields: []rulebook.Rule{{Entities: "unit/*", Fields: []string{"x"}}, {Entities: "unit/*", Fields: []string{"hp"}}}}
			r, err := Judge(context.Background(), traces)
			require.NoError(t, err)
			said := ""
			for _, w := range r.Verdict.Warnings {
				if strings.Contains(w.Text, "beginning") {
					said = w.Text
				}
			}
			assert.Equal(t, c.want, said)
			assert.Equal(t, c.name == "the same", r.Verdict.Outcome == judge.InSync)
		})
	}
}
