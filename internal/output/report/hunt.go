package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/stats"
)

const (
	conditionsShown = 6
	seedsShown      = 8
)

// Hunt writes what came of a hunt.
func (t *Text) Hunt(r *hunt.Result) {
	fmt.Fprintf(t.w, "%s: %s, %d in sync", r.Title, count(r.Matches, "match", "matches"), r.InSync)
	if len(r.Failed) > 0 {
		fmt.Fprintf(t.w, ", %d could not be played (the first: seed %d: %s)", len(r.Failed), r.Failed[0].Seed, r.Failed[0].Why)
	}
	fmt.Fprintln(t.w)
	if r.Learned > 0 {
		fmt.Fprintf(t.w, "provisional: the plan says nothing of what is compared; all were judged by %s that the match of seed %d taught (rules.yaml)\n", count(r.Learned, "watch rule", "watch rules"), r.First)
	}
	if len(r.Signatures) == 0 && r.InSync > 0 {
		fmt.Fprintf(t.w, "\n%s  nothing found; fewer than %s of such matches fail (95%% confidence)\n", t.colour("2", "IN SYNC"), Percent(stats.BoundOfNone(r.InSync)))
	}
	for i, s := range r.Signatures {
		fmt.Fprintf(t.w, "\n%d  %s   in %s of matches (%d of %d; 95%% CI %s to %s)\n", i+1, t.colour("1", s.Signature), Percent(s.Share), s.Matches, r.Matches-len(r.Failed), Percent(s.Low), Percent(s.High))
		var seeds []string
		for _, seed := range s.Seeds[:min(seedsShown, len(s.Seeds))] {
			seeds = append(seeds, fmt.Sprint(seed))
		}
		more := ""
		if s.Matches > len(seeds) {
			more = " ..."
		}
		fmt.Fprintf(t.w, "   seeds %s%s\n", strings.Join(seeds, ", "), more)
		if len(s.Also) > 0 {
			fmt.Fprintf(t.w, "   in some of them it shows first as %s\n", strings.Join(s.Also, "; "))
		}
		var table table
		table.right = true
		table.row("   players who", "affected", "total", "rate", "95% CI")
		for _, c := range tellable(s.Conditions) {
			table.row("   "+c.What, Number(c.Hit), Number(c.Of), Percent(c.Share), Percent(c.Low)+" to "+Percent(c.High))
		}
		table.write(t.w)
		again := "and found again"
		if !s.Example.Same {
			again = "but NOT found again"
		}
		if s.Example.Folder != "" {
			fmt.Fprintf(t.w, "   earliest in seed %d, at %.3f s; played again with recording %s: zwheel why %s\n", s.Example.Seed, time.Duration(s.Example.Began).Seconds(), again, s.Example.Folder)
		}
	}
}

// tellable are the conditions that most and least go with a signature.
func tellable(list []hunt.Condition) []hunt.Condition {
	if len(list) <= conditionsShown {
		return list
	}
	return slices.Concat(list[:conditionsShown-2], list[len(list)-2:])
}
