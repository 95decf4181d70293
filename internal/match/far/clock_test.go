package far

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// The other clock is found within the error that is told, whatever the ways there and back take.
func TestAClockIsFoundWithinItsError(t *testing.T) {
	for _, c := range []struct {
		name        string
		off         time.Duration
		ppm         float64
		way, jitter time.Duration
	}{
		{"near by", 0, 0, 100 * time.Microsecond, 50 * time.Microsecond},
		{"off by minutes, and fast", -217 * time.Second, 80, time.Millisecond, time.Millisecond},
		{"far away, with jitter", 3 * time.Hour, -40, 40 * time.Millisecond, 15 * time.Millisecond},
	} {
		r := rand.New(rand.NewPCG(1, 2))
		there := func(here time.Duration) time.Duration { return here + c.off + time.Duration(float64(here)*c.ppm/1e6) }
		var k clock
		now := time.Duration(0)
		for n := range 300 {
			asked := now
			heard := asked + c.way + time.Duration(r.Float64()*float64(c.jitter))
			answered := heard + c.way + time.Duration(r.Float64()*float64(c.jitter))
			k.add(asked, answered, there(heard))
			now += askLater
			if n < askOften {
				continue
			}
			s := k.summary()
			assert.LessOrEqual(t, (k.here(there(now)) - now).Abs(), s.Error+100*time.Microsecond, "%s, exchange %d: %+v", c.name, n, s)
			assert.LessOrEqual(t, (k.there(k.here(there(now))) - there(now)).Abs(), time.Millisecond, "there and back again")
		}
		assert.InDelta(t, c.ppm, -k.summary().DriftPPM, 30, c.name)
		assert.Equal(t, 300, k.summary().Exchanges)
	}
}
