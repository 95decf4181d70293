//go:build unix

package build

import (
	"os/signal"
	"syscall"
)

func ignoreTerminate() { signal.Ignore(syscall.SIGTERM) }
