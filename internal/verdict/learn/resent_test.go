package learn

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Of two flags that come 1.2 s late now and then, the one where a packet had been lost each time is
// one that is sent again; of the other that is a mistake.
func TestWhatIsSentAgainIsLearnedWhereAPacketWasLost(t *testing.T) {
	for _, c := range []struct {
		what  string
		lost  bool
		again bool
	}{{"a packet was lost each time", true, true}, {"nothing was lost", false, false}} {
		t.Run(c.what, func(t *testing.T) {
			m := newMatch(t)
			flips := func(at, late float64) string { // every 3 s; at 9, 18 and 27 s it comes that much late
				n := int(at / 3)
				if since := at - float64(n)*3; n%3 == 0 && n > 0 && since < late {
					n--
				}
				return fmt.Sprintf(`"lamp/a":{"lit":%t},"boat/a":{"x":%.2f,"y":1}`, n%2 == 0, at)
			}
			for i := range 600 {
				at := float64(i) / 20
				m.say(0, at, `"full":true,"state":{`+flips(at, 0)+`}`)
				if at > 0.5 {
					m.say(1, at+0.001, `"full":true,"state":{`+flips(at-0.1, 1.1)+`}`)
					m.say(2, at+0.001, `"full":true,"state":{`+flips(at-0.1, 0)+`}`)
				}
			}
			for _, at := range []float64{9, 18, 27} {
				if c.lost {
					m.Lost(1, time.Duration(at*1e9))
				}
			}
			r := find(t, Learn([]*Match{m.Match}), "lit")
			if c.again {
				assert.InDelta(t, 1.5, r.ResentWithin.Seconds(), 0.2)
				assert.Less(t, r.MaxDelay, 500*ms)
				assert.Contains(t, r.Why[len(r.Why)-1], "what is lost is sent again, and comes within 1.")
			} else {
				assert.Zero(t, r.ResentWithin)
			}
		})
	}
}
