package report

import (
	"fmt"
	"math"
	"strings"

	"zitherwheel/internal/campaign/compare"
)

// Compare writes what has changed from one side to the other.
func (t *Text) Compare(r *compare.Result) {
	for _, side := range []struct {
		what string
		sum  compare.Summary
	}{{"before", r.Before}, {"after ", r.After}} {
		failed := ""
		if side.sum.Failed > 0 {
			failed = fmt.Sprintf(", %d could not be played", side.sum.Failed)
		}
		fmt.Fprintf(t.w, "%s  %s %q: %s, %d in sync%s\n", side.what, side.sum.What, side.sum.Title, count(side.sum.Matches, "match", "matches"), side.sum.InSync, failed)
	}
	fmt.Fprintf(t.w, "%s with the same seed on both sides; false alarm rate at most %s\n\n", count(r.SameSeeds, "match", "matches"), Percent(r.ErrorRate))
	if len(r.Signatures) == 0 && r.OutOfSync.State == compare.Never {
		fmt.Fprintln(t.w, "Nothing failed on either side.")
	} else {
		var table table
		table.row("failure", "", "before", "after", "p", "note")
		table.row("matches out of sync", t.state(r.OutOfSync.State), ofMatches(r.OutOfSync.Before, r.Before.Matches), ofMatches(r.OutOfSync.After, r.After.Matches), PValue(r.OutOfSync.P), CompareNote(r.OutOfSync, r))
		for _, s := range r.Signatures {
			table.row(s.Signature, t.state(s.State), ofMatches(s.Before, r.Before.Matches), ofMatches(s.After, r.After.Matches), PValue(s.P), CompareNote(s, r))
		}
		table.write(t.w)
	}
	t.measuresChanged(r)
}

func (t *Text) state(s compare.State) string {
	switch s {
	case compare.New, compare.More:
		return t.colour("1", string(s))
	case compare.Gone, compare.Less:
		return t.colour("2", string(s))
	}
	return string(s)
}

func ofMatches(c compare.Count, of int) string {
	return fmt.Sprintf("%d of %d (%s to %s)", c.Matches, of, Percent(c.Low), Percent(c.High))
}

// PValue is how probable a change like this is if nothing has changed.
func PValue(p float64) string {
	if p < 0.0001 {
		return "< 0.0001"
	}
	return fmt.Sprintf("%.2g", p)
}

// CompareNote says what is to be said of a signature beside the figures.
func CompareNote(s compare.Signature, r *compare.Result) string {
	var parts []string
	if s.State == compare.PerhapsGone || s.State == compare.PerhapsNew {
		text := "not enough matches to tell"
		if s.MoreMatches > 0 {
			text += fmt.Sprintf(": %s more on each side at this rate", Number(s.MoreMatches))
		}
		parts = append(parts, text)
	}
	for _, only := range []struct {
		side  string
		seeds []uint64
		of    int
	}{{"before", s.SeedsOnlyA, s.OnlyA}, {"after", s.SeedsOnlyB, s.OnlyB}} {
		if only.of == 0 {
			continue
		}
		var list []string
		for _, seed := range only.seeds[:min(3, len(only.seeds))] {
			list = append(list, fmt.Sprint(seed))
		}
		text := "only " + only.side + " with seed " + strings.Join(list, ", ")
		if more := only.of - len(list); more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

// measuresChanged writes the measures that have changed at all.
func (t *Text) measuresChanged(r *compare.Result) {
	if len(r.Measures) == 0 {
		fmt.Fprintln(t.w, "\nThere are no measures that both sides have.")
		return
	}
	var table table
	table.right = true
	table.row("\nmeasure", "before", "after", "change", "95% CI", "")
	same := 0
	for _, m := range r.Measures {
		if m.Change == 0 && m.Low == 0 && m.High == 0 {
			same++
			continue
		}
		word := ""
		switch {
		case m.Worse:
			word = t.colour("1", "worse")
		case m.Better:
			word = t.colour("2", "better")
		}
		interval := fmt.Sprintf("%s to %s", Signed(m.Low), Signed(m.High))
		if m.Of < 2 {
			interval = "of one, not known"
		}
		table.row(m.Name, Figures(m.Before), Figures(m.After), Signed(m.Change), interval, word)
	}
	if same < len(r.Measures) {
		table.write(t.w)
	}
	fmt.Fprintf(t.w, "\n%d of %d measures are the same.", same, len(r.Measures))
	switch {
	case same == len(r.Measures):
	case r.PairedBy == "view":
		fmt.Fprint(t.w, " The others are means over the same views; larger is worse.")
	default:
		fmt.Fprintf(t.w, " The others are means over the same %ss, each the worst of\nall views in its match; larger is worse.", r.PairedBy)
	}
	fmt.Fprintln(t.w)
}

// Figures is a measure as people read it.
func Figures(v float64) string { return fmt.Sprintf("%.5g", v) }

// Signed is a change as people read it.
func Signed(v float64) string {
	switch {
	case math.Abs(v) >= math.MaxFloat32:
		return "any"
	case v == 0:
		return "0"
	}
	return fmt.Sprintf("%+.4g", v)
}
