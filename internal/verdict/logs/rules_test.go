package logs

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/rulebook"
)

func TestRulesCountLinesByProgram(t *testing.T) {
	views := []string{"server", "fern", "moss"}
	for _, c := range []struct {
		name string
		rule rulebook.LogRule
		want []string // view: why
	}{
		{"as many as may be", rulebook.LogRule{Match: "notice", In: "clients", Lines: rulebook.Often{Min: 2, Max: 2, Capped: true}}, nil},
		{"one too many in one program", rulebook.LogRule{Match: "error", Lines: rulebook.Often{Capped: true}}, []string{"moss 3s: 1 line fits in the log of moss (allowed: at most 0)"}},
		{"too few in another", rulebook.LogRule{Match: "notice", Lines: rulebook.Often{Min: 1}}, []string{"server 3s: no line fits in the log of server (expected: at least 1)"}},
		{"of one program alone", rulebook.LogRule{Match: "notice for \\w+ [12]$", In: "fern", Lines: rulebook.Often{Max: 1, Capped: true}}, []string{"fern 2s: 2 lines fit in the log of fern (allowed: at most 1)"}},
		{"of the server alone", rulebook.LogRule{Match: "notice", In: "server", Lines: rulebook.Often{Capped: true}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.NoError(t, c.rule.Validate())
			r := NewRules([]rulebook.LogRule{c.rule}, views)
			for _, view := range views[1:] {
				for i := 1; i <= 2; i++ {
					r.Line(view, time.Duration(i)*time.Second, fmt.Sprintf("notice for %s %d", view, i))
				}
			}
			r.Line("moss", 3*time.Second, "an error")
			var got []string
			for _, b := range r.Broken() {
				got = append(got, fmt.Sprintf("%s %s: %s", b.View, b.At, b.Why))
			}
			assert.Equal(t, c.want, got)
		})
	}
}
