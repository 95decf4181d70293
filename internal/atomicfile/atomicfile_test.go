package atomicfile

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}

func TestAFileIsReplacedWholeOrStaysAsItWas(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	require.NoError(t, Text(path, []byte("one")))
	assert.Equal(t, "one", read(t, path))
	broken := errors.New("broken")
	err := Write(path, func(w io.Writer) error { _, _ = io.WriteString(w, "half"); return broken })
	require.ErrorIs(t, err, broken)
	assert.Equal(t, "one", read(t, path))
	require.NoError(t, JSON(path, map[string]int{"n": 1}))
	assert.Equal(t, "{\n  \"n\": 1\n}\n", read(t, path))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing half written is left")
	assert.Error(t, Text(filepath.Join(dir, "no", "such", "folder"), nil))
}

func TestPermissionsOfAFileThatIsThereAreKept(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("has no such permissions")
	}
	path := filepath.Join(t.TempDir(), "a")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, Text(path, []byte("secret")))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestBehindALinkTheFileItselfIsWritten(t *testing.T) {
	dir := t.TempDir()
	path, link := filepath.Join(dir, "a"), filepath.Join(dir, "link")
	require.NoError(t, os.WriteFile(path, []byte("old"), 0o600))
	if err := os.Symlink(path, link); err != nil {
		t.Skip(err)
	}
	require.NoError(t, Text(link, []byte("new")))
	assert.Equal(t, "new", read(t, path))
	info, err := os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
}

func TestWhatIsNoRegularFileIsWrittenInPlace(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("needs /dev/full")
	}
	require.NoError(t, Text("/dev/null", []byte("nothing")))
	info, err := os.Stat("/dev/null")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeDevice)
	assert.ErrorContains(t, Text("/dev/full", []byte("something")), "no space left")
}
