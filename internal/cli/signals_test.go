//go:build unix

package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
)

// Whatever ends a run from outside, its folder is finished: a signal to hang up, and that
// nobody reads any more what it says.
func TestWhatEndsARunFromOutsideLeavesItsFolderFinished(t *testing.T) {
	for what, end := range map[string]func(t *testing.T, command *exec.Cmd, read *os.File){
		"a signal to hang up": func(t *testing.T, command *exec.Cmd, _ *os.File) {
			require.NoError(t, command.Process.Signal(syscall.SIGHUP))
		},
		"a closed pipe": func(t *testing.T, _ *exec.Cmd, read *os.File) { require.NoError(t, read.Close()) },
	} {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			plan, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
			require.NoError(t, os.WriteFile(plan, []byte("duration: 60s\nclock: wall\nbots: [{name: fern, link: village}, {name: moss, steps: [{do: join, at: 2s}, {do: roam}]}, {name: oak, steps: [{do: join, at: 3s}, {do: roam}]}]\n"), 0o600))
			command := exec.Command(os.Args[0], "run", plan, "--out", folder)
			command.Env = append(os.Environ(), "CLI_TEST_PROGRAM=yes")
			read, write, err := os.Pipe()
			require.NoError(t, err)
			command.Stderr = write
			require.NoError(t, command.Start())
			require.NoError(t, write.Close())
			defer read.Close()
			_, err = read.Read(make([]byte, 1)) // it has begun
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				info, err := os.Stat(filepath.Join(folder, "views", "fern.jsonl"))
				return err == nil && info.Size() > 0
			}, 20*time.Second, 10*time.Millisecond)
			end(t, command, read)
			var failure *exec.ExitError
			require.True(t, errors.As(command.Wait(), &failure))
			assert.Equal(t, exitInterrupted, failure.ExitCode())
			ended, err := run.Open(folder)
			require.NoError(t, err)
			assert.Equal(t, ending.Interrupted, ended.About.How)
		})
	}
}

const twoForHalfAMinute = "duration: 30s\nclock: wall\nseed: 4\nbots: [{name: fern, link: village}, {name: moss, link: village}]\n"

// family is a process and all that it has started, and what those have.
func family(t *testing.T, pid int) (list []int) {
	list = append(list, pid)
	paths, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, path := range paths {
		children, _ := os.ReadFile(path) // it may have ended
		for _, word := range strings.Fields(string(children)) {
			child, err := strconv.Atoi(word)
			require.NoError(t, err)
			list = append(list, family(t, child)...)
		}
	}
	return list
}

// left counts those that are still there.
func left(family []int) (n int) {
	for _, pid := range family {
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err == nil && !strings.Contains(string(stat), ") Z ") {
			n++
		}
	}
	return n
}

// A run that is killed leaves no processes behind, and a folder that can be judged.
func TestARunThatIsKilledLeavesItsEvidenceAndNothingElse(t *testing.T) {
	if testing.Short() {
		t.Skip("must keep to the clock")
	}
	if runtime.GOOS != "linux" {
		t.Skip("counts in /proc")
	}
	dir := t.TempDir()
	path, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(path, []byte(twoForHalfAMinute), 0o600))
	c := exec.Command(os.Args[0], "run", path, "--out", folder)
	c.Env = append(os.Environ(), "CLI_TEST_PROGRAM=yes")
	require.NoError(t, c.Start())
	view := filepath.Join(folder, "views", "moss.jsonl")
	require.Eventually(t, func() bool { info, err := os.Stat(view); return err == nil && info.Size() > 80_000 }, 20*time.Second, 10*time.Millisecond)
	all := family(t, c.Process.Pid)
	require.GreaterOrEqual(t, left(all), 4, "zwheel, the server and two clients")
	require.NoError(t, c.Process.Kill())
	_ = c.Wait()
	require.Eventually(t, func() bool { return left(all) == 0 }, 10*time.Second, 10*time.Millisecond)
	var out bytes.Buffer
	assert.Equal(t, 3, Main([]string{"check", folder}, &out, &out))
	assert.Contains(t, out.String(), "INCONCLUSIVE   nothing was found, but the recording was cut off; it is judged up to")
}

// Ctrl-C in a terminal goes to all that is in the foreground, at any moment.
func TestAMatchOnTheVirtualClockEndsWithCtrlC(t *testing.T) {
	if testing.Short() || runtime.GOOS != "linux" {
		t.Skip("starts many programs")
	}
	if virtual := match.Machine(context.Background())[0]; !virtual.Has {
		t.Skip(virtual.What)
	}
	for name, server := range map[string]string{"programs that wait": "sleep 100", "a program that never does": "while :; do :; done"} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, "plan.yaml")
			require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, `
duration: 1h
game: {name: nothing}
build:
  server: {run: [sh, -c, "echo up; %s"], trace: none, ready: {log: up}}
  client: {run: [sh, -c, "echo in; while sleep 0.001; do :; done"], trace: none, drive: none, ready: {log: in}}
bots: [{name: fern}, {name: moss}]
`, server), 0o600))
			for i := range 8 {
				folder := filepath.Join(dir, strconv.Itoa(i))
				c := exec.Command(os.Args[0], "run", path, "--out", folder)
				c.Env = append(os.Environ(), "CLI_TEST_PROGRAM=yes")
				c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
				require.NoError(t, c.Start())
				time.Sleep(time.Duration(i*i) * 12 * time.Millisecond)
				all := family(t, c.Process.Pid)
				require.NoError(t, syscall.Kill(-c.Process.Pid, syscall.SIGINT))
				ended := make(chan error)
				go func() { ended <- c.Wait() }()
				select {
				case <-ended:
				case <-time.After(20 * time.Second):
					_ = syscall.Kill(-c.Process.Pid, syscall.SIGQUIT)
					require.Fail(t, "it does not end", "after %d", i)
				}
				assert.Eventually(t, func() bool { return left(all) == 0 }, 10*time.Second, 10*time.Millisecond)
			}
		})
	}
}

func TestADiskThatIsFullEndsTheRun(t *testing.T) {
	dir := t.TempDir()
	path, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(path, []byte(twoForHalfAMinute), 0o600))
	c := exec.Command("sh", "-c", `trap "" XFSZ; ulimit -f 120; exec "$0" run "$1" --out "$2"`, os.Args[0], path, folder) // 60 kB a file
	c.Env = append(os.Environ(), "CLI_TEST_PROGRAM=yes")
	out, err := c.CombinedOutput()
	var failure *exec.ExitError
	require.ErrorAs(t, err, &failure, "%s", out)
	assert.Equal(t, 3, failure.ExitCode())
	assert.Contains(t, string(out), "file too large")
	assert.Zero(t, left(family(t, c.Process.Pid)))
	run, err := run.Open(folder)
	require.NoError(t, err)
	assert.Equal(t, ending.Failed, run.About.How, "it does not stay running for ever")
	assert.Contains(t, run.About.Why, "file too large")
}
