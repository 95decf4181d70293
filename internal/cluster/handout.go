package cluster

import (
	"cmp"
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"

	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
)

// asking is a match that somebody waits for: a batch of its seed alone.
type asking struct {
	batch
	class    Class
	repeats  bool    // it is the same whoever plays it
	first    *Result // of the first try, which failed
	firstBy  string
	answered chan *Result
}

func (a *asking) seed() uint64 { return a.Seeds[0] }

func (a *asking) key() string { return a.batch.key(a.seed()) }

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

// asking makes sure that the broker has the plan and its build.
func (c *Crew) asking(ctx context.Context, p *plan.Plan, b batch) (*asking, error) {
	a := &asking{batch: b, answered: make(chan *Result, 1), class: Class{own(), Any}}
	a.Campaign, a.Seeds, a.Slots, a.Again = c.asked.Campaign, []uint64{p.Seed}, 1, c.asked.Resume
	if p.ByPrograms() {
		a.class.Needs = p.Needs()
	}
	if a.repeats = p.Clock != plan.Wall; !a.repeats {
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
	return full(c.link.persist(ctx, func(ctx context.Context) error {
		_, err := kv.Put(ctx, sum, text)
		return err
	}))
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
	c.tell("the build is packed: %d of its files, %s (%s)", content.Files, size(content.Bytes), content.Sum[:12])
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
			stood := time.Duration(0)
			if c.order == Running && len(c.queue)+len(c.out) > 0 {
				stood = time.Since(c.heard)
			}
			c.lock.Unlock()
			if stood > min(goneAfter, cmp.Or(c.asked.Patience, goneAfter)) && c.nobody(ctx) && c.asked.Patience > 0 && stood > c.asked.Patience {
				c.end(fmt.Errorf("%w; it was waited for %v", ErrNobody, c.asked.Patience))
				return
			}
			if len(list) == 0 {
				break
			}
			m, err := c.link.sign(workSubject+list[0].class.token()+"."+c.asked.Campaign, b)
			if err == nil {
				err = c.publish(ctx, m)
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

// publish waits no longer than patience for the broker: the one that was to answer may have died, and the
// caller's own deadline may be far away. A batch that comes twice is played, and counted, once.
func (c *Crew) publish(ctx context.Context, m *nats.Msg) error {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	_, err := c.link.js.PublishMsg(ctx, m)
	return err
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

// nobody reports whether nothing is played because nobody can, and says why each cannot.
func (c *Crew) nobody(ctx context.Context) (is bool) {
	all, err := c.link.Workers(ctx)
	if err != nil {
		return false // the broker is away, which is told elsewhere
	}
	c.lock.Lock()
	defer c.lock.Unlock()
	is = true
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
		default:
			is = false
		}
	}
	return is
}
