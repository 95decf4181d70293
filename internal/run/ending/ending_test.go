package ending

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A trace that broke twice and came back twice spoils nothing: whoever notes that it is
// back means the break that it is back from.
func TestTheNewestBreakOfAViewIsMeant(t *testing.T) {
	e := Ending{How: Complete, Breaks: []Break{{Kind: TraceBroken, View: "fern", At: 1}}}
	e.BreakOf(TraceBroken, "fern").Back = 2
	e.Breaks = append(e.Breaks, Break{Kind: TraceBroken, View: "moss", At: 3, Back: 4}, Break{Kind: TraceBroken, View: "fern", At: 5})
	e.BreakOf(TraceBroken, "fern").Back = 6
	assert.EqualValues(t, 2, e.Breaks[0].Back)
	assert.EqualValues(t, 6, e.Breaks[2].Back)
	assert.True(t, e.Well())
	assert.Nil(t, e.BreakOf(Silent, "fern"))
}
