package learn

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// why tells what a rule was learned from.
func (s *subject) why(late *lateness, r *Rule) (list []string) {
	text := fmt.Sprintf("%s%s in %s: %s of %s", whose(r.Of), s.kind.name, some(late.views), counted(late.samples, "sample"), counted(late.tracks, "course"))
	if len(late.ages) > 0 {
		text += fmt.Sprintf("; old by %s (90%%), %s (99%%), %s (all)", seconds(quantile(late.ages, 0.9)), seconds(quantile(late.ages, 0.99)), seconds(slices.Max(late.ages)))
	}
	if r.MaxAhead > 0 {
		text += fmt.Sprintf("; ahead in %.0f%%, by up to %s", 100*float64(len(late.ahead))/float64(max(1, late.samples)), seconds(slices.Max(late.ahead)))
	}
	list = append(list, text)
	if len(late.residuals) > 0 {
		list = append(list, fmt.Sprintf("off by %.3g (half), %.3g (99.5%%); it goes %.3g from one record of the server to the next; steps of %s", quantile(late.residuals, 0.5), quantile(late.residuals, 0.995), late.interval, steps(s.step)))
	}
	if moved := late.interval; moved > 0 && late.shownStep > max(moved, 10*s.step) && late.samples > fewSamples {
		list = append(list, fmt.Sprintf("SUSPICIOUS: it is shown in steps of %s, where the server has %s: is it rounded on the way?", steps(late.shownStep), steps(s.step)))
	}
	if n := len(late.standing); n >= fewSamples && late.interval > 0 {
		if off := quantile(late.standing, 0.75); off > max(4*s.step, 0.25*late.interval) {
			list = append(list, fmt.Sprintf("SUSPICIOUS: where it has stood for %s it is shown %.3g off (a quarter of %d samples), though it goes only %.3g from one record to the next: does what is shown never settle?", seconds(cameToRest), off, n, late.interval))
		}
	}
	if share := float64(late.wrong) / float64(max(1, late.samples)); share > seldomExplains && r.SeenBy != rulebook.Nobody {
		list = append(list, fmt.Sprintf("SUSPICIOUS: %.0f%% of it is explained by nothing that the server had; the rule is written as if it were right", 100*share))
	}
	if late.steady != "" {
		list = append(list, late.steady)
	}
	if r.Thin {
		list = append(list, restsOnLittle)
	}
	return list
}

const restsOnLittle = "rests on little: play longer, or with more that happens"

func whose(of rulebook.Relation) string {
	return map[rulebook.Relation]string{rulebook.Own: "their own ", rulebook.Others: "others' ", rulebook.Any: ""}[of]
}

func steps(step float64) string {
	if step == 0 {
		return "less than 1e-6"
	}
	return fmt.Sprintf("%g", step)
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.2f s", d.Seconds()) }

func counted(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// some names views, or counts them.
func some(views map[string]bool) string {
	var names []string
	for name := range views {
		names = append(names, name)
	}
	slices.Sort(names)
	if len(names) > 4 {
		return fmt.Sprintf("%d views", len(names))
	}
	return strings.Join(names, ", ")
}
