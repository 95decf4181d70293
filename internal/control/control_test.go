package control

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestALineIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := Line{Do: rapid.SampledFrom([]string{Hello, Join, Input, Press, Set, Leave, Stop}).Draw(t, "do"),
			Seq: rapid.Uint64Range(0, 1<<53).Draw(t, "seq"), Move: rapid.Float64Range(0, 4).Draw(t, "move"), Turn: rapid.Float64Range(-1, 1).Draw(t, "turn"),
			Run: rapid.Bool().Draw(t, "run"), Name: rapid.String().Draw(t, "name")}
		if rapid.Bool().Draw(t, "holds") {
			l.Hold = []string{"forward", rapid.String().Draw(t, "key")}
		}
		got, err := Parse(l.Encode())
		require.NoError(t, err)
		require.Equal(t, l, got)
	})
}

func TestTheLinesAreThoseOfTheSpecification(t *testing.T) {
	for text, line := range map[string]Line{
		`{"do":"hello","driving":1,"name":"fern","seed":31}`:       {Do: Hello, Version: Version, Name: "fern", Seed: 31},
		`{"do":"input","seq":1,"move":1,"turn":-0.35,"run":true}`:  {Do: Input, Seq: 1, Move: 1, Turn: -0.35, Run: true},
		`{"do":"press","seq":3,"input":"bark"}`:                    {Do: Press, Seq: 3, Input: "bark"},
		`{"do":"set","what":"place","to":[20,-20]}`:                {Do: Set, What: "place", To: []float64{20, -20}},
		`{"do":"input","seq":2,"move":1,"hold":["forward","run"]}`: {Do: Input, Seq: 2, Move: 1, Hold: []string{"forward", "run"}},
		`{"do":"stop"}`: {Do: Stop},
	} {
		assert.Equal(t, text, string(line.Encode()))
	}
	for _, wrong := range []string{"", "stop", "{}", `{"do":5}`} {
		_, err := Parse([]byte(wrong))
		assert.ErrorContains(t, err, "no control line", wrong)
	}
	assert.Equal(t, `{"do":"input","seq":4}`, string(Line{Do: Input, Seq: 4, Move: math.NaN()}.Encode()), "what is no number is not said")
}
