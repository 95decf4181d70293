package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"golang.org/x/sync/semaphore"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
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
	w.is = Standing{Name: w.Name, Version: own(), System: runtime.GOOS, CPU: runtime.GOARCH, Cores: runtime.NumCPU(),
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
	if w.Slots > 1 {
		defer feed.Occupy()() // as in a campaign that is played here
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
