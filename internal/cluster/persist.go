package cluster

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// awayFor is for how long a broker that does not answer is asked again: as long as it takes to start one anew.
const awayFor = time.Minute

// persist does what takes an answer of the broker, and does it again while that is away: it may be starting again.
// What is done twice must be the same as once.
func (l *Link) persist(ctx context.Context, do func(context.Context) error) error {
	for began := time.Now(); ; pause(ctx, reconnect) {
		limited, end := context.WithTimeout(ctx, patience)
		err := do(limited)
		end()
		switch {
		case err == nil || ctx.Err() != nil || !isAway(err):
			return err
		case time.Since(began) > awayFor:
			return fmt.Errorf("%w: it has not answered for %v (%w)", ErrUnreachable, awayFor, err)
		}
	}
}

// isAway reports whether an error may be that the broker is not there just now.
func isAway(err error) bool {
	for _, one := range []error{
		context.DeadlineExceeded, jetstream.ErrNoStreamResponse, nats.ErrTimeout, nats.ErrNoResponders, nats.ErrNoServers,
		nats.ErrDisconnected, nats.ErrConnectionReconnecting, nats.ErrConnectionClosed,
	} {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}
