//go:build unix

package cli

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
