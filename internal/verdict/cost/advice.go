package cost

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// sendRates are those that are reckoned, beside the recorded one.
var sendRates = []float64{5, 10, 20, 30, 60}

// rates reckons other send rates. A value changes with the probability p from one record to the
// next, independently; of those that change in between only the last is sent. At R of F records a second
// that is R (1 - (1-p)^(F/R)) times a second. What changes nearly always moves, and goes on between
// two records: it is sent every time.
func (r *Report) rates() {
	list := append([]float64{math.Round(r.Told)}, sendRates...)
	slices.Sort(list)
	for _, rate := range slices.Compact(list) {
		if rate <= 0 {
			continue
		}
		at := Rate{PerSecond: rate}
		for _, f := range r.Fields {
			sent := f.times(rate, r.Told)
			if f.Changes > 0 {
				at.Now += f.Cost * sent / f.Changes
				at.Enough += f.Would * sent / f.Changes
			}
		}
		at.All = at.Now * float64(r.Clients)
		r.Rates = append(r.Rates, at)
	}
}

// movesFrom is from which share of records with a change on a field is taken to move.
const movesFrom = 0.7

// times is how often a second changes of a field would be sent.
func (f *Field) times(rate, told float64) float64 {
	p := min(1, f.moving)
	each := rate * (1 - math.Pow(1-p, told/rate))
	if p >= movesFrom {
		each = rate * p
	}
	return each * float64(f.Entities)
}

// advise finds what would do with less, and what is about to break.
func (r *Report) advise() {
	total := 0.0
	for _, f := range r.Fields {
		total += f.Cost
	}
	add := func(f *Field, gain float64, format string, args ...any) {
		r.Advice = append(r.Advice, Tip{f.Sort + "." + f.Field, fmt.Sprintf(format, args...), gain, gain / max(total, 1e-9)})
	}
	for i := range r.Fields {
		f := &r.Fields[i]
		switch {
		case f.Unseen && f.Cost > 0:
			add(f, f.Cost, "no rule lets anybody see it: it need not be sent")
			continue
		case f.Changes == 0 && f.Updates > float64(f.Entities):
			add(f, 0, "it never changes and is told %.3g times a second: once would do", f.Updates)
			continue
		}
		if f.Kind == "number" && f.Enough < f.Now {
			if f.Step > 0 {
				add(f, f.Changes*(f.Now-f.Enough)/8, "within %.4g, %.0f values from %.6g to %.6g fit %.0f bits; steps of %.4g as told take %.0f", f.Tolerance, math.Exp2(f.Enough), *f.Least, *f.Most, f.Enough, f.Step, f.Now)
			} else {
				add(f, f.Changes*(f.Now-f.Enough)/8, "within %.4g, %.6g to %.6g fits %.0f bits; it is told to more than six places", f.Tolerance, *f.Least, *f.Most, f.Enough)
			}
		}
		if f.Kind == "text" && f.Enough < f.Now && f.Changes > 0 {
			add(f, f.Changes*(f.Now-f.Enough)/8, "%d texts of up to %.0f bytes fit %.0f bits as numbers", f.Values, f.Now/8, f.Enough)
		}
		if f.Small > 0.05 && f.Kind == "number" {
			add(f, f.Changes*f.Small*f.Enough/8, "%.0f%% of its changes are smaller than the tolerance of %.4g, since what was seen last", 100*f.Small, f.Tolerance)
		}
		if at, bits := f.overflows(); bits > 0 {
			add(f, 0, "it reaches %.6g: in steps of %.4g a number of %d bits ends at %.6g", f.reach(), f.Step, bits, at)
		}
	}
	slices.SortStableFunc(r.Advice, func(a, b Tip) int { return cmp.Compare(b.Gain, a.Gain) })
}

func (f *Field) reach() float64 { return math.Max(math.Abs(*f.Least), math.Abs(*f.Most)) }

// overflows is where a number that a field all but fills ends: one of 8 or 16 bits, with or
// without a sign, of which it reaches nine tenths.
func (f *Field) overflows() (at float64, bits int) {
	if f.Kind != "number" || f.Step <= 0 {
		return 0, 0
	}
	for _, bits := range [...]int{8, 16} {
		for _, signed := range [...]bool{true, false} {
			end := (math.Exp2(float64(bits)) - 1) * f.Step
			if signed {
				end = (math.Exp2(float64(bits-1)) - 1) * f.Step
			}
			if share := f.reach() / end; share >= 0.9 && share <= 1 && (signed || *f.Least >= 0) && f.Values > 16 {
				return end, bits
			}
		}
	}
	return 0, 0
}
