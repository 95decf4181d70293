package sweep

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Axis is one value of a plan that is varied.
type Axis struct {
	Path   string   `json:"path"`   // as in plan.Change
	Values []string `json:"values"` // as a plan would say them, in order
	Listed bool     `json:"listed"` // one by one, so that nothing is inferred of one from its neighbours
}

const (
	usualSteps = 20 // from the first value to the last at most, if no step is given
	mostValues = 401
)

// ParseAxis reads what is varied:
//
//	latency=0..400ms         from 0 to 400 ms in at most 20 even steps
//	latency=0..400ms/50ms    in steps of 50 ms
//	game.rates.send=10,20,30 these values
func ParseAxis(text string) (Axis, error) {
	path, values, ok := strings.Cut(text, "=")
	if !ok || path == "" || values == "" {
		return Axis{}, fmt.Errorf("%q says nothing to vary; write it like latency=0..400ms, loss=0..20%%, or game.rates.send=10,20,30", text)
	}
	a := Axis{Path: path}
	span, step, stepped := strings.Cut(values, "/")
	from, to, ranged := strings.Cut(span, "..")
	if !ranged {
		a.Listed = true
		if a.Values = strings.Split(values, ","); len(a.Values) < 2 {
			return a, fmt.Errorf("%s: one value is not varied; write a range like 0..400ms, or several values with commas", path)
		}
		return a, nil
	}
	low, unitLow, errLow := quantity(from)
	high, unit, errHigh := quantity(to)
	if errLow != nil || errHigh != nil || unitLow != unit && unitLow != "" {
		return a, fmt.Errorf("%s: %q is no range; write two numbers with the same unit, like 0..400ms", path, span)
	}
	whole := unit == "" && low == math.Trunc(low) && high == math.Trunc(high)
	width := niceStep(high-low, whole)
	if stepped {
		var unitStep string
		var err error
		if width, unitStep, err = quantity(step); err != nil || unitStep != unit || width <= 0 {
			return a, fmt.Errorf("%s: %q is no step; write a number with the unit of the range, like 25ms", path, step)
		}
	}
	if !(high > low) {
		return a, fmt.Errorf("%s: the range %q does not go up", path, span)
	}
	n := int((high-low)/width+1e-9) + 1
	if n > mostValues {
		return a, fmt.Errorf("%s: %d values are more than %d; take larger steps", path, n, mostValues)
	}
	for i := range n {
		v := math.Round((low+float64(i)*width)*1e6) / 1e6
		a.Values = append(a.Values, strconv.FormatFloat(v, 'f', -1, 64)+unit)
	}
	return a, nil
}

// quantity parts a number from its unit.
func quantity(text string) (float64, string, error) {
	i := strings.LastIndexAny(text, "0123456789.") + 1
	v, err := strconv.ParseFloat(text[:i], 64)
	return v, text[i:], err
}

// niceStep is the smallest round number of which not too many make up a span.
func niceStep(span float64, whole bool) float64 {
	if !(span > 0) {
		return 1
	}
	for unit := math.Pow(10, math.Floor(math.Log10(span/usualSteps))); ; unit *= 10 {
		for _, step := range []float64{1, 2, 2.5, 5} {
			if step *= unit; span/step <= usualSteps+1e-9 && (!whole || step == math.Trunc(step)) {
				return step
			}
		}
	}
}
