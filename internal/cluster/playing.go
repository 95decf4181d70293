package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
)

// play plays a batch, and stores a result for each seed of it. stop is done when no more is to be begun.
func (w *Worker) play(stop, ctx context.Context, m jetstream.Msg, b *batch) {
	p, err := w.ready(ctx, b)
	if err != nil {
		if ctx.Err() == nil {
			w.refuse("%s cannot be played: %v", b.Campaign, err)
		}
		m.NakWithDelay(time.Second)
		return
	}
	repeated := b.Again
	if meta, err := m.Metadata(); err == nil {
		repeated = repeated || meta.NumDelivered > 1
	}
	var stored []func() error
	for _, seed := range b.Seeds {
		if stop.Err() != nil || ctx.Err() != nil || w.ordered(b.Campaign) != Running {
			m.NakWithDelay(waitAWhile) // what is left of it; what is stored is not played again
			return
		}
		if repeated && w.isStored(ctx, b, seed) {
			continue
		}
		r, took := w.one(ctx, p, b, seed)
		if ctx.Err() != nil {
			m.Nak()
			return
		}
		stored = append(stored, w.store(ctx, b, seed, r, took, p.Clock != plan.Wall))
	}
	for _, wait := range stored {
		if err := wait(); err != nil {
			w.refuse("a result of %s cannot be stored: %v", b.Campaign, err)
			m.NakWithDelay(time.Second)
			return
		}
	}
	m.Ack() // if that does not arrive, the batch comes again, and all of it is stored
}

func (w *Worker) ordered(campaign string) State {
	w.lock.Lock()
	defer w.lock.Unlock()
	if order, ok := w.orders[campaign]; ok {
		return order
	}
	return Running
}

// one plays one seed.
func (w *Worker) one(ctx context.Context, p *plan.Plan, b *batch, seed uint64) (r *Result, took time.Duration) {
	text := fmt.Sprintf("%s seed %d", b.Campaign, seed)
	w.lock.Lock()
	w.playing[text] = true
	w.lock.Unlock()
	defer func() {
		w.lock.Lock()
		delete(w.playing, text)
		w.is.Played++
		if !r.well() {
			w.is.Failed++
		}
		w.lock.Unlock()
	}()
	limited, end := context.WithTimeout(ctx, w.Longest)
	defer end()
	one := *p
	one.Seed = seed
	switch {
	case b.Variant != "":
		r, took = w.try(limited, &one, b)
	case b.Witness:
		began := time.Now()
		seen, err := w.Crew.Witness(limited, &one)
		r, took = resultOf(played.Match{Seed: seed, Found: seen.Heads}, err), time.Since(began)
		r.Witnessed = &seen
	case b.Record || p.ByPrograms(): // what programs tell goes into a folder, as long as the match lasts
		r, took = w.record(limited, &one, b)
	default:
		began := time.Now()
		m, err := w.Crew.Play(limited, &one)
		r, took = resultOf(m, err), time.Since(began)
	}
	if limited.Err() != nil && ctx.Err() == nil {
		r = &Result{Match: played.Match{Seed: seed, Verdict: played.Failed, Why: fmt.Sprintf("it took longer than %v on %s, which is all that a match may", w.Longest, w.Name)}}
	}
	r.Match.Seed = seed
	return r, took
}

func resultOf(m played.Match, err error) *Result {
	r := &Result{Match: m}
	if err != nil {
		r.Error = err.Error()
	}
	return r
}

// try plays a variant.
func (w *Worker) try(ctx context.Context, p *plan.Plan, b *batch) (*Result, time.Duration) {
	text, err := w.fetched(ctx, b.Variant)
	if err != nil {
		return resultOf(played.Match{}, err), 0
	}
	v, err := together(p, text)
	if err != nil {
		return resultOf(played.Match{}, err), 0
	}
	began := time.Now()
	tried, err := w.Crew.Try(ctx, v, b.Nth)
	r := resultOf(played.Match{Seed: p.Seed}, err)
	r.Tried = &tried
	return r, time.Since(began)
}

// record plays a match with recording, and hands its run folder over where a batch wants it.
func (w *Worker) record(ctx context.Context, p *plan.Plan, b *batch) (*Result, time.Duration) {
	scratch, err := os.MkdirTemp(filepath.Join(w.Folder, "work"), "run-")
	if err != nil {
		return resultOf(played.Match{}, err), 0
	}
	defer os.RemoveAll(scratch)
	folder := filepath.Join(scratch, "run")
	watched, end := context.WithCancelCause(ctx)
	defer end(nil)
	go w.watchDisk(watched, folder, end)
	began := time.Now()
	m, err := w.Crew.Record(watched, p, folder)
	r, took := resultOf(m, err), time.Since(began)
	if cause := context.Cause(watched); errors.Is(cause, errDisk) {
		r.Error = cause.Error()
	}
	if !b.Record || r.Error != "" || ctx.Err() != nil {
		return r, took
	}
	var archive bytes.Buffer
	if _, err := pack.Write(&archive, folder, nil); err != nil {
		return resultOf(m, err), took
	}
	if r.Run, err = w.link.storeRun(ctx, b.Campaign, archive.Bytes()); err != nil {
		return resultOf(m, fmt.Errorf("the run folder cannot be handed over: %w", err)), took
	}
	return r, took
}

var errDisk = errors.New("its run folder has grown larger than a match may have")

// watchDisk ends a match whose run folder grows too large.
func (w *Worker) watchDisk(ctx context.Context, folder string, end context.CancelCauseFunc) {
	for w.Disk > 0 && ctx.Err() == nil {
		pause(ctx, time.Second)
		if bytesIn(folder) > w.Disk {
			end(fmt.Errorf("%w: %d MB", errDisk, w.Disk>>20))
		}
	}
}

// bytesIn is how much is in a folder.
func bytesIn(folder string) (sum int64) {
	filepath.WalkDir(folder, func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if info, err := d.Info(); err == nil {
				sum += info.Size()
			}
		}
		return nil
	})
	return sum
}
