package process

import (
	"fmt"
	"os/exec"

	"golang.org/x/sys/windows"
)

// tree is a process with all that it started, as a job.
type tree struct{ job windows.Handle }

func (t *tree) start(c *exec.Cmd) error {
	job, err := newJob()
	if err != nil {
		return fmt.Errorf("job object: %w", err)
	}
	if err := c.Start(); err != nil {
		windows.CloseHandle(job)
		return err
	}
	t.job = job
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE|windows.SYNCHRONIZE, false, uint32(c.Process.Pid))
	if err != nil {
		return nil // it has ended already
	}
	defer windows.CloseHandle(process)
	if err := windows.AssignProcessToJobObject(job, process); err != nil {
		if event, _ := windows.WaitForSingleObject(process, 0); event == windows.WAIT_OBJECT_0 {
			return nil // it has ended in the meantime, and what has ended is denied a job
		}
		_ = c.Process.Kill()
		return fmt.Errorf("job object: %w", err)
	}
	return nil
}

// ask cannot ask a process without a window: only its control line can.
func (t *tree) ask(string) bool { return false }

func (t *tree) kill() { _ = windows.TerminateJobObject(t.job, 1) }

func (t *tree) release() { windows.CloseHandle(t.job) }

func killGroup(int) {}

func killMarked(string) int { return 0 }
