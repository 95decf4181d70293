package trace

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func timeOfLine(line []byte) (time.Duration, bool) {
	n, err := strconv.Atoi(string(bytes.SplitN(line, []byte(" "), 2)[0]))
	return time.Duration(n) * time.Second, err == nil
}

// numbered is a file of numbered lines.
func numbered(t testing.TB, lines, width int) (path string, text []byte) {
	t.Helper()
	for i := range lines {
		text = fmt.Appendf(text, "%d %0*d\n", i, width, i*i)
	}
	path = filepath.Join(t.TempDir(), "lines")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return path, text
}

func TestAPackedFileIsTheSameAndMayBeEnteredInTheMiddle(t *testing.T) {
	path, text := numbered(t, 60_000, 60)
	packed, err := Pack(path)
	require.NoError(t, err)
	whole, err := Open(packed)
	require.NoError(t, err)
	got, err := io.ReadAll(whole)
	require.NoError(t, err)
	whole.Close()
	require.True(t, bytes.Equal(text, got))

	rapid.Check(t, func(t *rapid.T) {
		from := time.Duration(rapid.IntRange(-5, 60_010).Draw(t, "from")) * time.Second
		file, err := OpenFrom(packed, from, timeOfLine)
		require.NoError(t, err)
		defer file.Close()
		rest, err := io.ReadAll(file)
		require.NoError(t, err)
		require.True(t, bytes.HasSuffix(text, rest), "it is the end of the file")
		first, ok := timeOfLine(rest)
		require.True(t, ok, "it begins with a line")
		require.True(t, first <= max(0, from), "nothing that was asked for is left out")
		if from > 50_000*time.Second {
			require.Less(t, len(rest), len(text)/2, "and most of what was not")
		}
	})
}

func TestOtherFilesAreReadFromTheBeginning(t *testing.T) {
	path, text := numbered(t, 1000, 10)
	for _, name := range []string{"plain", "one frame", "broken"} {
		if name == "one frame" {
			var err error
			path, err = Pack(path)
			require.NoError(t, err)
		}
		if name == "broken" {
			packed, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, packed[:len(packed)-20], 0o600))
		}
		file, err := OpenFrom(path, 900*time.Second, timeOfLine)
		require.NoError(t, err, name)
		got, _ := io.ReadAll(file) // a broken one ends early
		file.Close()
		assert.True(t, bytes.HasPrefix(text, got), name)
	}
	_, err := OpenFrom(filepath.Join(t.TempDir(), "gone"), 0, timeOfLine)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestALineLongerThanAFrameStaysWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "long")
	long := bytes.Repeat([]byte("x"), 3*frameSize+17)
	text := append(append([]byte("1 a\n"), long...), []byte("\n2 b\nend without a line")...)
	require.NoError(t, os.WriteFile(path, text, 0o600))
	packed, err := Pack(path)
	require.NoError(t, err)
	file, err := Open(packed)
	require.NoError(t, err)
	defer file.Close()
	got, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, got))
}
