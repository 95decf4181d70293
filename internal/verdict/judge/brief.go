package judge

import (
	"fmt"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// brief is how often a value was wrong for less than its rule's min-duration, and for how long in all.
type brief struct {
	times  int
	amount time.Duration
}

func (b *brief) add(amount time.Duration) {
	if amount > 0 {
		b.times++
		b.amount += amount
	}
}

// What is wrong for a moment now and then is what the link does to it; what is wrong again and again flickers.
const (
	flickers   = 5
	flickerFor = time.Second
)

// warnOfFlicker tells of what is there or not, or had one value or another, and was wrong again and again,
// each time for less than is a finding. Of numbers that move that is nothing to tell of: limits on motion see it.
func (j *Judge) warnOfFlicker() (list []Warning) {
	for _, v := range j.views[1:] {
		var worst *tracker
		more := 0
		v.each(func(k *tracker) {
			if k.rule.Compare != rulebook.Exact || k.rule.TimeDriven || k.brief.times < flickers || k.brief.amount < flickerFor {
				return
			}
			if worst == nil || k.brief.amount > worst.brief.amount {
				worst = k
			}
			more++
		})
		if worst == nil {
			continue
		}
		text := fmt.Sprintf("in %s, %s of %s was wrong %d times, for %.2f s on average, each too short to be a finding (min-duration %v)", v.name, worst.rule.Label(), worst.mirror.known.name,
			worst.brief.times, worst.brief.amount.Seconds()/float64(worst.brief.times), worst.rule.MinDuration)
		if more > 1 {
			text += fmt.Sprintf("; %d more like it", more-1)
		}
		list = append(list, Warning{View: v.name, Text: text})
	}
	return list
}
