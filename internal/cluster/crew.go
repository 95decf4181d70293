package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nuid"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster/pack"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
)

// Asked says what a crew is asked for.
type Asked struct {
	Campaign string // its name
	What     string // the command: hunt, sweep, compare
	Title    string
	Plan     string       // the sum of all that decides what is played
	Resume   bool         // go on with the campaign of that name
	Tell     func(string) // hears what goes on; may be nil

	Mark func(planYAML []byte) string // makes the mark of run folders that come back, see match.Options; may be nil
}

// Crew has the matches of one campaign played by workers. It is a [played.Crew].
type Crew struct {
	link  *Link
	asked Asked
	life  context.Context
	end   context.CancelCauseFunc
	ended sync.WaitGroup

	lock    sync.Mutex
	is      Campaign
	rev     uint64               // of its record
	stored  map[string]bool      // keys that have a result
	waiting map[string][]*asking // by the key that is waited for
	queue   []*asking            // not handed out yet
	out     map[string]bool      // keys that are with workers
	order   State
	workers []Standing
	strikes map[string]map[string]bool // by worker: keys that failed on it and on no other
	took    time.Duration              // of a match, on average
	want    *asking                    // what was asked for last: which workers fit
	heard   time.Time                  // when the last result came, or something was asked for while nothing else was
	wake    chan struct{}
	there   [16]there // plans that the broker has
	packed  map[string]pack.Content
	told    map[string]bool
	since   time.Time
	now     int // matches since then
}

// asking is a match that somebody waits for: a batch of its seed alone.
type asking struct {
	batch
	class    Class
	first    *Result // of the first try, which failed
	firstBy  string
	answered chan *Result
}

func (a *asking) seed() uint64 { return a.Seeds[0] }
func (a *asking) key() string  { return a.batch.key(a.seed()) }

// The errors of a campaign that cannot be begun.
var (
	ErrTaken     = errors.New("there is a campaign of that name already")
	ErrOther     = errors.New("the campaign of that name is of something else")
	ErrCancelled = errors.New("the campaign was cancelled")
	ErrNobody    = errors.New("no worker can play it")
)

const (
	batchWork  = 250 * time.Millisecond // that a batch is to be, so that messages cost little beside it
	mostSeeds  = 64                     // of one batch
	linger     = 2 * time.Millisecond   // for more to come into a batch
	mostAtOnce = 4096
	strikesOut = 3
)

// Crew begins a campaign, or goes on with one. It is to be closed.
func (l *Link) Crew(ctx context.Context, asked Asked) (*Crew, error) {
	c := &Crew{link: l, asked: asked, stored: map[string]bool{}, waiting: map[string][]*asking{}, out: map[string]bool{}, strikes: map[string]map[string]bool{},
		want: &asking{class: Class{own(), Any}, batch: batch{Slots: 1}}, wake: make(chan struct{}, 1), packed: map[string]pack.Content{}, told: map[string]bool{}, since: time.Now(), order: Running}
	if !ValidName(asked.Campaign) {
		return nil, fmt.Errorf("%w: a campaign cannot be called %q: letters, digits and - only", ErrOther, asked.Campaign)
	}
	if err := c.claim(ctx); err != nil {
		return nil, err
	}
	life, end := context.WithCancelCause(ctx)
	c.life, c.end = life, end
	caught := make(chan error, 1)
	for _, task := range []func(){func() { c.hear(life, caught) }, func() { c.handOut(life) }, func() { c.stand(life) }} {
		c.ended.Add(1)
		go func() { defer c.ended.Done(); task() }()
	}
	if err := <-caught; err != nil {
		c.Close(ctx, false)
		return nil, err
	}
	return c, nil
}

// claim makes the record of the campaign, or takes it over from one that is no longer there.
func (c *Crew) claim(ctx context.Context) error {
	kv, err := c.link.bucket(ctx, campaigns)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	c.is = Campaign{Name: c.asked.Campaign, What: c.asked.What, Title: c.asked.Title, Plan: c.asked.Plan, Version: own(), State: Running, Began: time.Now(),
		Asker: fmt.Sprintf("%s, process %d (%s)", host, os.Getpid(), nuid.Next()[:6]), By: map[string]int{}}
	text, err := json.Marshal(c.is)
	if err != nil {
		return err
	}
	c.rev, err = kv.Create(ctx, stateKey+c.asked.Campaign, text)
	if err == nil {
		kv.Delete(ctx, orderKey+c.asked.Campaign)
		return nil
	}
	if !errors.Is(err, jetstream.ErrKeyExists) {
		return err
	}
	if !c.asked.Resume {
		return fmt.Errorf("%w: %s", ErrTaken, c.asked.Campaign)
	}
	for last := uint64(0); ; {
		entry, err := kv.Get(ctx, stateKey+c.asked.Campaign)
		if err != nil {
			return err
		}
		var before Campaign
		if err := json.Unmarshal(entry.Value(), &before); err != nil {
			return err
		}
		now, err := c.link.brokerTime(ctx, campaigns)
		if err != nil {
			return err
		}
		ago := now.Sub(entry.Created())
		switch {
		case before.Plan != c.is.Plan || before.What != c.is.What:
			return fmt.Errorf("%w: %s of %s", ErrOther, before.What, before.Title)
		case before.Version != own():
			return fmt.Errorf("%w: it was begun with %s, and this is %s", ErrOther, before.Version, own())
		case before.State == Running && ago <= goneAfter && last != 0 && entry.Revision() != last:
			return fmt.Errorf("%w, and %s asks for it just now", ErrTaken, before.Asker)
		case before.State == Running && ago <= goneAfter:
			c.tell("%s was here %v ago; waiting whether it is still there", before.Asker, ago.Round(time.Second))
			last = entry.Revision()
			pause(ctx, signOfLife+time.Second)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			continue
		}
		c.is.Began = before.Began
		c.is.Aside = before.Aside
		if text, err = json.Marshal(c.is); err != nil {
			return err
		}
		if c.rev, err = kv.Update(ctx, stateKey+c.asked.Campaign, text, entry.Revision()); err != nil {
			return fmt.Errorf("%w, and somebody else has just taken it over: %w", ErrTaken, err)
		}
		return kv.Delete(ctx, orderKey+c.asked.Campaign)
	}
}

func (c *Crew) tell(format string, args ...any) {
	if c.asked.Tell != nil {
		c.asked.Tell(fmt.Sprintf(format, args...))
	}
}

// tellOnce tells what is to be told once only.
func (c *Crew) tellOnce(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !c.told[text] {
		c.told[text] = true
		c.tell("%s", text)
	}
}

// Close ends the campaign: as done, or so that it may be resumed.
func (c *Crew) Close(ctx context.Context, done bool) {
	c.end(nil)
	c.ended.Wait()
	c.lock.Lock()
	if c.is.State == Running {
		c.is.State = Left
		if done {
			c.is.State = Done
		}
	}
	over, begun := c.is.State != Left, c.is.Asked > 0 || c.asked.Resume
	c.lock.Unlock()
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer stop()
	if !begun { // nothing was asked for, so there is nothing to go on with
		if kv, err := c.link.bucket(ctx, campaigns); err == nil {
			kv.Purge(ctx, stateKey+c.asked.Campaign)
		}
		return
	}
	c.write(ctx)
	if over { // what is still there of its work is of no use
		if s, err := c.link.js.Stream(ctx, workStream); err == nil {
			s.Purge(ctx, jetstream.WithPurgeSubject(workSubject+"*."+c.asked.Campaign))
		}
	}
}

// Context is done when the campaign is cancelled from elsewhere, or the broker has no room left; its cause says so.
func (c *Crew) Context() context.Context { return c.life }

// Summary is how the campaign stands.
func (c *Crew) Summary() Campaign {
	c.lock.Lock()
	defer c.lock.Unlock()
	is := c.is
	is.By = maps.Clone(is.By)
	is.Rate = float64(c.now) / time.Since(c.since).Seconds()
	return is
}

// AtOnce is how many matches may be asked for at once: two batches for every slot; of variants one.
func (c *Crew) AtOnce(bool) int {
	c.lock.Lock()
	defer c.lock.Unlock()
	if c.want.Variant != "" { // what comes of one decides which is asked for next, so none is asked for in vain
		return max(1, c.room())
	}
	return min(mostAtOnce, max(2, 2*c.room()*c.seedsAtOnce()))
}

// room is how many matches the workers that are there can play at once.
func (c *Crew) room() (n int) {
	for _, s := range c.workers {
		if !s.Leaving && s.Fits(c.want.class) && !slices.Contains(c.is.Aside, s.Name) {
			n += s.Slots / c.want.Slots
		}
	}
	return n
}

// seedsAtOnce is how many seeds make a batch.
func (c *Crew) seedsAtOnce() int {
	if c.took <= 0 {
		return 1
	}
	return int(min(mostSeeds, max(1, batchWork/c.took)))
}

// Play has a match played.
func (c *Crew) Play(ctx context.Context, p *plan.Plan) (played.Match, error) {
	r, err := c.ask(ctx, p, batch{})
	if err != nil {
		return played.Match{}, err
	}
	return r.Match, nil
}

// Record has a match played, and fetches its run folder.
func (c *Crew) Record(ctx context.Context, p *plan.Plan, folder string) (played.Match, error) {
	r, err := c.ask(ctx, p, batch{Record: true})
	if err != nil {
		return played.Match{}, err
	}
	store, err := c.link.js.ObjectStore(ctx, runs)
	if err != nil {
		return played.Match{}, err
	}
	archive, err := store.GetBytes(ctx, r.Run)
	if err != nil {
		return played.Match{}, fmt.Errorf("the run folder of seed %d is not there: %w", p.Seed, err)
	}
	if err := pack.Extract(bytes.NewReader(archive), folder, pack.Usual); err != nil {
		return played.Match{}, fmt.Errorf("the run folder of seed %d: %w", p.Seed, err)
	}
	return r.Match, c.adopt(p, folder)
}

// adopt makes a run folder that came back one of this machine: its build is here.
func (c *Crew) adopt(p *plan.Plan, folder string) error {
	drawn, _, err := p.Drawn()
	if err != nil {
		return err
	}
	text, err := drawn.SeenFrom(folder).YAML()
	if err != nil {
		return err
	}
	mark := ""
	if c.asked.Mark != nil && p.ByPrograms() {
		mark = c.asked.Mark(text)
	}
	return run.Adopt(folder, text, mark)
}

// Try has a variant played.
func (c *Crew) Try(ctx context.Context, v played.Variant, nth int) ([]played.Shown, error) {
	plain, text, err := apart(v)
	if err != nil {
		return nil, err
	}
	sum := sumOf(text)
	if err := c.deposit(ctx, sum, text); err != nil {
		return nil, err
	}
	r, err := c.ask(ctx, plain, batch{Variant: sum, Nth: nth})
	if err != nil {
		return nil, err
	}
	return r.Shown, nil
}

// ask has a match played, and waits for what came of it. What is wanted of it beside its result is in b.
func (c *Crew) ask(ctx context.Context, p *plan.Plan, b batch) (*Result, error) {
	a, err := c.asking(ctx, p, b)
	if err != nil {
		return nil, err
	}
	c.lock.Lock()
	if c.want = a; len(c.out)+len(c.queue) == 0 {
		c.heard = time.Now()
	}
	if c.stored[a.key()] {
		c.lock.Unlock()
		return c.fetch(ctx, a)
	}
	c.waiting[a.key()] = append(c.waiting[a.key()], a)
	if !c.out[a.key()] {
		c.queue = append(c.queue, a)
		c.is.Asked++
	}
	c.lock.Unlock()
	c.wakeUp()
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case r := <-a.answered:
		return r.or()
	}
}

// fetch gets a result that is stored: of a campaign that is resumed, or of a match that was asked for before.
func (c *Crew) fetch(ctx context.Context, a *asking) (*Result, error) {
	s, err := c.link.js.Stream(ctx, resultStream)
	if err != nil {
		return nil, err
	}
	for {
		m, err := s.GetLastMsgForSubject(ctx, resultSubject+c.asked.Campaign+"."+a.key())
		if err != nil {
			return nil, fmt.Errorf("the result of seed %d is not there: %w", a.seed(), err)
		}
		r := &Result{}
		if err := json.Unmarshal(m.Data, r); err != nil {
			return nil, err
		}
		second := *a
		second.Try++
		c.lock.Lock()
		again := c.stored[second.key()]
		if !again || r.well() {
			c.count(r, m.Header.Get(workerHeader))
			c.lock.Unlock()
			return r.or()
		}
		c.lock.Unlock()
		a = &second
	}
}

// or is a result, or the error that it has.
func (r *Result) or() (*Result, error) {
	if r.Error != "" {
		return nil, errors.New(r.Error)
	}
	return r, nil
}

func (c *Crew) wakeUp() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// asking makes sure that the broker has the plan and its build.
func (c *Crew) asking(ctx context.Context, p *plan.Plan, b batch) (*asking, error) {
	a := &asking{batch: b, answered: make(chan *Result, 1), class: Class{own(), Any}}
	a.Campaign, a.Seeds, a.Slots, a.Again = c.asked.Campaign, []uint64{p.Seed}, 1, c.asked.Resume
	if p.ByPrograms() {
		a.class.Needs = p.Needs()
	}
	if p.Clock == plan.Wall {
		a.Slots = len(p.Bots)
	}
	if p.Build.Attach != "" {
		return nil, fmt.Errorf("%w: a server that runs already (attach:) runs on one machine alone", ErrNobody)
	}
	if p.Afar() {
		return nil, fmt.Errorf("%w: a match with clients on other machines (on:) is played where it is asked for: zwheel run PLAN --on ADDRESS", ErrNobody)
	}
	one := *p
	one.Seed = 0
	if p.Build.Given() {
		content, err := c.build(ctx, p)
		if err != nil {
			return nil, err
		}
		a.Build = &content
		one.Build.Folder = "" // it is another one there
	}
	c.lock.Lock()
	a.Plan = c.sumOf(&one)
	c.lock.Unlock()
	if a.Plan != "" {
		return a, nil
	}
	text, err := one.YAML()
	if err != nil {
		return nil, err
	}
	a.Plan = sumOf(text)
	if err := c.deposit(ctx, a.Plan, text); err != nil {
		return nil, err
	}
	c.lock.Lock()
	defer c.lock.Unlock()
	copy(c.there[1:], c.there[:])
	c.there[0] = there{&one, a.Plan}
	return a, nil
}

// deposit stores a plan, or what a variant is, under its sum.
func (c *Crew) deposit(ctx context.Context, sum string, text []byte) error {
	if len(text) > mostMessage-4096 {
		return fmt.Errorf("the plan is too long to be handed on: %s", size(int64(len(text))))
	}
	kv, err := c.link.bucket(ctx, plans)
	if err != nil {
		return err
	}
	if _, err := kv.Put(ctx, sum, text); err != nil {
		return full(err)
	}
	return nil
}

// there is a plan that the broker has, and its sum.
type there struct {
	plan *plan.Plan
	sum  string
}

// sumOf is the sum of a plan that the broker has, if it was asked for lately. To write a plan out takes a hundred times as
// long: plans that differ in their seeds alone share all that they point to. The caller holds the lock.
func (c *Crew) sumOf(p *plan.Plan) string {
	for _, t := range c.there {
		if t.plan != nil && reflect.DeepEqual(t.plan, p) {
			return t.sum
		}
	}
	return ""
}

// full says it plainly if the broker has no room.
func full(err error) error {
	if isFull(err) {
		return fmt.Errorf("the broker has no room left; give it more (zwheel hub --disk-mb), or have it keep campaigns for less time (--keep): %w", err)
	}
	return err
}

func (c *Crew) build(ctx context.Context, p *plan.Plan) (content pack.Content, err error) {
	c.lock.Lock()
	defer c.lock.Unlock() // once
	key := p.Build.Folder + "\n" + strings.Join(p.Build.Files, "\n")
	if content, ok := c.packed[key]; ok {
		return content, nil
	}
	content, err = c.link.handOver(ctx, p.Build.Folder, p.Build.Files)
	if err != nil {
		return content, full(err)
	}
	c.packed[key] = content
	c.is.Bytes += content.Bytes
	c.tell("the build is %d files, %s packed (%s)", content.Files, size(content.Bytes), content.Sum[:12])
	return content, nil
}

// handOut hands what is asked for to workers, in batches, and not more than they have room for.
func (c *Crew) handOut(ctx context.Context) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
			pause(ctx, linger)
		case <-time.After(waitAWhile):
		}
		for ctx.Err() == nil {
			c.lock.Lock()
			list, b := c.next()
			stands := len(c.queue)+len(c.out) > 0 && time.Since(c.heard) > goneAfter
			c.lock.Unlock()
			if stands {
				c.sayNobody(ctx)
			}
			if len(list) == 0 {
				break
			}
			m, err := c.link.sign(workSubject+list[0].class.token()+"."+c.asked.Campaign, b)
			if err == nil {
				_, err = c.link.js.PublishMsg(ctx, m)
			}
			if err == nil {
				continue
			}
			c.lock.Lock()
			for _, a := range list {
				delete(c.out, a.key())
			}
			c.queue = append(list, c.queue...)
			c.lock.Unlock()
			if isFull(err) {
				c.end(full(err))
				return
			}
			if ctx.Err() == nil {
				c.tell("the broker takes no work just now: %v", err)
			}
			pause(ctx, time.Second)
		}
	}
}

// next takes a batch off the queue, if there is room for it. The caller holds the lock.
func (c *Crew) next() (list []*asking, b *batch) {
	if c.order != Running || len(c.queue) == 0 {
		return nil, nil
	}
	most := c.seedsAtOnce()
	if len(c.out) >= max(1, 2*c.room())*most {
		return nil, nil
	}
	// Towards the end batches become smaller, so that nobody has the last long one.
	most = min(most, max(1, len(c.queue)/max(1, 2*c.room())))
	first := c.queue[0]
	rest := c.queue[:0:0]
	for i, a := range c.queue {
		if len(list) == most {
			rest = append(rest, c.queue[i:]...)
			break
		}
		if a == first || a.class == first.class && a.like(&first.batch) {
			list = append(list, a)
		} else {
			rest = append(rest, a)
		}
	}
	c.queue = rest
	together := first.batch
	b, together.Seeds = &together, nil
	for _, a := range list {
		b.Seeds = append(b.Seeds, a.seed())
		c.out[a.key()] = true
	}
	return list, b
}

// sayNobody says why nothing is played, if it is because nobody can.
func (c *Crew) sayNobody(ctx context.Context) {
	all, err := c.link.Workers(ctx)
	if err != nil {
		return // the broker is away, which is told elsewhere
	}
	c.lock.Lock()
	defer c.lock.Unlock()
	if len(all) == 0 {
		c.tellOnce("no worker is there: zwheel worker --join %s starts one", c.link.address.URL)
	}
	for _, s := range all {
		switch want := c.want; {
		case s.Leaving:
		case s.Version != want.class.Version:
			c.tellOnce("worker %s is of another version, %s, and this is %s: it gets nothing", s.Name, s.Version, want.class.Version)
		case !s.Fits(want.class):
			c.tellOnce("worker %s is %s, and the plan needs %s", s.Name, s.needs(), want.class.Needs)
		case s.Slots < want.Slots:
			c.tellOnce("worker %s has %d slots, and a match on the wall clock with %d players takes %d", s.Name, s.Slots, want.Slots, want.Slots)
		case s.Refused != "" && s.Busy == 0:
			c.tellOnce("worker %s says: %s", s.Name, s.Refused)
		}
	}
}

// hear takes in results, from the first that is stored on. caught hears when all that were stored when it began are in.
func (c *Crew) hear(ctx context.Context, caught chan<- error) {
	s, err := c.link.js.Stream(ctx, resultStream)
	if err != nil {
		caught <- err
		return
	}
	consumer, err := c.link.js.OrderedConsumer(ctx, resultStream, jetstream.OrderedConsumerConfig{FilterSubjects: []string{resultSubject + c.asked.Campaign + ".>"}})
	if err != nil {
		caught <- err
		return
	}
	until := uint64(0)
	if c.asked.Resume {
		if last, err := s.GetLastMsgForSubject(ctx, resultSubject+c.asked.Campaign+".>"); err == nil {
			until = last.Sequence
		}
	}
	if until == 0 {
		caught <- nil
		caught = nil
	}
	messages, err := consumer.Messages(jetstream.PullExpiry(3*time.Second), jetstream.PullHeartbeat(time.Second))
	if err != nil {
		if caught != nil {
			caught <- err
		}
		return
	}
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	for {
		m, err := messages.Next()
		if err != nil {
			if ctx.Err() != nil || errors.Is(err, jetstream.ErrMsgIteratorClosed) {
				if caught != nil {
					caught <- context.Cause(ctx)
				}
				return
			}
			continue // it is asked for anew, as the broker comes back
		}
		c.take(m)
		if meta, err := m.Metadata(); err == nil && caught != nil && meta.Sequence.Stream >= until {
			caught <- nil
			caught = nil
		}
	}
}

// take takes in a result.
func (c *Crew) take(m jetstream.Msg) {
	key := strings.TrimPrefix(m.Subject(), resultSubject+c.asked.Campaign+".")
	r := &Result{}
	if err := json.Unmarshal(m.Data(), r); err != nil {
		c.tell("a result that is none came for %s: %v", key, err)
		return
	}
	by := m.Headers().Get(workerHeader)
	c.lock.Lock()
	defer c.lock.Unlock()
	if us, err := strconv.ParseInt(m.Headers().Get(tookHeader), 10, 64); err == nil {
		took := max(time.Duration(us)*time.Microsecond, time.Microsecond)
		if c.took == 0 {
			c.took = took
		}
		c.took += (took - c.took) / 8
	}
	delete(c.out, key)
	c.stored[key], c.heard = true, time.Now()
	c.wakeUp()
	asked := c.waiting[key]
	delete(c.waiting, key)
	if len(asked) == 0 {
		return
	}
	first := asked[0]
	if !r.well() && first.Try == 0 && c.others(first, by) {
		// It may be the worker: another one plays it too.
		for _, a := range asked {
			a.Try, a.Not, a.first, a.firstBy = 1, []string{by}, r, by
		}
		c.waiting[first.key()] = append(c.waiting[first.key()], asked...)
		c.queue = append(c.queue, first)
		return
	}
	if first.Try > 0 {
		c.strike(first, r, by)
		if !r.well() {
			r = first.first // as it went first
		}
	}
	c.count(r, by)
	for _, a := range asked {
		a.answered <- r
	}
}

// others reports whether a worker other than that one could play it. The caller holds the lock.
func (c *Crew) others(a *asking, by string) bool {
	return slices.ContainsFunc(c.workers, func(s Standing) bool {
		return s.Name != by && !s.Leaving && s.Fits(a.class) && s.Slots >= a.Slots && !slices.Contains(c.is.Aside, s.Name)
	})
}

// strike puts a worker aside on which matches fail that do not fail elsewhere.
func (c *Crew) strike(a *asking, r *Result, by string) {
	if !r.well() {
		return
	}
	if c.strikes[a.firstBy] == nil {
		c.strikes[a.firstBy] = map[string]bool{}
	}
	c.strikes[a.firstBy][a.key()] = true
	why := a.first.Error
	if why == "" {
		why = a.first.Match.Why
	}
	c.tell("seed %d could not be played on %s (%s), and could on %s", a.seed(), a.firstBy, why, by)
	if len(c.strikes[a.firstBy]) == strikesOut && !slices.Contains(c.is.Aside, a.firstBy) {
		c.is.Aside = append(c.is.Aside, a.firstBy)
		c.tell("%s is put aside: %d matches failed there that could be played elsewhere", a.firstBy, strikesOut)
	}
}

func (c *Crew) count(r *Result, by string) {
	c.is.Matches++
	c.now++
	c.is.By[by]++
	if !r.well() {
		c.is.Failed++
	}
	if len(r.Match.Found) > 0 {
		c.is.Found++
	}
}

// stand keeps the record of the campaign up to date, and does what it is told to from elsewhere.
func (c *Crew) stand(ctx context.Context) {
	alarms := 0
	for ctx.Err() == nil {
		if all, err := c.link.Workers(ctx); err == nil {
			c.lock.Lock()
			c.workers = c.workers[:0]
			for _, s := range all {
				if s.Version == own() {
					c.workers = append(c.workers, s)
				} else {
					c.tellOnce("worker %s is of another version, %s, and this is %s: it gets nothing", s.Name, s.Version, own())
				}
			}
			c.lock.Unlock()
			c.wakeUp()
		}
		c.obey(ctx)
		if list, err := c.link.Alarms(ctx, c.asked.Campaign); err == nil && len(list) > alarms {
			for _, a := range list[alarms:] {
				c.tell("ALARM: %s went another way on %s than on %s, and a match on the virtual clock must not; zwheel campaign show %s has both", a.Key, a.Other, a.By, a.Campaign)
			}
			alarms = len(list)
		}
		c.lock.Lock()
		c.is.Alarms = alarms
		c.lock.Unlock()
		c.write(ctx)
		pause(ctx, time.Second)
	}
}

// obey does what the campaign was told from elsewhere.
func (c *Crew) obey(ctx context.Context) {
	kv, err := c.link.bucket(ctx, campaigns)
	if err != nil {
		return
	}
	order := Running
	if entry, err := kv.Get(ctx, orderKey+c.asked.Campaign); err == nil {
		order = State(entry.Value())
	}
	c.lock.Lock()
	before := c.order
	c.order = order
	if order == Cancelled {
		c.is.State = Cancelled
	}
	c.lock.Unlock()
	switch {
	case order == Cancelled:
		c.end(ErrCancelled)
	case order == Paused && before == Running:
		c.tell("the campaign is paused: zwheel campaign resume %s goes on", c.asked.Campaign)
	case order == Running && before == Paused:
		c.tell("the campaign goes on")
		c.wakeUp()
	}
}

func (c *Crew) write(ctx context.Context) {
	text, err := json.Marshal(c.Summary())
	if err != nil {
		return
	}
	kv, err := c.link.bucket(ctx, campaigns)
	if err != nil {
		return
	}
	kv.Put(ctx, stateKey+c.asked.Campaign, text) // if it does not arrive, the next one may
}
