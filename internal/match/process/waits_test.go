package process

import (
	"os"
	"os/exec"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// More programs than there are processors have to wait for one.
func TestHowLongAProcessHadToWaitForAProcessor(t *testing.T) {
	if _, err := os.Stat("/proc/self/schedstat"); err != nil || runtime.GOOS != "linux" {
		t.Skip("this system does not tell")
	}
	var pids []int
	for range 2*runtime.NumCPU() + 1 {
		c := exec.Command("sh", "-c", "while :; do :; done")
		require.NoError(t, c.Start())
		defer func() {
			_ = c.Process.Kill() // it may have ended
			_ = c.Wait()
		}()
		pids = append(pids, c.Process.Pid)
	}
	var w Waits
	waits, _ := w.Read(append(pids, 1<<30))
	assert.Empty(t, waits, "there was no reading before, and one is nobody's")
	assert.Eventually(t, func() bool {
		waits, since := w.Read(pids)
		for _, wait := range waits {
			if wait > 0 {
				return since > 0
			}
		}
		return false
	}, 20*time.Second, 50*time.Millisecond)
}
