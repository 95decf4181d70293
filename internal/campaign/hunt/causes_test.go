package hunt

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
)

// head is a match whose one incident has that head and those kin.
func head(signature string, kin ...string) played.Match {
	return played.Match{Found: []played.Found{{Signature: signature, Kin: kin}}}
}

func times(n int, m played.Match) (list []played.Match) {
	for range n {
		list = append(list, m)
	}
	return list
}

func TestOneMistakeHasOneSignature(t *testing.T) {
	for _, row := range []struct {
		name    string
		matches [][]played.Match
		want    map[string]string // of heads, their causes
	}{
		{"what differs first is now a sheep, now a bell", [][]played.Match{
			times(8, head("overflow: bell", "overflow: sheep", "overflow: dog")),
			times(5, head("overflow: sheep")),
			times(4, head("overflow: dog", "overflow: sheep")),
		}, map[string]string{"overflow: bell": "overflow: sheep", "overflow: sheep": "overflow: sheep", "overflow: dog": "overflow: sheep"}},
		{"two mistakes that are sometimes in one incident", [][]played.Match{
			times(6, head("ghost: sheep")),
			times(2, head("ghost: sheep", "ghost: bell")),
			times(6, head("ghost: bell")),
			times(1, head("ghost: bell", "ghost: sheep")),
		}, map[string]string{"ghost: sheep": "ghost: sheep", "ghost: bell": "ghost: bell"}},
		{"what is never at a head is no cause", [][]played.Match{
			times(4, head("drift: sheep", "quantised: sheep")),
		}, map[string]string{"drift: sheep": "drift: sheep"}},
		{"a chain of them", [][]played.Match{
			times(9, head("late: dog")),
			times(4, head("late: sheep", "late: dog")),
			times(2, head("late: mill", "late: sheep")),
		}, map[string]string{"late: mill": "late: dog", "late: sheep": "late: dog", "late: dog": "late: dog"}},
	} {
		t.Run(row.name, func(t *testing.T) {
			causes := CausesIn(row.matches...)
			for signature, cause := range row.want {
				assert.Equal(t, cause, causes.Of(signature), signature)
			}
		})
	}
}

func TestMatchesAreToldByTheirCauses(t *testing.T) {
	matches := append(times(3, head("late: dog")), head("late: sheep", "late: dog"))
	told := CausesIn(matches).Told(matches)
	require.Len(t, told, 4)
	assert.Equal(t, "late: dog", told[3].Found[0].Signature)
	assert.Equal(t, "late: sheep", matches[3].Found[0].Signature, "what was found stays as it was")
}
