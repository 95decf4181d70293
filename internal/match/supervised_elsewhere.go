//go:build !linux || !amd64

package match

import (
	"context"
	"time"

	"zitherwheel/internal/match/supervisor"
)

// errElsewhere is why no build plays on the virtual clock here.
var errElsewhere = &supervisor.RefusedError{Why: "it takes Linux on a 64-bit x86 processor"}

func newSupervisedStage(context.Context, *buildMatch, time.Duration) (stage, error) {
	return nil, errElsewhere
}

func VirtualClock(context.Context) Ability {
	return Ability{Name: virtualClockName, What: errElsewhere.Why, For: virtualClockFor}
}

func ownSpaces() []Ability {
	return []Ability{{Name: ownNetworkName, What: errElsewhere.Why, For: ownNetworkFor}, {Name: ownNumbersName, What: errElsewhere.Why, For: ownNumbersFor}}
}
