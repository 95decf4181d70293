package report

import (
	"fmt"
	"math"
	"slices"
	"time"

	"zitherwheel/internal/verdict/judge"
)

// Knob says which knob of a rule would explain an incident, or that none would, and how late what is right by
// the rule is shown; "" where there is nothing to turn.
func Knob(in *judge.Incident, rules []judge.RuleReport) string {
	k := in.Knob
	if k == nil {
		return ""
	}
	text := "No knob of the rule for " + k.Rule + " would explain it"
	if k.Name != "" {
		of := "it"
		if k.Of > 1 {
			of = fmt.Sprintf("%d of its %d findings", k.Explains, k.Of)
		}
		place := " in place of " + setting(k.Name, k.From)
		if k.From == 0 {
			place = ""
		}
		text = fmt.Sprintf("With %s %s%s the rule for %s would explain %s", k.Name, setting(k.Name, k.To), place, k.Rule, of)
		if k.Name == "resent-within" {
			text += ": a packet was lost then, and if the game sends again what is lost, it may come so late"
		}
	}
	for _, r := range rules {
		if r.Age != nil && r.Age.Count >= agesTold && r.Name() == k.Rule {
			text += fmt.Sprintf("; what is right by it was shown %.0f ms late (median), %.0f ms (95 %%), and %s ms are allowed", r.Age.Median, r.Age.P95, Number(int(time.Duration(r.MaxDelay).Milliseconds())))
		}
	}
	return text
}

// agesTold is how many ages there must be to be told.
const agesTold = 10

// setting is a knob's value as a plan has it.
func setting(knob string, v float64) string {
	if knob == "tolerance" {
		return fmt.Sprintf("%.4g", v)
	}
	return (time.Duration(math.Round(v*1e3)) * time.Millisecond).String()
}

// Unseen says what the rules of a match cannot see, because it is too short; "" where that is not known.
func Unseen(v *judge.Verdict) string {
	var wrong, late []judge.Seconds
	for _, r := range v.Rules {
		if r.Judged && r.Fits > 0 && r.WrongFor > 0 {
			wrong, late = append(wrong, r.WrongFor), append(late, r.LateBy)
		}
	}
	if len(wrong) == 0 {
		return ""
	}
	least := func(list []judge.Seconds) string {
		from, to := Span(time.Duration(slices.Min(list))), Span(time.Duration(slices.Max(list)))
		if from == to {
			return from
		}
		return from + " to " + to + ", depending on the rule"
	}
	return "not seen by these rules: what is wrong for less than " + least(wrong) + "; what is late by less than " + least(late)
}
