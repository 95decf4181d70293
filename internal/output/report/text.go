// Package report shows finished verdicts to people. It computes nothing that is
// not in the verdict.
package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Text writes verdicts for a terminal.
type Text struct {
	w       io.Writer
	colours bool
}

// NewText returns a writer of text. It colours what it writes if w says that it may, by
// a method Colours.
func NewText(w io.Writer) *Text {
	c, ok := w.(interface{ Colours() bool })
	return &Text{w, ok && c.Colours()}
}

func (t *Text) colour(code, s string) string {
	if !t.colours {
		return s
	}
	return "\x1b[1;3" + code + "m" + s + "\x1b[m"
}

// Outcome is the verdict as a coloured word.
func (t *Text) Outcome(o judge.Outcome) string {
	switch o {
	case judge.InSync, judge.RulesKept:
		return t.colour("2", strings.ToUpper(string(o)))
	case judge.OutOfSync:
		return t.colour("1", "OUT OF SYNC")
	}
	return t.colour("3", strings.ToUpper(string(o)))
}

// How much is shown before the rest is only counted.
const (
	incidentsInFull = 3
	findingsListed  = 8
)

// Verdict writes a whole verdict: the outcome, what did not go as it was to, every
// incident with its evidence, and what was compared.
func (t *Text) Verdict(v *judge.Verdict) {
	t.Headline(v)
	t.Incidents(v)
	fmt.Fprintln(t.w)
	t.compared(v)
}

// Headline writes the outcome in one line, and under it what stands beside it.
func (t *Text) Headline(v *judge.Verdict) {
	fmt.Fprintf(t.w, "%s   %s\n", t.Outcome(v.Outcome), Summary(v))
	for _, text := range Beside(v) {
		fmt.Fprintf(t.w, "  note: %s\n", text)
	}
}

// Beside is what stands beside the one line of a verdict: what did not go as it was to
// in the match, and what was to be compared and was not.
func Beside(v *judge.Verdict) (list []string) {
	list = v.Ending.Sentences(time.Duration(v.To))
	for _, w := range v.Warnings {
		list = append(list, w.Text)
	}
	if v.Outcome == judge.Inconclusive { // the line itself says why
		list = slices.DeleteFunc(list, func(text string) bool { return text == v.NotWell() })
	}
	return list
}

// Summary says a verdict in one line.
func Summary(v *judge.Verdict) string {
	switch v.Outcome {
	case judge.NothingCompared:
		return "no value of any client was compared with the reference"
	case judge.InSync:
		return agreed(v)
	case judge.RulesKept:
		return fmt.Sprintf("%s in the match and nothing broke; no program tells a trace, so nothing was compared", were(v))
	case judge.Inconclusive:
		if damage := v.Ending.Damage; len(damage) > 0 {
			text := "the run folder is not what was recorded: " + damage[0]
			if len(v.Findings) > 0 {
				text += fmt.Sprintf("; what is left shows %s, which may be of the damage", count(len(v.Findings), "finding", "findings"))
			}
			return text
		}
		if v.Comparisons == 0 || v.Untraced {
			return "nothing was found, but " + v.NotWell()
		}
		return fmt.Sprintf("nothing was found, but %s; as far as that goes, %s", v.NotWell(), agreed(v))
	}
	return fmt.Sprintf("%s, %s", count(len(v.Incidents), "incident", "incidents"), count(len(v.Findings), "finding", "findings"))
}

// agreed counts the clients that were compared, and what in.
func agreed(v *judge.Verdict) string {
	with, compared := v.Reference, 0
	if with == rulebook.NoReference {
		with = "each other"
	}
	for _, view := range v.Views {
		if view.Comparisons > 0 {
			compared++
		}
	}
	of := count(compared, "client", "clients")
	if compared < len(v.Views) {
		of = fmt.Sprintf("%d of %s", compared, count(len(v.Views), "client", "clients"))
	}
	return fmt.Sprintf("%s agreed with %s in all %s comparisons", of, with, Number(v.Comparisons))
}

// were counts the clients that got into the match.
func were(v *judge.Verdict) string {
	in := 0
	for _, view := range v.Views {
		if len(view.Stays) > 0 {
			in++
		}
	}
	if in == 1 {
		return "1 client was"
	}
	return fmt.Sprintf("%d clients were", in)
}

func span(list []judge.Incident) string {
	if len(list) == 1 {
		return list[0].ID
	}
	return list[0].ID + " to " + list[len(list)-1].ID
}

func (t *Text) incident(in judge.Incident, byID map[string]*judge.Finding, rules []judge.RuleReport) {
	head := byID[in.Head]
	fmt.Fprintf(t.w, "\n%s  %s  %s\n", in.ID, t.colour("1", string(in.Kind)), Sentence(head))
	if more := len(in.Views) + len(in.Entities); more > 2 {
		of := ""
		if entities := slices.DeleteFunc(slices.Clone(in.Entities), func(e string) bool { return e == "" }); len(entities) > 0 {
			of = " and " + named(entities, "entity", "entities")
		}
		fmt.Fprintf(t.w, "    in all %s, %s%s\n", count(len(in.Findings), "finding", "findings"), named(in.Views, "view", "views"), of)
	}
	t.evidence(head)
	if knob := Knob(&in, rules); knob != "" {
		fmt.Fprintf(t.w, "    %s\n", strings.ReplaceAll(ansi.Wordwrap(knob, whyWidth, ""), "\n", "\n      "))
	}
	if len(in.Findings) == 1 {
		return
	}
	fmt.Fprintf(t.w, "    Also in this incident:\n")
	rest := slices.DeleteFunc(slices.Clone(in.Findings), func(id string) bool { return id == in.Head })
	var table table
	for i, id := range rest {
		if i == findingsListed && len(rest) > findingsListed+1 {
			break
		}
		f := byID[id]
		table.row("      "+f.ID, string(f.Kind), f.View, f.Entity, f.Subject.String(), began(f)+" to "+end(f))
	}
	table.write(t.w)
	if left := len(rest) - findingsListed; left > 1 {
		fmt.Fprintf(t.w, "      and %d more\n", left)
	}
}

// Sentence says in one line what a finding is.
func Sentence(f *judge.Finding) string {
	whose := ""
	if f.Own {
		whose = " (its own)"
	}
	switch {
	case f.Kind == judge.Crashed && !f.Own:
		return fmt.Sprintf("the server ended by itself at %s", at(f.BeganAt))
	case f.Kind == judge.Crashed:
		return fmt.Sprintf("%s's client ended by itself at %s", f.View, at(f.BeganAt))
	case f.Kind == judge.RejectedButPlaying:
		return fmt.Sprintf("%s plays on without being in the match: %s to %s", f.View, at(f.BeganAt), end(f))
	case f.Kind == judge.NotRefused:
		return fmt.Sprintf("%s: %s", f.View, f.Why)
	case f.Kind == judge.Jerky || f.Kind == judge.OverLimit:
		return fmt.Sprintf("%s, over the whole match: %s", f.View, f.Why)
	case f.Subject.About == judge.AboutLog:
		return fmt.Sprintf("%s: %s", f.Subject.Name, f.Why)
	case f.Kind == judge.Count:
		return f.Why
	case f.Subject.About == judge.AboutEvent:
		return fmt.Sprintf("%s, %s: %s to %s", f.View, f.Subject, at(f.BeganAt), end(f))
	case f.Subject.About == judge.AboutEffect:
		return fmt.Sprintf("in the view of %s, %s", f.View, f.Why)
	case f.Subject.About == judge.AboutSequence:
		return fmt.Sprintf("%s, begun by %s at %s, did not complete", f.Subject, f.Entity, at(f.BeganAt))
	case f.Invariant:
		return fmt.Sprintf("%s breaks the rule %s, in the view of %s: %s to %s", f.Entity, f.Subject, f.View, at(f.BeganAt), end(f))
	case f.Subject.About == judge.AboutTicks:
		return fmt.Sprintf("%s tells no tick after %d (%s): %s", f.View, f.Tick, at(f.BeganAt), f.Ended)
	}
	switch f.Kind {
	case judge.OtherID:
		return fmt.Sprintf("%s shows %s under another id, as %s%s: %s to %s", f.View, f.Like, f.Entity, whose, began(f), end(f))
	case judge.DuplicateEntity:
		return fmt.Sprintf("%s shows %s once more, as %s%s: %s to %s", f.View, f.Like, f.Entity, whose, began(f), end(f))
	case judge.Ghost:
		return fmt.Sprintf("%s shows %s%s, which is gone: %s to %s", f.View, f.Entity, whose, began(f), end(f))
	case judge.Missing:
		return fmt.Sprintf("%s does not show %s%s, which is there: %s to %s", f.View, f.Entity, whose, began(f), end(f))
	}
	view := f.View
	if f.Evidence.Silent != nil {
		view += ", told nothing since " + at(*f.Evidence.Silent) + ","
	}
	return fmt.Sprintf("%s shows %s%s with a wrong %s: %s to %s", view, f.Entity, whose, f.Subject, began(f), end(f))
}

// began is when a finding began: by its tick where ticks are compared.
func began(f *judge.Finding) string {
	if f.Ticks {
		return fmt.Sprintf("tick %d (%s)", f.Tick, at(f.BeganAt))
	}
	return at(f.BeganAt)
}

func end(f *judge.Finding) string {
	text := at(f.EndedAt)
	if f.Ticks {
		text = fmt.Sprintf("tick %d", f.LastTick)
	}
	if f.Open {
		return text + " (" + f.Ended + ")"
	}
	return text
}

// compared writes what the verdict rests on.
func (t *Text) compared(v *judge.Verdict) {
	known := "packets unknown, so lateness is judged by max-delay alone"
	switch {
	case v.Packets && v.Reference != rulebook.Server:
		known = "lateness between clients is judged by max-delay alone"
	case v.Packets:
		known = fmt.Sprintf("%s explained only by what the link held back", count(v.Excused, "value", "values"))
	}
	if v.Untraced {
		var table table
		table.row("  view", "in the match", "findings")
		for _, view := range v.Views {
			table.row("  "+view.Name, seconds(view.Judged), Number(view.Findings))
		}
		table.right = true
		table.write(t.w)
		return
	}
	with := v.Reference
	if with == rulebook.NoReference {
		with = "each other"
	}
	if v.Alignment == "tick" {
		fmt.Fprintf(t.w, "Compared with %s at equal ticks: %s\n", with, count(v.Comparisons, "value", "values"))
		t.ticks(v)
		t.events(v)
		return
	}
	fmt.Fprintf(t.w, "Compared with %s (%s clock): %s; %s\n", with, v.Alignment, count(v.Comparisons, "value", "values"), known)
	var table table
	table.row("  view", "in the match", "entities", "values", "held back", "findings")
	for _, view := range v.Views {
		table.row("  "+view.Name, seconds(view.Judged), Number(view.Entities), Number(view.Comparisons), Number(view.Excused), Number(view.Findings))
	}
	table.right = true
	table.write(t.w)
	for _, name := range slices.Sorted(maps.Keys(v.Clocks)) {
		f := v.Clocks[name]
		fmt.Fprintf(t.w, "Clock of %s, estimated from %d %s: %+.4f s, drift %+.1f ppm, residual %.1f ms\n", name, f.Samples, f.Method, f.Offset, f.Drift, f.Residual)
		if f.Method == "trajectories" {
			fmt.Fprintln(t.w, "  how late the view shows things is part of that and cannot be told from it")
		}
	}
	if text := Unseen(v); text != "" {
		fmt.Fprintf(t.w, "  %s\n", text)
	}
	t.events(v)
	for _, c := range v.Cheats {
		fmt.Fprintf(t.w, "Cheat: %s\n", Cheat(c))
	}
	if v.Doubtful > 0 {
		fmt.Fprintf(t.w, "When the match ended, %s differed that had not done so for long enough to count\n", count(v.Doubtful, "value", "values"))
	}
}

// ticks writes how many ticks of each view could be compared, and how it told them.
func (t *Text) ticks(v *judge.Verdict) {
	var table table
	table.row("  view", "ticks told", "compared", "reference silent", "after its last", "unconfirmed", "a second", "longest pause", "rollbacks", "deepest", "values", "findings")
	for _, view := range v.Views {
		k := view.Ticks
		if k == nil {
			continue
		}
		deepest := "-"
		if k.Rollbacks > 0 {
			deepest = count(int(k.Deepest), "tick", "ticks")
		}
		table.row("  "+view.Name, Number(k.Told), Number(k.Compared), Number(k.Untold), Number(k.Beyond), Number(k.Guessed), fmt.Sprintf("%.1f", k.PerSecond), seconds(k.Pause),
			Number(k.Rollbacks), deepest, Number(view.Comparisons), Number(view.Findings))
	}
	table.right = true
	table.write(t.w)
}

// Findings lists all findings, a line each.
func (t *Text) Findings(v *judge.Verdict) {
	var table table
	for _, f := range v.Findings {
		table.row("  "+f.ID, string(f.Kind), Sentence(f))
	}
	table.write(t.w)
}

// SideBySide writes what two verdicts say of the same things in two columns.
func (t *Text) SideBySide(titles [2]string, verdicts [2]*judge.Verdict) {
	var table table
	row := func(name string, of func(v *judge.Verdict) string) {
		table.row("  "+name, of(verdicts[0]), of(verdicts[1]))
	}
	table.row("", titles[0], titles[1])
	row("verdict", func(v *judge.Verdict) string { return strings.ToUpper(string(v.Outcome)) })
	row("clients compared with the server", func(v *judge.Verdict) string { return Number(len(v.Views)) })
	row("values compared", func(v *judge.Verdict) string { return Number(v.Comparisons) })
	row("late, but the link explains it", func(v *judge.Verdict) string { return Number(v.Excused) })
	row("incidents", func(v *judge.Verdict) string { return Number(len(v.Incidents)) })
	row("findings", func(v *judge.Verdict) string { return Number(len(v.Findings)) })
	row("kinds", func(v *judge.Verdict) string {
		var kinds []string
		for _, f := range v.Findings {
			if !slices.Contains(kinds, string(f.Kind)) {
				kinds = append(kinds, string(f.Kind))
			}
		}
		if len(kinds) == 0 {
			return "-"
		}
		return strings.Join(kinds, ", ")
	})
	table.write(t.w)
}

// Incidents writes the incidents of a verdict with their evidence.
func (t *Text) Incidents(v *judge.Verdict) {
	byID := map[string]*judge.Finding{}
	for _, f := range v.Findings {
		byID[f.ID] = f
	}
	shown := map[string]int{}
	folded := map[string][]judge.Incident{}
	var order []string
	for _, in := range v.Incidents {
		signature := byID[in.Head].Signature
		if shown[signature]++; shown[signature] > 1 || len(shown) > incidentsInFull {
			if folded[signature] == nil {
				order = append(order, signature)
			}
			folded[signature] = append(folded[signature], in)
			continue
		}
		t.incident(in, byID, v.Rules)
	}
	for _, signature := range order {
		list := folded[signature]
		fmt.Fprintf(t.w, "\n%s  %s: %s with the signature \"%s\", the first at %s\n", span(list), t.colour("1", string(list[0].Kind)),
			count(len(list), "more incident", "more incidents"), signature, at(list[0].BeganAt))
	}
}

// Table writes rows with aligned columns.
func (t *Text) Table(rows [][]string) {
	table := table{rows: rows}
	table.write(t.w)
}

// table aligns columns.
type table struct {
	rows  [][]string
	right bool // all but the first column are numbers
}

func (t *table) row(cells ...string) { t.rows = append(t.rows, cells) }

func (t *table) write(w io.Writer) {
	// As wide as it is drawn: letters of some scripts take two columns, and some none.
	widths := map[int]int{}
	for _, row := range t.rows {
		for i, cell := range row {
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	for _, row := range t.rows {
		var line strings.Builder
		for i, cell := range row {
			if i > 0 {
				line.WriteString("   ")
			}
			room := strings.Repeat(" ", widths[i]-ansi.StringWidth(cell))
			if t.right && i > 0 {
				line.WriteString(room + cell)
			} else {
				line.WriteString(cell + room)
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

func at(s judge.Seconds) string { return fmt.Sprintf("%.3f s", time.Duration(s).Seconds()) }

func seconds(s judge.Seconds) string { return Span(time.Duration(s)) }

// named lists a few names, or counts them.
func named(list []string, one, many string) string {
	sorted := slices.SortedFunc(slices.Values(list), cmp.Compare[string])
	if len(sorted) > 4 {
		return fmt.Sprintf("%d %s", len(sorted), many)
	}
	return map[bool]string{true: one, false: many}[len(sorted) == 1] + " " + strings.Join(sorted, ", ")
}
