package replay

import (
	"cmp"
	"context"
	"slices"
	"time"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/plan"
)

// singles says of the packets near the finding, and of those that were named, what each does by itself: so whoever
// reads the proof sees that the others beside it do not make the finding.
func (c *inquiry) singles(ctx context.Context, w *Why) error {
	if c.Plan.Clock == plan.Wall { // there each takes many matches
		return nil
	}
	near := c.near(w)
	if len(near) < 2 { // that one has been told
		return nil
	}
	c.lab.tell("playing each of the %d packets near the finding delivered by itself, and lost by itself: %s",
		len(near), c.lab.left(2*len(near)))
	w.Each = make([]Single, len(near))
	for n, i := range near {
		w.Each[n].Culprit = c.culprit(c.suspects[i].Way, c.suspects[i].outcome)
	}
	return campaign.Each(ctx, c.lab.atOnce(false), campaign.Numbers(2*len(near)), func(n int) error {
		i, alone := near[n/2], n%2 == 0
		asRecorded := func(k int) bool {
			return (k == i) == alone || alone && c.company != nil && c.company(k)
		}
		told, err := c.lab.try(ctx, c.world(asRecorded), 0, c.target)
		if alone {
			w.Each[n/2].Alone = told
		} else {
			w.Each[n/2].Delivered = told
		}
		return err
	})
}

const (
	nearBefore     = 2 * time.Second // of a finding
	mostNear       = 8
	mostNearBuilds = 4 // whose matches take longer
)

// near are the packets that were sent shortly before the finding on the link of its view, the nearest first to be
// chosen, and those that were named.
func (c *inquiry) near(w *Why) (list []int) {
	named := func(i int) bool {
		s := c.suspects[i]
		return slices.ContainsFunc(w.Packets, func(p Culprit) bool {
			return p.Link == s.Link && p.Direction == s.Direction.String() && p.Packet == s.outcome.Number
		})
	}
	var others []int
	for i, s := range c.suspects {
		switch ago := c.target.Began - s.outcome.Sent; {
		case named(i):
			list = append(list, i)
		case s.Link == c.target.View && ago < nearBefore && ago > -lateBy:
			others = append(others, i)
		}
	}
	slices.SortStableFunc(others, func(a, b int) int {
		away := func(i int) time.Duration { return (c.target.Began - c.suspects[i].outcome.Sent).Abs() }
		return cmp.Compare(away(a), away(b))
	})
	most := mostNear
	if c.Plan.ByPrograms() {
		most = mostNearBuilds
	}
	list = append(list[:min(most, len(list))], others[:min(max(0, most-len(list)), len(others))]...)
	slices.Sort(list)
	return list
}
