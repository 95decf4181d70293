package cluster

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nuid"

	"zitherwheel/internal/match/far"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
)

// Players on other machines: a match that is played on one machine has some of its clients started by a worker on another,
// over a stream of their own (package far).

const farSubject = "zw.far." // worker; and for a stream: session, to or from the worker

// session is how somebody asks a worker to start clients.
type session struct {
	Session string       `json:"session"`
	Title   string       `json:"title"`
	Build   pack.Content `json:"build"`
}

// welcome is what a worker answers.
type welcome struct {
	Error string `json:"error,omitempty"`
}

// Machine asks a worker to start clients of a plan.
func (l *Link) Machine(ctx context.Context, name string, p *plan.Plan) (*far.Machine, error) {
	if !ValidName(name) {
		return nil, fmt.Errorf("bots: on: %q is no name of a worker: letters, digits and - only", name)
	}
	content, err := l.handOver(ctx, p.Build.Folder, p.Build.Files)
	if err != nil {
		return nil, err
	}
	one := session{Session: nuid.Next(), Title: p.Title, Build: content}
	text, err := json.Marshal(one)
	if err != nil {
		return nil, err
	}
	m, err := l.signed(farSubject+name, text)
	if err != nil {
		return nil, err
	}
	s, err := newStream(l.conn, farSubject+name+"."+one.Session+".from", farSubject+name+"."+one.Session+".to", l.signer, nil)
	if err != nil {
		return nil, err
	}
	limited, end := context.WithTimeout(ctx, time.Minute)
	defer end()
	answer, err := l.conn.RequestMsgWithContext(limited, m)
	if errors.Is(err, nats.ErrNoResponders) {
		err = fmt.Errorf("%s is no worker that starts clients: zwheel worker --join %s --name %s --players", name, l.address.URL, name)
	}
	var w welcome
	if err == nil {
		err = json.Unmarshal(answer.Data, &w)
	}
	if err == nil && w.Error != "" {
		err = fmt.Errorf("%s: %s", name, w.Error)
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return far.NewMachine(name, s)
}

// invite lets others ask this worker to start clients, until ctx is done; then those that it has started end.
func (w *Worker) invite(ctx context.Context) error {
	sub, err := w.link.conn.Subscribe(farSubject+w.Name, func(m *nats.Msg) {
		answer := welcome{}
		if err := w.host(ctx, m); err != nil {
			w.refuse("clients are refused: %v", err)
			answer.Error = err.Error()
		}
		if text, err := json.Marshal(answer); err == nil {
			m.Respond(text)
		}
	})
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { sub.Unsubscribe() })
	return nil
}

// host begins to serve one match.
func (w *Worker) host(ctx context.Context, m *nats.Msg) error {
	by, err := trusts(m.Data, m.Header, w.Trust)
	if err != nil {
		return err
	}
	var one session
	if err := json.Unmarshal(m.Data, &one); err != nil {
		return err
	}
	switch {
	case !ValidName(one.Session) || !isSum(one.Build.Sum):
		return errors.New("it is no session")
	case !w.isNew(one.Session):
		return errors.New("it was asked for before")
	}
	w.fetching.Lock()
	folder, err := w.build(ctx, one.Build)
	w.fetching.Unlock()
	if err != nil {
		return err
	}
	s, err := newStream(w.link.conn, farSubject+w.Name+"."+one.Session+".to", farSubject+w.Name+"."+one.Session+".from", nil, by)
	if err != nil {
		return err
	}
	seat, err := process.TakeSeat(0)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	guard, err := process.NewGuard(seat.Mark(), w.Guard...)
	if err != nil {
		return errors.Join(err, seat.Close(), s.Close())
	}
	text := "clients of " + one.Title
	w.lock.Lock()
	w.playing[text] = true
	w.lock.Unlock()
	w.players.Add(1)
	go func() {
		defer w.players.Done()
		limited, end := context.WithTimeoutCause(ctx, cmp.Or(w.Longest, time.Hour), fmt.Errorf("it took longer than %v, which is all that a match may", w.Longest))
		defer end()
		err := (&far.Host{Folder: folder, Guard: guard, Seat: seat, Clock: w.Clock, Limits: w.limits(folder)}).Serve(limited, s)
		if ctx.Err() == nil {
			err = errors.Join(err, context.Cause(limited))
		}
		guard.Close()
		err = errors.Join(err, seat.Close())
		if err != nil {
			w.tell("%s: %v", text, err)
		}
		w.lock.Lock()
		delete(w.playing, text)
		w.lock.Unlock()
	}()
	return nil
}

// isNew reports whether a session is asked for the first time: one that is recorded and played back is not.
func (w *Worker) isNew(name string) bool {
	w.lock.Lock()
	defer w.lock.Unlock()
	before := w.sessions[name]
	w.sessions[name] = true
	return !before
}

// limits are those of one match whose clients run in a folder: of the memory of each, and of what they write there.
func (w *Worker) limits(folder string) func([]process.Load) error {
	before := bytesIn(folder)
	return func(used []process.Load) error {
		for _, load := range used {
			if mb := int(load.Resident >> 20); w.MemoryMB > 0 && mb > w.MemoryMB {
				return fmt.Errorf("a client used %d MB of memory, and %s allows %d", mb, w.Name, w.MemoryMB)
			}
		}
		if grown := bytesIn(folder) - before; w.Disk > 0 && grown > w.Disk {
			return fmt.Errorf("clients wrote %d MB, and %s allows %d", grown>>20, w.Name, w.Disk>>20)
		}
		return nil
	}
}
