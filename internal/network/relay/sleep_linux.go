package relay

import (
	"time"

	"golang.org/x/sys/unix"
)

// sleepUntil sleeps until a time of the relay, or until quit is closed. The runtime's timers wait in whole
// milliseconds; the rest is slept in the kernel.
func sleepUntil(c *core, at time.Duration, quit <-chan struct{}) {
	const coarse = 3 * time.Millisecond
	if wait := at - c.now(); wait > coarse {
		sleep(wait-coarse, quit)
	}
	for {
		wait := at - c.now()
		if wait <= 0 || wait > 2*coarse { // it is time, or quit is closed
			return
		}
		rest := unix.NsecToTimespec(int64(wait))
		_ = unix.Nanosleep(&rest, nil) // interrupted: what is left is slept in the next round
	}
}
