package page

import (
	"fmt"
	"html/template"
	"slices"
	"strings"

	"zitherwheel/internal/verdict/judge"
)

// ages draws how late what is right by a rule was shown: a bar for each length of time up to twice
// its max-delay, where a line stands in the middle, and one for all beyond.
func ages(r judge.RuleReport) template.HTML {
	const bar, height = 7, 24
	if len(r.AgeBars) < 2 {
		return ""
	}
	most := max(1, slices.Max(r.AgeBars))
	width := bar * len(r.AgeBars)
	var s strings.Builder
	fmt.Fprintf(&s, `<svg class="ages" width="%d" height="%d" role="img" aria-label="how late, %d times">`, width+1, height+1, r.Age.Count)
	for i, n := range r.AgeBars {
		if n == 0 {
			continue
		}
		h := max(1, n*height/most)
		class := ""
		if 2*i >= len(r.AgeBars)-1 {
			class = ` class="beyond"`
		}
		fmt.Fprintf(&s, `<rect%s x="%d" y="%d" width="%d" height="%d"/>`, class, i*bar, height-h, bar-1, h)
	}
	middle := bar*((len(r.AgeBars)-1)/2) - 1
	fmt.Fprintf(&s, `<line x1="0" x2="%d" y1="%d.5" y2="%d.5"/><line class="allowed" x1="%d.5" x2="%d.5" y1="0" y2="%d"/></svg>`, width, height, height, middle, middle, height+1)
	return template.HTML(s.String()) // numbers alone
}
