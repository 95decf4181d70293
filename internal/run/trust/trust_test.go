package trust

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// settings puts the user's settings into a folder of their own.
func settings(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"XDG_CONFIG_HOME", "HOME", "AppData"} {
		t.Setenv(name, dir)
	}
	return dir
}

func TestAMarkIsKnownWhereItWasMade(t *testing.T) {
	dir := settings(t)
	plan := []byte("build: {server: {run: [./server]}}\n")
	assert.False(t, Known(plan, ""), "without a key nothing is")
	mark, err := Mark(plan)
	require.NoError(t, err)
	again, err := Mark(plan)
	require.NoError(t, err)
	assert.Equal(t, mark, again, "the key is made once")
	assert.True(t, Known(plan, mark))
	assert.False(t, Known([]byte("build: {server: {run: [./other]}}\n"), mark), "a changed plan has another")
	assert.False(t, Known(plan, strings.Repeat("0", len(mark))))
	assert.False(t, Known(plan, "no mark"))
	if runtime.GOOS == "linux" {
		info, err := os.Stat(filepath.Join(dir, "zwheel", "key"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else reads it")
	}
	settings(t)
	_, err = Mark([]byte("another user's"))
	require.NoError(t, err)
	assert.False(t, Known(plan, mark), "to another user it is a stranger's")
}

func TestAKeyThatIsNoneIsSaid(t *testing.T) {
	dir := settings(t)
	_, err := Mark(nil)
	require.NoError(t, err)
	paths, err := filepath.Glob(filepath.Join(dir, "*", "zwheel", "key"))
	require.NoError(t, err)
	paths = append(paths, filepath.Join(dir, "zwheel", "key"))
	for _, path := range paths {
		if _, err := os.Stat(path); err == nil {
			require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
		}
	}
	_, err = Mark(nil)
	assert.ErrorContains(t, err, "is no key")
}

// Runs that are begun at once, as the first of a user, have one key.
func TestTheKeyIsMadeOnce(t *testing.T) {
	settings(t)
	var group sync.WaitGroup
	marks, errs := make([]string, 32), make([]error, 32)
	for i := range marks {
		group.Go(func() { marks[i], errs[i] = Mark([]byte("plan")) })
	}
	group.Wait()
	for i := range marks {
		require.NoError(t, errs[i])
		assert.Equal(t, marks[0], marks[i])
	}
}
