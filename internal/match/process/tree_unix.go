//go:build unix

package process

import (
	"errors"
	"os/exec"
	"syscall"
)

// tree is a process with all that it started, as a process group.
type tree struct{ group int }

func (t *tree) start(c *exec.Cmd) error {
	c.SysProcAttr = attributes()
	if err := c.Start(); err != nil {
		return err
	}
	t.group = c.Process.Pid
	return nil
}

// ask asks the whole group to end and reports whether that was possible.
func (t *tree) ask(signal string) bool {
	s := syscall.SIGTERM
	if signal == "interrupt" {
		s = syscall.SIGINT
	}
	return syscall.Kill(-t.group, s) == nil
}

// kill ends the whole group.
func (t *tree) kill() { killGroup(t.group) }

func (t *tree) release() {}

// killGroup ends a process group; that there is none any more is as good.
func killGroup(group int) {
	if group > 1 {
		if err := syscall.Kill(-group, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
			_ = syscall.Kill(group, syscall.SIGKILL)
		}
	}
}
