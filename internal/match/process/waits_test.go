package process

import (
	"os"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// More threads than there are processors have to wait for one.
func TestHowLongAProcessHadToWaitForAProcessor(t *testing.T) {
	if _, err := os.Stat("/proc/self/schedstat"); err != nil {
		t.Skip("this system does not tell: ", err)
	}
	var w Waits
	pid := os.Getpid()
	assert.Empty(t, w.Read([]int{pid, 1 << 30}), "there was no reading before")
	var stop atomic.Bool
	defer stop.Store(true)
	for range 3 * runtime.NumCPU() {
		go func() {
			runtime.LockOSThread()
			for !stop.Load() {
			}
		}()
	}
	before := runtime.GOMAXPROCS(4 * runtime.NumCPU())
	defer runtime.GOMAXPROCS(before)
	assert.Eventually(t, func() bool { return w.Read([]int{pid})[pid] > 0 }, 20*time.Second, 50*time.Millisecond)
}
