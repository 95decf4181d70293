//go:build unix

package process

import (
	"os/signal"
	"syscall"
)

func ignoreTerminate() { signal.Ignore(syscall.SIGTERM) }
