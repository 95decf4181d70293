package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nuid"
)

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
	_, err = kv.Create(ctx, stateKey+c.asked.Campaign, text)
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
		if _, err = kv.Update(ctx, stateKey+c.asked.Campaign, text, entry.Revision()); err != nil {
			return fmt.Errorf("%w, and somebody else has just taken it over: %w", ErrTaken, err)
		}
		return kv.Delete(ctx, orderKey+c.asked.Campaign)
	}
}

// Close ends the campaign: as done, or so that it may be resumed.
func (c *Crew) Close(ctx context.Context, done bool) {
	if done {
		c.awaitChecks(ctx)
	}
	c.end(nil)
	c.ended.Wait()
	if c.unsealed != nil {
		defer c.unsealed.close()
	}
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
	if order == Running && before == Paused {
		c.heard = time.Now() // it did not stand because nobody could play
	}
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
