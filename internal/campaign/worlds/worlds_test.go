package worlds

import (
	"context"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"zitherwheel/internal/verdict/judge"
)

func TestMeasure(t *testing.T) {
	if os.Getenv("MEASURE") == "" {
		t.Skip()
	}
	if os.Getenv("MEASURE") != "1" {
		Debug = func(m string, seed uint64, f *judge.Finding) {
			if m == os.Getenv("MEASURE") {
				fmt.Println(m, seed, f.Kind, f.View, f.Entity, f.Subject, f.BeganAt, f.EndedAt, f.Why)
			}
		}
	}
	rows, err := Run(context.Background(), 40, 100, nil)
	require.NoError(t, err)
	a, b := 0, 0
	for _, r := range rows {
		fmt.Printf("%-22s showed %3d found %3d first %3d blamed %3d incidents %.2f alarms %d  %v\n", r.Mistake, r.Showed, r.Found, r.First, r.Blamed, float64(r.Incidents)/float64(max(1, r.Found)), r.Alarms, r.Others)
		a, b = a+r.First, b+r.Showed
	}
	fmt.Println(a, b, float64(a)/float64(b))
}
