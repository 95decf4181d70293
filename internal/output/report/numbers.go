package report

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Number groups digits by three: 348,112.
func Number(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// count is a number of things with the right word behind it.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Percent is a share as people read it: 0.3%, 42%.
func Percent(share float64) string {
	if share > 0 && share < 0.1 {
		return fmt.Sprintf("%.2g%%", 100*share)
	}
	return fmt.Sprintf("%.0f%%", 100*share)
}

// ratio is a share of a whole to a tenth of a percent, "-" where there is no whole.
func ratio(n, of int) string {
	if of == 0 {
		return "-"
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", 100*float64(n)/float64(of)), ".0") + "%"
}

// Span is a length of time: 80 ms, 1.25 s, 40 s.
func Span(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%.0f ms", float64(d)/float64(time.Millisecond))
	}
	return strconv.FormatFloat(math.Round(d.Seconds()*100)/100, 'f', -1, 64) + " s"
}
