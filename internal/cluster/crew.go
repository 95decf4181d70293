package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"sync"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/pack"
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

	Patience time.Duration // how long is waited where nobody can play; 0 is for ever

	CheckOneIn int // one match of so many is played by two workers, on the virtual clock; 0 is none

	Sign run.Sign // signs run folders that come back, see match.Options; may be nil
}

// Crew has the matches of one campaign played by workers. It is a [played.Crew].
type Crew struct {
	link  *Link
	asked Asked
	life  context.Context
	end   context.CancelCauseFunc
	ended sync.WaitGroup

	lock     sync.Mutex
	is       Campaign
	stored   map[string]bool      // keys that have a result
	unsealed *unsealed            // results that were packed, of a campaign that is resumed; or nil
	waiting  map[string][]*asking // by the key that is waited for
	queue    []*asking            // not handed out yet
	out      map[string]bool      // keys that are with workers
	order    State
	workers  []Standing
	checks   map[string]*checked        // second plays that are out, by key
	strikes  map[string]map[string]bool // by worker: keys that failed on it and on no other
	took     time.Duration              // of a match, on average
	paces    map[string]*paced          // by worker
	want     *asking                    // what was asked for last: which workers fit
	heard    time.Time                  // when the last result came, or something was asked for while nothing else was
	wake     chan struct{}
	there    [16]there // plans that the broker has
	packed   map[string]pack.Content
	told     map[string]bool
	since    time.Time
	now      int // matches since then
}

// The errors of a campaign that cannot be begun.
var (
	ErrTaken     = errors.New("there is a campaign of that name already")
	ErrOther     = errors.New("the campaign of that name is of something else, or its build has changed since")
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
	c := &Crew{link: l, asked: asked, stored: map[string]bool{}, waiting: map[string][]*asking{}, out: map[string]bool{}, strikes: map[string]map[string]bool{}, checks: map[string]*checked{}, paces: map[string]*paced{},
		want: &asking{class: Class{own(), Any}, batch: batch{Slots: 1}}, wake: make(chan struct{}, 1), packed: map[string]pack.Content{}, told: map[string]bool{}, since: time.Now(), order: Running}
	if !ValidName(asked.Campaign) {
		return nil, fmt.Errorf("%w: a campaign cannot be called %q: letters, digits and - only", ErrOther, asked.Campaign)
	}
	if err := c.claim(ctx); err != nil {
		return nil, err
	}
	if asked.Resume {
		var err error
		if c.unsealed, err = l.unseal(ctx, asked.Campaign); err != nil {
			return nil, err
		}
		for key := range c.unsealed.at {
			c.stored[key] = true
		}
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

// Context is done when the campaign is cancelled from elsewhere, the broker has no room left, or nobody can play; its cause says so.
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
	archive, err := c.link.fetchRun(ctx, c.asked.Campaign, r.Run)
	if err != nil {
		return played.Match{}, fmt.Errorf("the run folder of seed %d: %w", p.Seed, err)
	}
	if err := pack.Extract(bytes.NewReader(archive), folder, ofRuns); err != nil {
		return played.Match{}, errors.Join(fmt.Errorf("the run folder of seed %d: %w", p.Seed, err), os.RemoveAll(folder))
	}
	if err := c.adopt(p, folder); err != nil {
		return played.Match{}, errors.Join(err, os.RemoveAll(folder))
	}
	return r.Match, nil
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
	return run.Adopt(folder, text, match.OriginOf(drawn), c.asked.Sign)
}

// Try has a variant played.
func (c *Crew) Try(ctx context.Context, v played.Variant, nth int) (played.Tried, error) {
	plain, text, err := apart(v)
	if err != nil {
		return played.Tried{}, err
	}
	sum := sumOf(text)
	if err := c.deposit(ctx, sum, text); err != nil {
		return played.Tried{}, err
	}
	r, err := c.ask(ctx, plain, batch{Variant: sum, Nth: nth})
	if err == nil && r.Tried == nil {
		err = errors.New("its worker says nothing of the variant: " + r.Match.Why)
	}
	if err != nil {
		return played.Tried{}, err
	}
	return *r.Tried, nil
}

// Witness has a match played with a witness.
func (c *Crew) Witness(ctx context.Context, p *plan.Plan) (played.Witnessed, error) {
	r, err := c.ask(ctx, p, batch{Witness: true})
	if err == nil && r.Witnessed == nil {
		err = errors.New("its witness said nothing: " + r.Match.Why)
	}
	if err != nil {
		return played.Witnessed{}, err
	}
	return *r.Witnessed, nil
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
	c.enlist(a)
	c.lock.Unlock()
	return c.await(ctx, a)
}

// enlist has a match handed out, unless it is out already. The caller holds the lock.
func (c *Crew) enlist(a *asking) {
	c.waiting[a.key()] = append(c.waiting[a.key()], a)
	if !c.out[a.key()] {
		c.queue = append(c.queue, a)
		c.is.Asked++
	}
}

// await waits for the result of a match that was enlisted.
func (c *Crew) await(ctx context.Context, a *asking) (*Result, error) {
	c.wakeUp()
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case r := <-a.answered:
		return r.or()
	}
}

func (c *Crew) wakeUp() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}
