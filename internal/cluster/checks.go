package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"hash/fnv"
	"time"
)

// A match on the virtual clock is the same wherever it is played. So a share of them is played by two workers of
// different names, and a difference is an alarm that keeps both: one of them makes its results up, is broken, or the
// match does not repeat.

// CheckOneIn is of how many matches one is played twice, unless a campaign is asked for otherwise.
const CheckOneIn = 50

// checked is a result that another worker is to confirm.
type checked struct {
	result *Result
	by     string
}

// checkTry is the number of such a second play among the tries of a match: beyond those after a failure.
const checkTry = 9

// check has another worker play a match too, if it is one of those. The caller holds the lock.
func (c *Crew) check(a *asking, r *Result, by string) {
	if !a.repeats || a.Record || a.Witness || a.Variant != "" || c.asked.CheckOneIn <= 0 || !c.others(a, by) {
		return
	}
	hash := fnv.New32a()
	hash.Write([]byte(a.key()))
	if hash.Sum32()%uint32(c.asked.CheckOneIn) != 0 {
		return
	}
	second := *a
	second.Try, second.Not, second.answered = checkTry, []string{by}, make(chan *Result, 1)
	key := second.key()
	if c.stored[key] || c.checks[key] != nil {
		return
	}
	c.checks[key] = &checked{r, by}
	c.waiting[key] = append(c.waiting[key], &second)
	c.queue = append(c.queue, &second)
}

// compare holds the second play of a match against the first. The caller holds the lock.
func (c *Crew) compare(a *asking, was *checked, r *Result, by string) {
	c.is.Checked++
	first, err := json.Marshal(was.result)
	second, failed := json.Marshal(r)
	if err != nil || failed != nil || !r.well() || bytes.Equal(first, second) {
		return // one that could not be played elsewhere says nothing
	}
	text, err := json.Marshal(Alarm{c.asked.Campaign, a.key(), first, was.by, second, by})
	if err == nil {
		go c.link.persist(c.life, func(ctx context.Context) error { // stand tells it, when it is kept
			_, err := c.link.js.Publish(ctx, alarmSubject+c.asked.Campaign, text)
			return err
		})
	}
}

// checksWithin is how long the last checks of a campaign are waited for.
const checksWithin = 30 * time.Second

// awaitChecks waits until all that is to be confirmed was.
func (c *Crew) awaitChecks(ctx context.Context) {
	began := time.Now()
	for ; ctx.Err() == nil && c.life.Err() == nil && time.Since(began) < checksWithin; pause(ctx, 20*time.Millisecond) {
		c.lock.Lock()
		left := len(c.checks)
		c.lock.Unlock()
		if left == 0 {
			return
		}
	}
}
