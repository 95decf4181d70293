package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever becomes of a file of a run folder, no command takes what is left for a pass.
func TestADamagedRunFolderIsNeverAPass(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector has nothing to find in it")
	}
	dir := t.TempDir()
	t.Chdir(dir)
	require.NoError(t, os.WriteFile("plan.yaml", []byte("title: calm\nduration: 2s\nbots: [{name: fern, link: village}, {name: moss, link: hill-farm}]\n"), 0o600))
	for seed, folder := range map[string]string{"1": "run", "2": "other"} {
		require.Equal(t, exitInSync, Main([]string{"run", "plan.yaml", "--seed", seed, "--out", folder}, &strings.Builder{}, &strings.Builder{}))
	}
	require.Equal(t, exitInSync, Main([]string{"check", "run"}, &strings.Builder{}, &strings.Builder{}))
	var files []string
	require.NoError(t, filepath.WalkDir("run", func(path string, d fs.DirEntry, err error) error {
		if name, _ := filepath.Rel("run", path); err == nil && !d.IsDir() && name != "recorded-by" { // which is no evidence: without it one is asked
			files = append(files, name)
		}
		return err
	}))
	require.Greater(t, len(files), 10)
	mutations := map[string]func(text, others []byte) []byte{
		"removed":                       func([]byte, []byte) []byte { return nil },
		"emptied":                       func([]byte, []byte) []byte { return []byte{} },
		"cut in the middle":             func(text, _ []byte) []byte { return text[:len(text)/2] },
		"longer by a byte":              func(text, _ []byte) []byte { return append(text, '\n') },
		"with a bit turned in its head": func(text, _ []byte) []byte { return turned(text, len(text)/10) },
		"with a bit turned in its tail": func(text, _ []byte) []byte { return turned(text, len(text)*9/10) },
		"full of other bytes":           func(text, _ []byte) []byte { return slices.Repeat([]byte("\xa7{"), len(text)/2+1) },
		"swapped with another run's":    func(_, others []byte) []byte { return others },
	}
	for _, name := range files {
		whole, err := os.ReadFile(filepath.Join("run", name))
		require.NoError(t, err)
		others, err := os.ReadFile(filepath.Join("other", name))
		require.NoError(t, err)
		for how, mutate := range mutations {
			text := mutate(slices.Clone(whole), others)
			if text != nil && string(text) == string(whole) {
				continue
			}
			t.Run(strings.Join([]string{name, how}, " "), func(t *testing.T) {
				damaged := filepath.Join(t.TempDir(), "run")
				require.NoError(t, os.CopyFS(damaged, os.DirFS("run")))
				at := filepath.Join(damaged, name)
				if text == nil {
					require.NoError(t, os.Remove(at))
				} else {
					require.NoError(t, os.WriteFile(at, text, 0o600))
				}
				for _, command := range [][]string{{"check", damaged}, {"tail", damaged}, {"replay", damaged}, {"why", damaged}} {
					var said strings.Builder
					assert.NotEqual(t, exitInSync, Main(command, &said, &said), "%s: %s", command[0], said.String())
					assert.NotContains(t, said.String(), "panic")
					assert.NotContains(t, said.String(), "IN SYNC:")
				}
				for _, command := range [][]string{{"show", damaged}, {"report", damaged, "--out", filepath.Join(t.TempDir(), "page.html")}} {
					var said strings.Builder
					Main(command, &said, &said)
					assert.NotContains(t, said.String(), "panic")
					assert.NotRegexp(t, `(^|\s)IN SYNC`, said.String(), command[0])
				}
			})
		}
	}
}

func turned(text []byte, at int) []byte {
	if len(text) == 0 {
		return []byte{1}
	}
	text[at] ^= 4
	return text
}
