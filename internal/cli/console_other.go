//go:build !windows

package cli

import "os"

// drawsColours reports whether a terminal understands the sequences that colour.
func drawsColours(*os.File) bool { return true }
