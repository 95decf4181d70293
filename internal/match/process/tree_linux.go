package process

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
)

// attributes puts a process into a group of its own, so that it can be ended with
// what it starts and does not hear the terminal's interrupt.
//
// Pdeathsig is not used: it fires when the thread that started the process ends,
// which in Go may be long before the program does. The guard does its work.
func attributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// killMarked ends every process that has the marker in its environment: also those
// that have made a group of their own. It returns how many there were.
func killMarked(marker string) (count int) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return 0
	}
	needle := []byte(markerName + "=" + marker + "\x00")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && bytes.Contains(env, needle) && syscall.Kill(pid, syscall.SIGKILL) == nil {
			count++
		}
	}
	return count
}
