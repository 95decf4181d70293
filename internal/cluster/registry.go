package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// Standing is what a worker tells of itself every few seconds.
type Standing struct {
	Name     string    `json:"name"`
	Version  string    `json:"version"`
	System   string    `json:"system"`    // like linux
	CPU      string    `json:"processor"` // like amd64
	Cores    int       `json:"cores"`
	MemoryMB int       `json:"memory_mb"` // 0 is not known
	Virtual  bool      `json:"virtual"`   // builds can be played on the virtual clock there
	Slots    int       `json:"slots"`
	Busy     int       `json:"busy"` // matches under way
	Playing  []string  `json:"playing"`
	Played   int       `json:"played"`
	Failed   int       `json:"failed"`
	Refused  string    `json:"refused,omitempty"` // why it handed work back last
	Leaving  bool      `json:"leaving,omitempty"`
	Seen     time.Time `json:"seen"` // by the broker's clock, as everywhere
}

// needs is what a plan that only plays on such a machine needs.
func (s Standing) needs() string { return s.System + "-" + s.CPU }

// classes are those of the work that a worker may take.
func (s Standing) classes() []Class { return []Class{{s.Version, s.needs()}, {s.Version, Any}} }

// Fits reports whether a worker may take the work of a class.
func (s Standing) Fits(c Class) bool {
	return s.Version == c.Version && (c.Needs == Any || c.Needs == s.needs())
}

// State is what a campaign is doing, or is to do.
type State string

// The states of a campaign.
const (
	Running   State = "running"
	Paused    State = "paused"
	Cancelled State = "cancelled"
	Done      State = "done"
	Left      State = "left" // whoever asked has gone before it was done
)

// Campaign is what is known of a campaign. What is asked of it by others stands in a record of its own.
type Campaign struct {
	Name    string    `json:"name"`
	What    string    `json:"what"` // the command: hunt, sweep, compare
	Title   string    `json:"title"`
	Plan    string    `json:"plan"` // the sum of what was asked for, so that it is resumed with the same
	Version string    `json:"version"`
	State   State     `json:"state"`
	Began   time.Time `json:"began"`
	Seen    time.Time `json:"seen"` // whoever asks was there, by the broker's clock
	Asker   string    `json:"asker"`

	Asked   int            `json:"asked"`
	Matches int            `json:"matches"`
	Failed  int            `json:"failed"`
	Found   int            `json:"found"`        // matches with findings
	Checked int            `json:"played_twice"` // by two workers, who must agree
	Alarms  int            `json:"alarms"`
	Rate    float64        `json:"matches_a_second"`
	Bytes   int64          `json:"build_bytes"`
	By      map[string]int `json:"by"`    // matches by worker
	Aside   []string       `json:"aside"` // workers that get no more of it
}

const (
	stateKey = "is."
	orderKey = "to." // what somebody else asked of it: paused, running, cancelled
)

// ErrNoCampaign is the error of a campaign that nobody knows.
var ErrNoCampaign = errors.New("there is no such campaign")

// Order tells a campaign what to do.
func (l *Link) Order(ctx context.Context, name string, to State) error {
	if _, err := l.Campaign(ctx, name); err != nil {
		return err
	}
	kv, err := l.bucket(ctx, campaigns)
	if err != nil {
		return err
	}
	_, err = kv.PutString(ctx, orderKey+name, string(to))
	return err
}

// Campaign is what is known of one.
func (l *Link) Campaign(ctx context.Context, name string) (c Campaign, err error) {
	kv, err := l.bucket(ctx, campaigns)
	if err != nil {
		return c, err
	}
	entry, err := kv.Get(ctx, stateKey+name)
	if errors.Is(err, jetstream.ErrKeyNotFound) || errors.Is(err, jetstream.ErrInvalidKey) {
		return c, fmt.Errorf("%w: %s", ErrNoCampaign, name)
	}
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(entry.Value(), &c); err != nil {
		return c, fmt.Errorf("campaign %s: %w", name, err)
	}
	now, err := l.brokerTime(ctx, campaigns)
	if err != nil {
		return c, err
	}
	if c.Seen = entry.Created(); c.State == Running && now.Sub(c.Seen) > goneAfter {
		c.State = Left
	}
	if order, err := kv.Get(ctx, orderKey+name); err == nil && c.State == Running {
		c.State = State(order.Value())
	}
	return c, nil
}

// brokerTime is what time it is at the broker. Whether somebody is still there is asked by its clock alone: those of other
// machines need not agree.
func (l *Link) brokerTime(ctx context.Context, bucket string) (time.Time, error) {
	s, err := l.js.Stream(ctx, "KV_"+bucket)
	if err != nil {
		return time.Time{}, err
	}
	return s.CachedInfo().TimeStamp, nil
}

// Campaigns are all that are known, the last begun first.
func (l *Link) Campaigns(ctx context.Context) (list []Campaign, err error) {
	err = l.each(ctx, campaigns, stateKey+"*", func(entry jetstream.KeyValueEntry) error {
		c, err := l.Campaign(ctx, strings.TrimPrefix(entry.Key(), stateKey))
		if err == nil {
			list = append(list, c)
		}
		return err
	})
	slices.SortFunc(list, func(a, b Campaign) int { return b.Began.Compare(a.Began) })
	return list, err
}

// Workers are all that have shown a sign of life lately, by name.
func (l *Link) Workers(ctx context.Context) (list []Standing, err error) {
	now, err := l.brokerTime(ctx, workers)
	if err != nil {
		return nil, err
	}
	err = l.each(ctx, workers, "*", func(entry jetstream.KeyValueEntry) error {
		var s Standing
		if err := json.Unmarshal(entry.Value(), &s); err != nil {
			return err
		}
		if s.Seen = entry.Created(); now.Sub(s.Seen) <= goneAfter {
			list = append(list, s)
		}
		return nil
	})
	slices.SortFunc(list, func(a, b Standing) int { return strings.Compare(a.Name, b.Name) })
	return list, err
}

// each calls f with every value of a bucket whose key fits.
func (l *Link) each(ctx context.Context, bucket, keys string, f func(jetstream.KeyValueEntry) error) error {
	kv, err := l.bucket(ctx, bucket)
	if err != nil {
		return err
	}
	watcher, err := kv.Watch(ctx, keys, jetstream.IgnoreDeletes())
	if err != nil {
		return err
	}
	defer watcher.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case entry := <-watcher.Updates():
			if entry == nil {
				return nil
			}
			if err := f(entry); err != nil {
				return err
			}
		}
	}
}

// Alarm is one match that gave two results that differ, where they must not.
type Alarm struct {
	Campaign string          `json:"campaign"`
	Key      string          `json:"key"`
	First    json.RawMessage `json:"first"`
	By       string          `json:"by"`
	Second   json.RawMessage `json:"second"`
	Other    string          `json:"other"`
}

// Alarms are those of a campaign, in order.
func (l *Link) Alarms(ctx context.Context, campaign string) (list []Alarm, err error) {
	s, err := l.js.Stream(ctx, alarmStream)
	if err != nil {
		return nil, err
	}
	for next := uint64(1); ; {
		m, err := s.GetMsg(ctx, next, jetstream.WithGetMsgSubject(alarmSubject+campaign))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		var a Alarm
		if err := json.Unmarshal(m.Data, &a); err != nil {
			return nil, err
		}
		list, next = append(list, a), m.Sequence+1
	}
}
