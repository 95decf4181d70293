package stage

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/plan"
)

func TestTry(t *testing.T) {
	p, err := plan.Parse("x", []byte("length: 60s\nbots: [{name: dog, count: 8, link: hill-farm}]\n"))
	require.NoError(t, err)
	r, err := Run(context.Background(), p, Options{})
	require.NoError(t, err)
	fmt.Println(r.Verdict.Outcome, r.Verdict.Comparisons, r.Verdict.Excused, r.Verdict.Doubtful, len(r.Verdict.Findings), len(r.Verdict.Incidents), r.NeverIn, r.Malformed)
	for i, f := range r.Verdict.Findings {
		if i < 20 {
			fmt.Println(f.Kind, f.View, f.Entity, f.Fields, f.BeganAt, f.EndedAt, f.Apart, f.Why)
		}
	}
}
