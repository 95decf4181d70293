package cli

import (
	"os"

	"golang.org/x/sys/windows"
)

// drawsColours lets a console understand the sequences that colour, and reports whether it
// does. Older ones do only when they are asked to.
func drawsColours(f *os.File) bool {
	var mode uint32
	console := windows.Handle(f.Fd())
	if windows.GetConsoleMode(console, &mode) != nil {
		return false
	}
	return windows.SetConsoleMode(console, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
