package trace

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Seconds is a time that is written as seconds: with at most six decimals in JSON, and
// with three for people.
type Seconds time.Duration

func (s Seconds) String() string { return fmt.Sprintf("%.3f s", time.Duration(s).Seconds()) }

func (s Seconds) MarshalJSON() ([]byte, error) {
	b := AppendSeconds(nil, time.Duration(s))
	return []byte(strings.TrimRight(strings.TrimRight(string(b), "0"), ".")), nil
}

func (s *Seconds) UnmarshalJSON(b []byte) error {
	f, err := strconv.ParseFloat(string(b), 64)
	*s = Seconds(math.Round(f*1e6)) * Seconds(time.Microsecond)
	return err
}
