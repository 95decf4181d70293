package process

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAProgramIsFoundAsAShellInItsFolderWould(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("programs are known by their endings there")
	}
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, "bin"), 0o755))
	program := filepath.Join(folder, "bin", "game")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "notes"), nil, 0o644))
	t.Setenv("PATH", filepath.Join(folder, "bin"))
	for name, c := range map[string]struct{ program, want string }{
		"by its name, on the path":         {"game", program},
		"by a path from its folder":        {"bin/game", program},
		"by one that begins with a dot":    {"./bin/game", program},
		"by a whole path":                  {program, program},
		"not what is not there":            {"./game", ""},
		"not what is no program":           {"./notes", ""},
		"not what is on the path nowhere":  {"notes", ""},
		"not by a whole path to something": {filepath.Join(folder, "nothing"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Find(c.program, folder)
			if c.want == "" {
				assert.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, filepath.Clean(got))
		})
	}
}

func TestAProgramFindsItsEnvironmentBesideThatOfThisOne(t *testing.T) {
	t.Setenv("OF_THIS_PROGRAM", "1")
	spec := Spec{Env: []string{"OF_THE_PLAN=2"}, Guard: &Guard{marker: "abc"}}
	env := spec.Environment()
	assert.Contains(t, env, "OF_THIS_PROGRAM=1")
	assert.Contains(t, env, "OF_THE_PLAN=2")
	assert.Contains(t, env, markerName+"=abc", "by which it is found again")
	spec.Guard = nil
	assert.NotContains(t, spec.Environment(), markerName+"=abc")
}
