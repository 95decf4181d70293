package cluster

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"zitherwheel/internal/campaign/played"
)

// fetch gets a result that is stored: of a campaign that is resumed, or of a match that was asked for before. Where
// what is stored is no result, the match is played anew.
func (c *Crew) fetch(ctx context.Context, a *asking) (*Result, error) {
	for {
		r, by, err := c.kept(ctx, a)
		spoilt := errors.Is(err, errNoResult)
		if err != nil && !spoilt {
			return nil, fmt.Errorf("the result of seed %d is not there: %w", a.seed(), err)
		}
		second := *a
		second.Try++
		c.lock.Lock()
		again := c.stored[second.key()]
		switch {
		case spoilt:
			c.putAside(by, fmt.Sprintf("what it stored for seed %d is no result", a.seed()))
			if !again {
				second.Not = append(slices.Clone(second.Not), by)
				c.enlist(&second)
				c.lock.Unlock()
				return c.await(ctx, &second)
			}
		case !again || r.well():
			c.count(r, by)
			c.lock.Unlock()
			return r.or()
		}
		c.lock.Unlock()
		a = &second
	}
}

// kept is a result that the broker has, and the worker whose it is.
func (c *Crew) kept(ctx context.Context, a *asking) (r *Result, by string, err error) {
	key := a.key()
	if c.unsealed != nil {
		if _, packed := c.unsealed.at[key]; packed {
			return c.unsealed.result(key, a.seed())
		}
	}
	var m *jetstream.RawStreamMsg
	err = c.link.persist(ctx, func(ctx context.Context) error {
		s, err := c.link.js.Stream(ctx, resultStream)
		if err == nil {
			m, err = s.GetLastMsgForSubject(ctx, resultSubject+c.asked.Campaign+"."+key)
		}
		return err
	})
	if err != nil {
		return nil, "", err
	}
	by = m.Header.Get(workerHeader)
	if r, err = readResult(m.Data, a.seed()); err != nil {
		err = fmt.Errorf("%w: %w", errNoResult, err)
	}
	return r, by, err
}

// or is a result, or the error that it has.
func (r *Result) or() (*Result, error) {
	if r.Error != "" {
		return nil, errors.New(r.Error)
	}
	return r, nil
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
	by := m.Headers().Get(workerHeader)
	c.lock.Lock()
	defer c.lock.Unlock()
	asked := c.waiting[key]
	if len(asked) == 0 { // of a campaign that is resumed, or of no match that anybody waits for
		delete(c.out, key)
		c.stored[key], c.heard = true, time.Now()
		c.wakeUp()
		return
	}
	if !ValidName(by) {
		by = "a worker without a name"
	}
	r, err := readResult(m.Data(), asked[0].seed())
	if err != nil {
		c.putAside(by, fmt.Sprintf("what it stored for seed %d is no result: %.200s", asked[0].seed(), strconv.QuoteToGraphic(err.Error())))
		r = &Result{Match: played.Match{Seed: asked[0].seed(), Verdict: played.Failed, Why: "what its worker stored is no result"}}
	}
	if us, err := strconv.ParseInt(m.Headers().Get(tookHeader), 10, 64); err == nil {
		took := max(time.Duration(us)*time.Microsecond, time.Microsecond)
		if c.took == 0 {
			c.took = took
		}
		c.took += (took - c.took) / 8
		c.pace(by, took)
	}
	delete(c.out, key)
	c.stored[key], c.heard = true, time.Now()
	c.wakeUp()
	delete(c.waiting, key)
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
	if was := c.checks[key]; was != nil {
		delete(c.checks, key)
		c.compare(first, was, r, by)
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
	if first.Try == 0 && r.well() {
		c.check(first, r, by)
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
	if len(c.strikes[a.firstBy]) == strikesOut {
		c.putAside(a.firstBy, fmt.Sprintf("%d matches failed there that could be played elsewhere", strikesOut))
	}
}

// putAside gives a worker nothing more. The caller holds the lock.
func (c *Crew) putAside(worker, why string) {
	if !slices.Contains(c.is.Aside, worker) {
		c.is.Aside = append(c.is.Aside, worker)
		c.tell("%s is put aside: %s", worker, why)
	}
}

// pace notes how long a worker took, and names one that takes far longer than the others: the last match of a campaign may
// be its. One that is slower still gets no more.
func (c *Crew) pace(by string, took time.Duration) {
	const enough, slow, tooSlow = 8, 4, 10
	one := c.paces[by]
	if one == nil {
		one = &paced{took: took}
		c.paces[by] = one
	}
	one.n++
	one.took += (took - one.took) / 8
	var others []time.Duration
	for name, other := range c.paces {
		if name != by && other.n >= enough && !slices.Contains(c.is.Aside, name) {
			others = append(others, other.took)
		}
	}
	if one.n < enough || len(others) == 0 || slices.Contains(c.is.Aside, by) {
		return
	}
	slices.Sort(others)
	usual := max(others[len(others)/2], time.Millisecond)
	switch {
	case one.took > tooSlow*usual:
		c.putAside(by, fmt.Sprintf("a match takes it %.1f s, and the others %.1f s", one.took.Seconds(), usual.Seconds()))
	case one.took > slow*usual:
		c.tellOnce("%s is slow: a match takes it more than %d times as long as the others", by, slow)
	}
}

// paced is how long matches take a worker.
type paced struct {
	n    int
	took time.Duration // on average, the latest counting most
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
