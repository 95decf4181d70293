//go:build unix

package process

import (
	"os/exec"
	"syscall"
)

// detach lets the guard outlive what ends this program: it has a session of its
// own.
func detach(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// enclose has nothing to do: a process group is joined at birth.
func enclose() {}
