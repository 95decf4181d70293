package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
)

// isStored reports whether a seed has a result already.
func (w *Worker) isStored(ctx context.Context, b *batch, seed uint64) bool {
	s, err := w.link.js.Stream(ctx, resultStream)
	if err != nil {
		return false // then it is played, and stored once all the same
	}
	_, err = s.GetLastMsgForSubject(ctx, resultSubject+b.Campaign+"."+b.key(seed))
	return err == nil
}

// store stores a result, unless there is one already; the function that it returns waits until that is certain. Of two
// results on a virtual clock that differ it raises the alarm.
func (w *Worker) store(ctx context.Context, b *batch, seed uint64, r *Result, took time.Duration, repeats bool) (wait func() error) {
	text, err := json.Marshal(r)
	if err != nil {
		return func() error { return err }
	}
	subject := resultSubject + b.Campaign + "." + b.key(seed)
	m := &nats.Msg{Subject: subject, Data: text, Header: nats.Header{}}
	m.Header.Set(workerHeader, w.Name)
	m.Header.Set(tookHeader, strconv.FormatInt(took.Microseconds(), 10))
	future, err := w.link.js.PublishMsgAsync(m)
	return func() error {
		for {
			if err == nil {
				select {
				case <-future.Ok():
					return nil
				case err = <-future.Err():
				case <-time.After(patience):
					err = errors.New("the broker does not answer")
				}
			}
			if isTaken(err) {
				return w.compare(ctx, b, seed, subject, text, repeats && r.well())
			}
			if ctx.Err() != nil || isFull(err) {
				return err
			}
			pause(ctx, time.Second) // the broker may be starting again
			future, err = w.link.js.PublishMsgAsync(m)
		}
	}
}

// isTaken reports whether a seed has a result already.
func isTaken(err error) bool {
	return err != nil && strings.Contains(err.Error(), "maximum messages per subject exceeded")
}

// isFull reports whether the broker has no room left.
func isFull(err error) bool {
	return err != nil && slices.ContainsFunc([]string{"insufficient storage", "maximum bytes exceeded", "insufficient resources", "resource limits exceeded"},
		func(said string) bool { return strings.Contains(err.Error(), said) })
}

// compare holds a second result against the one that counts.
func (w *Worker) compare(ctx context.Context, b *batch, seed uint64, subject string, text []byte, repeats bool) error {
	s, err := w.link.js.Stream(ctx, resultStream)
	if err != nil {
		return err
	}
	first, err := s.GetLastMsgForSubject(ctx, subject)
	if err != nil {
		return err
	}
	if !repeats || bytes.Equal(first.Data, text) {
		return nil
	}
	alarm, err := json.Marshal(Alarm{b.Campaign, b.key(seed), first.Data, first.Header.Get(workerHeader), text, w.Name})
	if err != nil {
		return err
	}
	w.tell("ALARM: seed %d of %s went another way here than on %s", seed, b.Campaign, first.Header.Get(workerHeader))
	_, err = w.link.js.Publish(ctx, alarmSubject+b.Campaign, alarm)
	return err
}
