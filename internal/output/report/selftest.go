package report

import (
	"fmt"
	"strings"

	"zitherwheel/internal/campaign/selftest"
	"zitherwheel/internal/verdict/judge"
)

// Pairs writes what was found in matches that were played on both clocks.
func (t *Text) Pairs(pairs []selftest.Pair) {
	var table table
	table.row("  fault", "link", "expected", "virtual clock", "wall clock")
	agreed, of, untrusted := 0, 0, 0
	for _, p := range pairs {
		table.row("  "+p.Fault, p.Link, join(p.Expected, " or "), side(p.Virtual), side(p.Real))
		switch {
		case len(p.Expected) == 0:
			of++
			if len(p.Virtual.Kinds)+len(p.Real.Kinds) == 0 {
				agreed++
			}
		case p.Showed || p.Real.Named:
			of++
			if p.Virtual.Named && p.Real.Named {
				agreed++
			}
		}
		if p.Real.Untrusted != "" {
			untrusted++
		}
	}
	table.write(t.w)
	fmt.Fprintf(t.w, "  in %d of %d matches in which the fault showed itself, or there was none, both clocks say the same\n", agreed, of)
	if untrusted > 0 {
		fmt.Fprintf(t.w, "  in %d matches on the wall clock the machine was too busy for exact figures of time\n", untrusted)
	}
}

func side(s selftest.Side) string {
	switch {
	case s.Failed != "":
		return "not played: " + s.Failed
	case len(s.Kinds) == 0:
		return "in sync"
	}
	return join(s.Kinds, ", ")
}

func join(kinds []judge.Kind, by string) string {
	var names []string
	for _, k := range kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, by)
}

// Selftest writes the figures of a self-test as a table, with a total, and the matches
// that did not go as they should have.
func (t *Text) Selftest(rows []selftest.Row) {
	var table table
	table.right = true
	table.row("  fault", "matches", "showed", "found", "named", "first", "signatures", "unshown", "alarms")
	var sum selftest.Row
	healthy, alarms, signatures, mistakes := 0, 0, 0, 0
	for _, r := range rows {
		name := r.Fault
		if len(r.Expected) == 0 {
			healthy, alarms = healthy+r.Matches, alarms+r.Alarms
			table.row("  "+name, Number(r.Matches), "-", "-", "-", "-", "-", "-", Number(r.Alarms))
			continue
		}
		table.row("  "+name, Number(r.Matches), Number(r.Showed), ratio(r.Found, r.Showed), ratio(r.Named, r.Showed), ratio(r.First, r.Showed), Number(len(r.Signatures)), Number(r.Unshown), "-")
		if r.Found > 0 {
			mistakes, signatures = mistakes+1, signatures+len(r.Signatures)
		}
		sum.Matches, sum.Showed, sum.Found, sum.Named, sum.First, sum.Unshown =
			sum.Matches+r.Matches, sum.Showed+r.Showed, sum.Found+r.Found, sum.Named+r.Named, sum.First+r.First, sum.Unshown+r.Unshown
	}
	table.row("  in all", Number(sum.Matches+healthy), Number(sum.Showed), ratio(sum.Found, sum.Showed), ratio(sum.Named, sum.Showed), ratio(sum.First, sum.Showed), fmt.Sprintf("%.2f", float64(signatures)/float64(max(1, mistakes))), Number(sum.Unshown), Number(alarms))
	table.write(t.w)
	fmt.Fprint(t.w, `
  showed      the witness inside the game saw the fault make a client wrong for seconds
  found       of those, the verdict is out of sync
  named       of those, a finding has an expected kind; first: at the head of the first incident
  signatures  by which a hunt would know the fault; one is right
  unshown     found although the witness saw nothing: shorter or smaller than it looks for
  alarms      flagged although nothing is wrong
`)
	title := false
	for _, r := range rows {
		for _, o := range r.Oddities {
			if !title {
				fmt.Fprintln(t.w, "\nMatches that did not go as they should have:")
				title = true
			}
			fmt.Fprintf(t.w, "  %s, %s, seed %d: %s\n", r.Fault, o.Link, o.Seed, o.What)
		}
	}
}
