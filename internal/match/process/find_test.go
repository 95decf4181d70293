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

func TestAProgramFindsASmallEnvironmentThatNoShellHasASayIn(t *testing.T) {
	t.Setenv("OF_THIS_PROGRAM", "1")
	seat, err := takeSeat(t.TempDir(), 12345)
	require.NoError(t, err)
	spec := Spec{Name: "fern's client", Home: "fern", Env: []string{"OF_THE_PLAN=2", "TZ=Pacific/Apia"}, Guard: &Guard{marker: "abc"}, Seat: seat}
	env, err := spec.Environment("/opt/game/bin/client")
	require.NoError(t, err)
	assert.NotContains(t, env, "OF_THIS_PROGRAM=1")
	assert.Contains(t, env, "TZ=Pacific/Apia", "the plan has the last word")
	assert.NotContains(t, env, "TZ=UTC")
	assert.Contains(t, env, "OF_THE_PLAN=2")
	assert.Contains(t, env, markerName+"=abc", "by which it is found again")
	if runtime.GOOS == "windows" {
		return
	}
	assert.Equal(t, "PATH=/opt/game/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", env[0])
	home := filepath.Join(seat.folder, "fern", "home")
	assert.Contains(t, env, "HOME="+home)
	assert.DirExists(t, home)

	spec.Guard, spec.Seat = nil, nil
	env, err = spec.Environment("/opt/game/bin/client")
	require.NoError(t, err)
	assert.Contains(t, env, "OF_THIS_PROGRAM=1")
	assert.NotContains(t, env, markerName+"=abc")
}

func TestASeedAsksForTheSameSeatEachTime(t *testing.T) {
	below := t.TempDir()
	one, err := takeSeat(below, 42)
	require.NoError(t, err)
	assert.Equal(t, "zw-0042", filepath.Base(one.folder))
	other, err := takeSeat(below, 42)
	require.NoError(t, err)
	assert.Equal(t, "zw-0043", filepath.Base(other.folder), "the first is taken")
	home, _, err := one.homes("../server")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(one.folder, "___server", "home"), home)
	require.NoError(t, os.WriteFile(filepath.Join(home, "left"), nil, 0o600))
	require.NoError(t, one.Close())
	again, err := takeSeat(below, 42)
	require.NoError(t, err)
	assert.Equal(t, one.folder, again.folder)
	assert.NoFileExists(t, filepath.Join(home, "left"))
	require.NoError(t, again.Close())
	require.NoError(t, other.Close())
}
