// Command zwheel plays networked matches with bots on bad links and says who
// disagreed with the server about what.
package main

import (
	"os"

	"zitherwheel/internal/cli"
)

func main() {
	if code, done := cli.AsOwner(os.Args[1:]); done {
		os.Exit(code)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
