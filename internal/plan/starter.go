package plan

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed starters
var starters embed.FS

// Shape is a kind of build for which there is a plan to start from.
type Shape struct{ Name, What string }

// Shapes lists them.
var Shapes = []Shape{
	{"demo", "the demo game"},
	{"server", "a server and clients of your own, started by zwheel"},
	{"attached", "clients of your own, and a server that runs already"},
	{"hosted", "one client is the server too"},
	{"relayed", "clients own what they move, and the server passes it on"},
	{"lockstep", "a game that plays the same ticks everywhere, with a server"},
	{"rollback", "clients that predict each other's ticks and play them again"},
}

// Starter is a plan to start from, with comments.
func Starter(shape string) ([]byte, error) {
	var names []string
	for _, s := range Shapes {
		if s.Name == shape {
			return starters.ReadFile("starters/" + shape + ".yaml")
		}
		names = append(names, s.Name)
	}
	return nil, fmt.Errorf("there is no shape %q; there are %s", shape, strings.Join(names, ", "))
}
