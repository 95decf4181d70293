package report

import (
	"fmt"

	"zitherwheel/internal/match"
)

// Machine writes what a machine allows.
func (t *Text) Machine(list []match.Ability) {
	for _, a := range list {
		has := t.colour("2", "yes")
		if !a.Has {
			has = t.colour("3", "no ")
		}
		fmt.Fprintf(t.w, "%s  %s: %s\n     for %s\n", has, a.Name, a.What, a.For)
	}
}
