//go:build !linux

package relay

import "time"

// sleepUntil sleeps until a time of the relay, or until quit is closed.
func sleepUntil(c *core, at time.Duration, quit <-chan struct{}) { sleep(at-c.now(), quit) }
