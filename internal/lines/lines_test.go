package lines

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// However a stream is cut into pieces, its lines are the same.
func TestLinesDoNotDependOnThePieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := rapid.SliceOf(rapid.StringMatching(`[a-c]{0,5}`)).Draw(t, "lines")
		last := rapid.StringMatching(`[a-c]{0,5}`).Draw(t, "last")
		text := strings.Join(append(want, last), "\n")
		var got []string
		take := func(text []byte, cut bool) {
			assert.False(t, cut)
			got = append(got, string(text))
		}
		var s Splitter
		for len(text) > 0 {
			n := rapid.IntRange(1, len(text)).Draw(t, "piece")
			s.Take([]byte(text[:n]), take)
			text = text[n:]
		}
		s.End(take)
		if last != "" {
			want = append(want, last)
		}
		assert.Equal(t, strings.Join(want, "\n"), strings.Join(got, "\n"))
	})
}

func TestALineThatIsTooLongIsCutOnceAndTheNextIsWhole(t *testing.T) {
	var lengths []int
	var cuts []bool
	take := func(text []byte, cut bool) { lengths, cuts = append(lengths, len(text)), append(cuts, cut) }
	var s Splitter
	for range 3 {
		s.Take(make([]byte, Max/2+1), take)
	}
	s.Take([]byte("rest\nnext\n"), take)
	assert.Equal(t, []int{Max, 4}, lengths)
	assert.Equal(t, []bool{true, false}, cuts)
}

func TestATailReadsWhatIsWrittenMeanwhile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log")
	tail := Follow(path)
	var got []string
	read := func() []string {
		got = nil
		require.NoError(t, tail.ReadAll(func(text []byte, _ bool) { got = append(got, string(text)) }))
		return got
	}
	assert.Empty(t, read(), "it is not there yet")
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	for _, step := range []struct {
		written string
		read    []string
	}{{"one\ntw", []string{"one"}}, {"o\n\nthree", []string{"two", ""}}, {"", nil}, {"\n", []string{"three"}}, {"four", nil}} {
		_, err := file.WriteString(step.written)
		require.NoError(t, err)
		assert.Equal(t, step.read, read())
	}
	require.NoError(t, tail.End(func(text []byte, _ bool) { got = append(got, string(text)) }))
	assert.Equal(t, []string{"four"}, got)
}
