//go:build linux

package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// instead is the program of Windows, to be tried under wine; without it a test is skipped.
func instead(t *testing.T) string {
	t.Helper()
	folder := os.Getenv(insteadName)
	if folder == "" {
		t.Skip("the program of Windows is tried where there is wine")
	}
	return filepath.Join(folder, "zwheel")
}

// A run folder of the virtual clock has the same bytes on both systems.
func TestWindowsRecordsTheSameBytes(t *testing.T) {
	program, dir := instead(t), t.TempDir()
	plan, err := os.ReadFile("../../examples/lost-goodbye.yaml")
	require.NoError(t, err)
	// As editors on Windows write it.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plan.yaml"), []byte(strings.ReplaceAll(string(plan), "\n", "\r\n")), 0o600))
	t.Chdir(dir)
	_, err = exec.Command(program, "run", "plan.yaml", "--out", "theirs").CombinedOutput()
	var failure *exec.ExitError
	require.ErrorAs(t, err, &failure)
	assert.Equal(t, exitOutOfSync, failure.ExitCode())
	require.Equal(t, exitOutOfSync, Main([]string{"run", "plan.yaml", "--out", "ours"}, &strings.Builder{}, &strings.Builder{}))
	names := 0
	require.NoError(t, filepath.WalkDir("ours", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		names++
		name, _ := filepath.Rel("ours", path)
		mine, err := os.ReadFile(path)
		require.NoError(t, err)
		other, err := os.ReadFile(filepath.Join("theirs", name))
		require.NoError(t, err)
		if !slices.Contains([]string{"about.json", "seal.json", "recorded-by"}, name) { // which name the build of the program, and the user
			assert.Equal(t, string(mine), string(other), name)
		}
		return nil
	}))
	assert.Greater(t, names, 8)
}

// ferries counts the programs of a build that are running, by the mark in their path.
func ferries(mark string) (n int) {
	paths, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range paths {
		if text, err := os.ReadFile(path); err == nil && strings.Contains(string(text), mark) && strings.Contains(string(text), "ferry.exe\x00") {
			n++
		}
	}
	return n
}

// Real programs over TCP: they are started, hear control lines, and are ended, also when
// the program that started them is killed. Datagrams do not work under this wine.
func TestAMatchOfRealProgramsOnWindows(t *testing.T) {
	program, dir := instead(t), t.TempDir()
	build := exec.Command("go", "build", "-o", filepath.Join(dir, "ferry.exe"), "./testdata/ferry")
	build.Env = append(os.Environ(), "GOOS=windows", "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	mark := "mark-" + filepath.Base(filepath.Dir(dir))
	plan := `
title: ferry
duration: 6s
clock: wall
game: {name: ferry}
build:
  ports: {game: tcp}
  server: {run: '.\ferry.exe serve {host}:{port} ` + mark + `', drive: input, ready: {port: true}}
  client: {run: ['.\ferry.exe', play, "{host}:{port}", "{name}", ` + mark + `]}
bots: [{name: elm, link: village}, {name: fir, steps: [{do: join, at: 1s}, {do: hold, inputs: [forward]}, {do: leave, at: 4s}]}]
watch: [{entities: boat/*, fields: [x, y], compare: distance, tolerance: 1, max-delay: 1s}]
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plan.yaml"), []byte(plan), 0o600))
	t.Chdir(dir)
	out, err = exec.Command(program, "run", "plan.yaml", "--out", "run").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "IN SYNC   2 clients agreed with server")
	assert.Zero(t, ferries(mark))
	out, err = exec.Command(program, "check", "run").CombinedOutput()
	require.NoError(t, err, "%s", out)

	// The job object ends them when nobody else does.
	run := exec.Command(program, "run", "plan.yaml", "--out", "killed")
	require.NoError(t, run.Start())
	require.Eventually(t, func() bool { return ferries(mark) >= 2 }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, exec.Command("kill", "-9", pidOf(t, "killed")).Run())
	_ = run.Wait()
	assert.Eventually(t, func() bool { return ferries(mark) == 0 }, 20*time.Second, 20*time.Millisecond, "nothing is left")
}

// pidOf is the number of the process that makes a run folder of that name.
func pidOf(t *testing.T, folder string) string {
	t.Helper()
	paths, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range paths {
		if text, err := os.ReadFile(path); err == nil && strings.Contains(string(text), "zwheel.exe\x00run\x00plan.yaml\x00--out\x00"+folder) {
			return filepath.Base(filepath.Dir(path))
		}
	}
	t.Fatal("the program is not there")
	return ""
}
