package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nuid"
	"golang.org/x/sync/semaphore"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster/pack"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/plan"
)

// Worker plays matches for whoever asks.
type Worker struct {
	Name     string
	Folder   string        // for builds and what matches leave behind
	Slots    int           // matches at once; a match on the wall clock takes one for each player
	Trust    []string      // public keys of those it plays for; nil is whoever the broker lets in
	Crew     played.Crew   // plays here
	Virtual  bool          // builds can be played on the virtual clock here
	MemoryMB int           // of this machine, and what each program of a build may use at most; 0 is not known
	Longest  time.Duration // of one match, by the clock of this machine
	Disk     int64         // bytes that the run folder of one match may have
	Drain    time.Duration // what is being played when it is told to end may still take this long
	Tell     func(string)  // hears what it does; may be nil

	Players bool             // it starts clients of matches that are played on other machines, too
	Guard   []string         // arguments with which this program runs process.RunGuard, for them
	Clock   func() time.Time // this machine's; nil is time.Now

	players  sync.WaitGroup
	link     *Link
	slots    *semaphore.Weighted
	fetching sync.Mutex            // of plans and builds, each once
	plans    map[string]*plan.Plan // by the sums of the plan and of its build

	lock     sync.Mutex
	is       Standing
	playing  map[string]bool
	sessions map[string]bool     // that were asked for
	orders   map[string]State    // of campaigns
	aside    map[string][]string // workers that get no more of a campaign
}

const (
	signOfLife = 2 * time.Second
	waitAWhile = 250 * time.Millisecond
	plansKept  = 256
)

// ErrNameTaken is the error of a worker of whose name another one is at work.
var ErrNameTaken = errors.New("another worker has that name")

// Run plays until ctx is done; then it ends what it has begun, or hands it back.
func (w *Worker) Run(ctx context.Context, l *Link) error {
	w.link, w.slots = l, semaphore.NewWeighted(int64(w.Slots))
	w.sessions = map[string]bool{}
	w.playing, w.orders, w.aside, w.plans = map[string]bool{}, map[string]State{}, map[string][]string{}, map[string]*plan.Plan{}
	w.is = Standing{Name: w.Name, Instance: nuid.Next(), Version: own(), System: runtime.GOOS, CPU: runtime.GOARCH, Cores: runtime.NumCPU(),
		MemoryMB: w.MemoryMB, Virtual: w.Virtual, Slots: w.Slots, Playing: []string{}}
	for _, folder := range []string{"builds", "work"} {
		if err := os.MkdirAll(filepath.Join(w.Folder, folder), 0o700); err != nil {
			return err
		}
	}
	others, err := l.Workers(ctx)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(others, func(s Standing) bool { return s.Name == w.Name && !s.Leaving }) {
		return fmt.Errorf("%w: %s; give this one another with --name, or wait %v if it has just died", ErrNameTaken, w.Name, goneAfter)
	}
	// What is played outlives ctx, and what tells of it outlives that.
	play, endPlay := context.WithCancel(context.WithoutCancel(ctx))
	defer endPlay()
	life, endLife := context.WithCancel(context.WithoutCancel(ctx))
	defer endLife()
	var beside sync.WaitGroup
	for _, task := range []func(context.Context){w.live, w.listen} {
		beside.Add(1)
		go func() { defer beside.Done(); task(life) }()
	}
	if w.Players {
		if err := w.invite(play); err != nil {
			endLife()
			return err
		}
	}
	w.tell("%s plays up to %d at once", w.Name, w.Slots)
	err = w.work(ctx, play)
	w.lock.Lock()
	w.is.Leaving = true
	left := len(w.playing)
	w.lock.Unlock()
	if left > 0 {
		w.tell("it ends: what is being played has %v left", w.Drain)
	}
	late := time.AfterFunc(w.Drain, endPlay)
	w.slots.Acquire(context.WithoutCancel(ctx), int64(w.Slots)) // all have ended
	late.Stop()
	endPlay()
	w.players.Wait()
	endLife()
	beside.Wait()
	w.stand(context.WithoutCancel(ctx))
	return err
}

func (w *Worker) tell(format string, args ...any) {
	if w.Tell != nil {
		w.Tell(fmt.Sprintf(format, args...))
	}
}

// work takes batches as long as there are slots, until ctx is done.
func (w *Worker) work(ctx, play context.Context) error {
	var sources []jetstream.Consumer
	for ctx.Err() == nil {
		if err := w.slots.Acquire(ctx, 1); err != nil {
			return nil
		}
		if sources == nil {
			var err error
			if sources, err = w.sources(ctx); err != nil {
				w.slots.Release(1)
				if ctx.Err() == nil {
					w.tell("the broker gives no work: %v", err)
				}
				pause(ctx, time.Second)
				sources = nil
				continue
			}
		}
		m, err := w.next(sources)
		if err != nil || m == nil {
			w.slots.Release(1)
			if err != nil {
				sources = nil
				pause(ctx, waitAWhile)
			}
			continue
		}
		b, ok := w.accept(m)
		if !ok {
			w.slots.Release(1)
			continue
		}
		alive := w.keep(play, m)
		// One slot is taken. A match on the wall clock may take more: nothing else is fetched meanwhile.
		if more := int64(b.Slots - 1); more > 0 {
			if err := w.slots.Acquire(ctx, more); err != nil {
				alive()
				m.Nak()
				w.slots.Release(1)
				continue
			}
		}
		go func() {
			defer w.slots.Release(int64(b.Slots))
			defer alive()
			w.play(ctx, play, m, b)
		}()
	}
	return nil
}

// pause waits, or until ctx is done.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// sources are the streams of work for this worker: what needs its kind of machine, and what plays anywhere.
func (w *Worker) sources(ctx context.Context) (list []jetstream.Consumer, err error) {
	w.lock.Lock()
	classes := w.is.classes()
	w.lock.Unlock()
	for _, class := range classes {
		c, err := w.link.js.CreateOrUpdateConsumer(ctx, workStream, jetstream.ConsumerConfig{
			Durable: class.token(), FilterSubject: workSubject + class.token() + ".>", AckPolicy: jetstream.AckExplicitPolicy, AckWait: ackWait, MaxAckPending: 20_000})
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// next takes a message: from the source that had the last one, which comes first then, or another. It is nil if there is
// none for a while.
func (w *Worker) next(sources []jetstream.Consumer) (jetstream.Msg, error) {
	for i := range sources {
		m, err := sources[i].Next(jetstream.FetchMaxWait(waitAWhile))
		switch {
		case err == nil:
			sources[0], sources[i] = sources[i], sources[0]
			return m, nil
		case !errors.Is(err, nats.ErrTimeout) && !errors.Is(err, jetstream.ErrNoMessages):
			return nil, err
		}
	}
	return nil, nil
}

// keep tells the broker that a batch is being worked at, until the function is called that it returns.
func (w *Worker) keep(ctx context.Context, m jetstream.Msg) (end func()) {
	ctx, end = context.WithCancel(ctx)
	go func() {
		for {
			pause(ctx, ackWait/4)
			if ctx.Err() != nil {
				return
			}
			m.InProgress() // if it does not arrive, the next one may
		}
	}()
	return end
}

// accept opens a message. What this worker must not or cannot play goes back.
func (w *Worker) accept(m jetstream.Msg) (*batch, bool) {
	b, err := opened(m.Data(), m.Headers(), w.Trust)
	if err != nil {
		w.refuse("work on %s is refused: %v", m.Subject(), err)
		if errors.Is(err, errUntrusted) {
			m.NakWithDelay(5 * time.Second) // others may trust whoever asked
		} else {
			m.Term()
		}
		return nil, false
	}
	w.lock.Lock()
	order, aside := w.orders[b.Campaign], slices.Contains(w.aside[b.Campaign], w.Name) || slices.Contains(b.Not, w.Name)
	w.lock.Unlock()
	switch {
	case order == Cancelled:
		m.Ack()
	case order == Paused:
		m.NakWithDelay(time.Second)
	case aside:
		w.leave(m)
	case b.Slots < 1 || b.Slots > w.Slots:
		w.refuse("a match of %s takes %d slots, and here are %d", b.Campaign, b.Slots, w.Slots)
		w.leave(m)
	default:
		return b, true
	}
	return nil, false
}

// leave leaves a batch to others, and lets them come first.
func (w *Worker) leave(m jetstream.Msg) {
	m.Nak()
	time.Sleep(waitAWhile)
}

// refuse says why work goes back.
func (w *Worker) refuse(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	w.lock.Lock()
	news := w.is.Refused != text
	w.is.Refused = text
	w.lock.Unlock()
	if news {
		w.tell("%s", text)
	}
}

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
	case b.Record:
		r, took = w.record(limited, &one, b)
	case b.Variant != "":
		r, took = w.try(limited, &one, b)
	default:
		began := time.Now()
		m, err := w.Crew.Play(limited, &one)
		r, took = resultOf(m, err), time.Since(began)
	}
	if limited.Err() != nil && ctx.Err() == nil {
		r = &Result{Match: played.Match{Seed: seed, Verdict: played.Failed, Why: fmt.Sprintf("it took longer than %v on %s, which is all that a match may", w.Longest, w.Name)}}
	}
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
	shown, err := w.Crew.Try(ctx, v, b.Nth)
	r := resultOf(played.Match{Seed: p.Seed}, err)
	r.Shown = shown
	return r, time.Since(began)
}

// record plays a match with recording, and hands its run folder over.
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
	if r.Error != "" || ctx.Err() != nil {
		return r, took
	}
	var archive bytes.Buffer
	if _, err := pack.Write(&archive, folder, nil); err != nil {
		return resultOf(m, err), took
	}
	store, err := w.link.js.ObjectStore(ctx, runs)
	if err == nil {
		r.Run = b.Campaign + "/" + b.key(p.Seed)
		_, err = store.PutBytes(ctx, r.Run, archive.Bytes())
	}
	if err != nil {
		return resultOf(m, fmt.Errorf("the run folder cannot be handed over: %w", err)), took
	}
	return r, took
}

var errDisk = errors.New("its run folder has grown larger than a match may have")

// watchDisk ends a match whose run folder grows too large.
func (w *Worker) watchDisk(ctx context.Context, folder string, end context.CancelCauseFunc) {
	for w.Disk > 0 && ctx.Err() == nil {
		pause(ctx, time.Second)
		var bytes int64
		filepath.WalkDir(folder, func(_ string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				if info, err := d.Info(); err == nil {
					bytes += info.Size()
				}
			}
			return nil
		})
		if bytes > w.Disk {
			end(fmt.Errorf("%w: %d MB", errDisk, w.Disk>>20))
		}
	}
}

// ready is the plan of a batch, with its build in place.
func (w *Worker) ready(ctx context.Context, b *batch) (*plan.Plan, error) {
	w.fetching.Lock()
	defer w.fetching.Unlock()
	key := b.Plan
	if b.Build != nil {
		key += b.Build.Sum
	}
	if p := w.plans[key]; p != nil {
		return p, nil
	}
	text, err := w.fetched(ctx, b.Plan)
	if err != nil {
		return nil, err
	}
	p, err := plan.Parse("plan.yaml", text)
	if err != nil {
		return nil, err
	}
	if p.Build.Given() {
		if b.Build == nil {
			return nil, errors.New("its plan has a build, and none was handed over")
		}
		if p.Build.Folder, err = w.build(ctx, *b.Build); err != nil {
			return nil, err
		}
		if w.MemoryMB > 0 && (p.Build.MemoryMB == 0 || p.Build.MemoryMB > w.MemoryMB) {
			p.Build.MemoryMB = w.MemoryMB
		}
	}
	if p.ByPrograms() && p.Clock == plan.Virtual && !w.Virtual {
		return nil, errors.New("builds cannot be played on the virtual clock here; zwheel machine says why")
	}
	for _, program := range []plan.Program{p.Build.Server, p.Build.Client, p.Build.Host} {
		if len(program.Run) > 0 && !strings.HasPrefix(program.Run[0], "{") {
			if _, err := process.Find(program.Run[0], p.Build.Folder); err != nil {
				return nil, fmt.Errorf("%s: %w", program.Run[0], err)
			}
		}
	}
	if len(w.plans) >= plansKept {
		clear(w.plans)
	}
	w.plans[key] = p
	return p, nil
}

// fetched is what was stored under a sum.
func (w *Worker) fetched(ctx context.Context, sum string) ([]byte, error) {
	kv, err := w.link.bucket(ctx, plans)
	if err != nil {
		return nil, err
	}
	entry, err := kv.Get(ctx, sum)
	if err != nil {
		return nil, fmt.Errorf("its plan is not there: %w", err)
	}
	if sumOf(entry.Value()) != sum {
		return nil, errors.New("its plan is not the one that was asked for")
	}
	return entry.Value(), nil
}

// build is the folder of a build, which is fetched if it is not there yet.
func (w *Worker) build(ctx context.Context, c pack.Content) (string, error) {
	folder := filepath.Join(w.Folder, "builds", c.Sum)
	if _, err := os.Stat(folder); err == nil {
		return folder, nil
	}
	store, err := w.link.js.ObjectStore(ctx, builds)
	if err != nil {
		return "", err
	}
	w.tell("it fetches a build of %d files, %s", c.Files, size(c.Bytes))
	archive, err := os.CreateTemp(filepath.Join(w.Folder, "work"), "build-")
	if err != nil {
		return "", err
	}
	archive.Close()
	defer os.Remove(archive.Name())
	if err := store.GetFile(ctx, c.Sum, archive.Name()); err != nil {
		return "", fmt.Errorf("its build is not there: %w", err)
	}
	if sum, err := sumOfFile(archive.Name()); err != nil || sum != c.Sum {
		return "", errors.Join(errors.New("its build is not the one that was asked for"), err)
	}
	file, err := os.Open(archive.Name())
	if err != nil {
		return "", err
	}
	defer file.Close()
	partly := folder + ".part"
	if err := os.RemoveAll(partly); err != nil {
		return "", err
	}
	if err := pack.Extract(file, partly, pack.Usual); err != nil {
		return "", errors.Join(err, os.RemoveAll(partly))
	}
	return folder, os.Rename(partly, folder)
}

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
	return err != nil && (strings.Contains(err.Error(), "insufficient storage") || strings.Contains(err.Error(), "maximum bytes exceeded") || strings.Contains(err.Error(), "insufficient resources"))
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

// live gives signs of life.
func (w *Worker) live(ctx context.Context) {
	for ctx.Err() == nil {
		w.stand(ctx)
		pause(ctx, signOfLife)
	}
}

func (w *Worker) stand(ctx context.Context) {
	w.lock.Lock()
	w.is.Busy, w.is.Playing = len(w.playing), []string{}
	for text := range w.playing {
		w.is.Playing = append(w.is.Playing, text)
	}
	slices.Sort(w.is.Playing)
	text, err := json.Marshal(w.is)
	w.lock.Unlock()
	if err != nil {
		return
	}
	if kv, err := w.link.bucket(ctx, workers); err == nil {
		kv.Put(ctx, w.Name, text) // if it does not arrive, the next one may
	}
}

// listen hears what campaigns are told to do.
func (w *Worker) listen(ctx context.Context) {
	for ctx.Err() == nil {
		kv, err := w.link.bucket(ctx, campaigns)
		if err != nil {
			pause(ctx, time.Second)
			continue
		}
		watcher, err := kv.WatchAll(ctx)
		if err != nil {
			pause(ctx, time.Second)
			continue
		}
		w.hearAll(ctx, watcher)
	}
}

func (w *Worker) hearAll(ctx context.Context, watcher jetstream.KeyWatcher) {
	defer watcher.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case entry, more := <-watcher.Updates():
			if !more {
				return
			}
			if entry != nil {
				w.hear(entry.Key(), entry.Value())
			}
		}
	}
}

func (w *Worker) hear(key string, value []byte) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if name, ok := strings.CutPrefix(key, orderKey); ok {
		delete(w.orders, name)
		if len(value) > 0 { // else it was taken back
			w.orders[name] = State(value)
		}
	}
	if name, ok := strings.CutPrefix(key, stateKey); ok {
		var c Campaign
		if json.Unmarshal(value, &c) != nil {
			return
		}
		w.aside[name] = c.Aside
		if c.State == Cancelled {
			w.orders[name] = Cancelled
		}
	}
}
