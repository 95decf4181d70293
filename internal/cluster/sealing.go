package cluster

import (
	"bufio"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// Sealing: the broker holds a word on each result in memory, and its text on disk as it came. When nobody has asked for a
// campaign for a while its results are packed into one object, so that neither grows with all that was ever played.

// sealed is a line of such an object.
type sealed struct {
	Key    string          `json:"key"`
	By     string          `json:"by"` // the worker
	Result json.RawMessage `json:"result"`
}

// sealOf is the object of a campaign.
func sealOf(campaign string) string { return campaign + "/results" }

// Seal packs the results of all campaigns for which nobody has asked for so long. It takes the rights of the broker itself.
func Seal(ctx context.Context, js jetstream.JetStream, quiet time.Duration) error {
	l := &Link{js: js}
	all, err := l.Campaigns(ctx)
	if err != nil {
		return err
	}
	for _, c := range all {
		if err := l.seal(ctx, c.Name, quiet); err != nil {
			return fmt.Errorf("the results of %s cannot be packed: %w", c.Name, err)
		}
	}
	return nil
}

// isQuiet reports whether nobody asks for a campaign.
func (l *Link) isQuiet(ctx context.Context, name string, quiet time.Duration) (bool, error) {
	c, err := l.Campaign(ctx, name)
	if err != nil {
		return false, err
	}
	now, err := l.brokerTime(ctx, campaigns)
	return c.State != Running && c.State != Paused && now.Sub(c.Seen) > quiet, err
}

func (l *Link) seal(ctx context.Context, name string, quiet time.Duration) error {
	if is, err := l.isQuiet(ctx, name, quiet); err != nil || !is {
		return err
	}
	s, err := l.js.Stream(ctx, resultStream)
	if err != nil {
		return err
	}
	subjects := resultSubject + name + ".>"
	last, err := s.GetLastMsgForSubject(ctx, subjects)
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	store, err := l.js.ObjectStore(ctx, sealedStore)
	if err != nil {
		return err
	}
	read, write := io.Pipe()
	go func() { write.CloseWithError(l.packResults(ctx, store, name, last.Sequence, write)) }()
	if _, err := store.Put(ctx, jetstream.ObjectMeta{Name: sealOf(name)}, read); err != nil {
		return errors.Join(err, read.Close())
	}
	if is, err := l.isQuiet(ctx, name, quiet); err != nil || !is {
		return err // somebody has gone on with it: what is packed is there twice, and counts once
	}
	return s.Purge(ctx, jetstream.WithPurgeSubject(subjects), jetstream.WithPurgeSequence(last.Sequence+1))
}

// packResults writes what was packed of a campaign before, and its results in the stream up to a message.
func (l *Link) packResults(ctx context.Context, store jetstream.ObjectStore, name string, last uint64, to io.Writer) error {
	packer := gzip.NewWriter(to)
	lines := json.NewEncoder(packer)
	err := unpackResults(ctx, store, name, func(s sealed) error { return lines.Encode(s) })
	if err != nil {
		return err
	}
	consumer, err := l.js.OrderedConsumer(ctx, resultStream, jetstream.OrderedConsumerConfig{FilterSubjects: []string{resultSubject + name + ".>"}})
	if err != nil {
		return err
	}
	for {
		m, err := consumer.Next(jetstream.FetchMaxWait(patience))
		if err != nil {
			return err
		}
		if err := lines.Encode(sealed{strings.TrimPrefix(m.Subject(), resultSubject+name+"."), m.Headers().Get(workerHeader), m.Data()}); err != nil {
			return err
		}
		meta, err := m.Metadata()
		if err != nil {
			return err
		}
		if meta.Sequence.Stream >= last {
			return packer.Close()
		}
	}
}

// unpackResults hands on what is packed of a campaign, if anything is.
func unpackResults(ctx context.Context, store jetstream.ObjectStore, name string, each func(sealed) error) error {
	object, err := store.Get(ctx, sealOf(name))
	if errors.Is(err, jetstream.ErrObjectNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	defer object.Close()
	unpacker, err := gzip.NewReader(object)
	if err != nil {
		return err
	}
	for lines := json.NewDecoder(unpacker); ; {
		var s sealed
		if err := lines.Decode(&s); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if err := each(s); err != nil {
			return err
		}
	}
}

// unsealed are the results of a campaign that were packed, in a file of this machine.
type unsealed struct {
	file *os.File
	at   map[string]place // by key
}

type place struct {
	from  int64
	bytes int
	by    string
}

// unseal fetches them.
func (l *Link) unseal(ctx context.Context, name string) (*unsealed, error) {
	store, err := l.js.ObjectStore(ctx, sealedStore)
	if err != nil {
		return nil, err
	}
	u := &unsealed{at: map[string]place{}}
	if u.file, err = os.CreateTemp("", "zwheel-results-"); err != nil {
		return nil, err
	}
	to, end := bufio.NewWriter(u.file), int64(0)
	err = unpackResults(ctx, store, name, func(s sealed) error {
		if _, twice := u.at[s.Key]; !twice {
			u.at[s.Key] = place{end, len(s.Result), s.By}
			end += int64(len(s.Result))
			_, err := to.Write(s.Result)
			return err
		}
		return nil
	})
	if err = errors.Join(err, to.Flush()); err != nil {
		u.close()
		return nil, fmt.Errorf("the results of %s cannot be unpacked: %w", name, err)
	}
	return u, nil
}

// result is one of them, and the worker whose it is.
func (u *unsealed) result(key string, seed uint64) (r *Result, by string, err error) {
	at := u.at[key]
	text := make([]byte, at.bytes)
	if _, err := u.file.ReadAt(text, at.from); err != nil {
		return nil, "", err
	}
	r, err = readResult(text, seed)
	return r, at.by, err
}

func (u *unsealed) close() {
	u.file.Close()
	os.Remove(u.file.Name())
}
