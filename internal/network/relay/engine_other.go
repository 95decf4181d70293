//go:build !linux

package relay

func newEngine(c *core, _ bool) (engine, error) { return newPortable(c), nil }

// socket is a datagram socket.
type socket struct{ *portableSocket }
