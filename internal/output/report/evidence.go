package report

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/verdict/judge"
)

// whyWidth is how long a line of what a kind was told by may be.
const whyWidth = 150

// evidence writes what was going on around the start of a finding.
func (t *Text) evidence(f *judge.Finding) {
	why := f.Why
	told := strings.Contains(Sentence(f), why) // by the head of the incident
	if told {
		why = f.Ended
	}
	fmt.Fprintf(t.w, "    %s: %s\n", f.ID, strings.ReplaceAll(ansi.Wordwrap(why, whyWidth, ""), "\n", "\n      "))
	var more []string
	switch {
	case f.Ticks && f.TicksApart > 0:
		text := "apart at " + count(f.TicksApart, "compared tick", "compared ticks")
		if f.Gap != nil {
			text += fmt.Sprintf(", by up to %.4g", *f.Gap)
		}
		more = append(more, text)
	case f.Apart > 0 && f.Gap != nil:
		more = append(more, fmt.Sprintf("lasted %s, off by up to %.4g", seconds(f.Apart), *f.Gap))
	case f.Apart > 0:
		more = append(more, "lasted "+seconds(f.Apart))
	}
	if !f.Open && !told {
		more = append(more, "ended by "+f.Ended)
	}
	if len(more) > 0 {
		fmt.Fprintf(t.w, "      %s\n", strings.Join(more, "; "))
	}
	e := &f.Evidence
	if len(e.Values) > 0 {
		var table table
		if f.Ticks {
			table.row("      tick", "time", f.View+" had", "the reference", "")
		} else {
			against := "the reference"
			if f.Subject.About == judge.AboutEffect {
				against = ""
			}
			table.row("      time", f.View+" shows", against, "")
		}
		for _, row := range e.Values {
			if f.Ticks {
				table.row(fmt.Sprintf("      %d", row.Tick), at(row.At), row.View, row.Reference, strings.TrimPrefix(strings.TrimPrefix(Explanation(row), "unexplained"), ", "))
			} else {
				table.row("      "+at(row.At), row.View, row.Reference, Explanation(row))
			}
		}
		table.write(t.w)
	}
	t.link(f)
	for _, m := range e.Inputs {
		fmt.Fprintf(t.w, "    Input of %s from %s: %s\n", m.Said, at(m.At), m.What)
	}
	for _, line := range e.Lines {
		fmt.Fprintf(t.w, "      %s  %s\n", at(line.At), line.Text)
	}
	if len(e.Beside) > 0 {
		fmt.Fprintln(t.w, "    What the programs logged around it:")
		var table table
		for _, line := range e.Beside {
			table.row("      "+at(line.At), line.Program, ansi.Truncate(line.Text, whyWidth, "…"))
		}
		table.write(t.w)
	}
	if len(e.Log) > 0 {
		fmt.Fprintf(t.w, "    Last log lines:\n")
		for _, line := range e.Log {
			fmt.Fprintf(t.w, "      %s\n", line)
		}
	}
	for _, m := range e.Around {
		fmt.Fprintf(t.w, "    At %[2]s %[1]s said: %[3]s\n", m.Said, at(m.At), m.What)
	}
}

// link writes what happened on the wire just before a finding, where that is known.
func (t *Text) link(f *judge.Finding) {
	e := &f.Evidence
	switch {
	case f.Kind == judge.Crashed && len(e.Packets) > 0:
		fmt.Fprintf(t.w, "    Last packets before it:\n")
		t.packets(e)
		return
	case f.Kind == judge.Crashed || !f.Linked || f.Subject.About == judge.AboutLog:
		return
	}
	fmt.Fprintf(t.w, "    On the link of %s from %s to %s: %s\n", f.View, at(e.Since), at(f.BeganAt), Wire(e))
	if e.Silent != nil {
		fmt.Fprintf(t.w, "    Nothing has been sent to %s since %s\n", f.View, at(*e.Silent))
	}
	if len(e.Packets) > 0 {
		t.packets(e)
		if more := e.Lost + e.Late + e.NotTakenIn - len(e.Packets); more > 0 {
			fmt.Fprintf(t.w, "      and %d more\n", more)
		}
	}
}

func (t *Text) packets(e *judge.Evidence) {
	var table table
	for _, p := range e.Packets {
		table.row(strings.TrimRight(fmt.Sprintf("      %s %d %s", p.Direction, p.Number, p.Link), " "), "sent "+at(p.Sent), fmt.Sprintf("%d bytes", p.Size), Outcome(p))
	}
	table.write(t.w)
}

// Wire sums up what became of the packets on a link.
func Wire(e *judge.Evidence) string {
	text := fmt.Sprintf("%s lost, %d late", count(e.Lost, "packet", "packets"), e.Late)
	if e.NotTakenIn > 0 {
		text += fmt.Sprintf(", %d not taken in", e.NotTakenIn)
	}
	return text
}

// Outcome says what became of a packet, and what it carried where that was said.
func Outcome(p judge.PacketRow) string {
	text := p.Outcome
	switch p.Outcome {
	case "late":
		text = fmt.Sprintf("late: %s on the way, usually %s", seconds(p.Delay), seconds(p.Usual))
	case "lost-in-row":
		text = "lost, like the one before it"
	case judge.NotTakenIn:
		text = fmt.Sprintf("arrived after %s, not taken in", seconds(p.Delay))
	}
	if p.Carried != "" {
		text += "; it carried " + p.Carried
	}
	return text
}

// Explanation says how the view's value of a moment is explained, if it is.
func Explanation(row judge.ValueRow) string {
	switch {
	case row.Reference == "": // a view is held against itself
		return ""
	case row.Agrees:
		return "the same"
	case row.Age != nil && *row.Age >= 0:
		return fmt.Sprintf("explained: the reference had it %s before", seconds(*row.Age))
	case row.Age != nil:
		return fmt.Sprintf("explained: the reference had it %s later", seconds(-*row.Age))
	case row.Gap != nil:
		return fmt.Sprintf("unexplained, %.4g away", *row.Gap)
	}
	return "unexplained"
}
