package report

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/review/inspect"
)

// Inspector is a match that goes on, as it is looked at on a terminal: the list of its entities, and
// one or several of them in every view.
type Inspector struct {
	Title         string
	Moment        inspect.Moment
	Selected      int // in the list of entities
	Frozen        bool
	Following     bool // goes to the next finding by itself
	Filter        string
	Typing        bool // the filter
	Width, Height int  // of the terminal; 0 is not known
}

// What a terminal is taken to have that does not tell.
const (
	usualWidth  = 110
	usualHeight = 34
)

// String is the inspector as text.
func (i *Inspector) String() string {
	width, height := i.Width, i.Height
	if width == 0 {
		width, height = usualWidth, usualHeight
	}
	m := &i.Moment
	head := []string{fmt.Sprintf("%s   %s   %s", i.Title, at(m.At), i.state()), ""}
	foot := append([]string{""}, i.findings()...)
	foot = append(foot, "", "  ↑ ↓ entity   space freeze   ← → 50 ms, shift a second   f follow findings   / filter   p pin   q quit")
	if i.Typing {
		foot[len(foot)-1] = "  filter: " + i.Filter + "█   enter keeps it, esc drops it"
	}
	room := max(3, height-len(head)-len(foot)-1)
	left := i.list(room)
	wide := 0
	for _, line := range left {
		wide = max(wide, ansi.StringWidth(line))
	}
	right := i.sheets()
	body := make([]string, 0, room)
	for row := range min(room, max(len(left), len(right))) {
		line := ""
		if row < len(left) {
			line = left[row]
		}
		if row < len(right) {
			line += strings.Repeat(" ", wide-ansi.StringWidth(line)) + "   " + right[row]
		}
		body = append(body, strings.TrimRight(line, " "))
	}
	var b strings.Builder
	for _, part := range [][]string{head, body, foot} {
		for _, line := range part {
			b.WriteString(ansi.Truncate(line, width, "…") + "\n")
		}
	}
	return b.String()
}

func (i *Inspector) state() string {
	m := &i.Moment
	text := fmt.Sprintf("live, %s behind, so that late can be told from wrong", seconds(m.Behind))
	switch {
	case i.Frozen:
		text = fmt.Sprintf("frozen, %s before the newest", seconds(m.Now-m.At))
	case m.Ended != "":
		text = "the end"
	}
	if m.Ended != "" {
		text += "   (the match has ended: " + m.Ended + ")"
	}
	if i.Following {
		text += "   follows findings"
	}
	return text
}

// list is the list of entities around the selected one, in so many lines.
func (i *Inspector) list(room int) (lines []string) {
	all := i.Moment.Entities
	if len(all) == 0 {
		return []string{"  no entity yet"}
	}
	first := min(max(0, i.Selected-room/2), max(0, len(all)-room))
	for n := first; n < min(len(all), first+room); n++ {
		e := all[n]
		mark := "  "
		if n == i.Selected {
			mark = "> "
		}
		text := mark + e.Entity
		if len(e.Differs) > 0 {
			text += " ! " + strings.Join(e.Differs, " ")
		}
		lines = append(lines, text)
	}
	return lines
}

// sheets are the entities that are shown in full. The signs are explained once.
func (i *Inspector) sheets() (lines []string) {
	var b bytes.Buffer
	text := NewText(&b)
	for n, s := range i.Moment.Sheets {
		if n > 0 {
			fmt.Fprintln(&b)
		}
		text.sheetTable(s)
	}
	if len(i.Moment.Sheets) > 0 {
		if text.legend(i.Moment.Sheets[0]); i.Moment.ByTick {
			fmt.Fprintln(&b, "  this game is compared at equal ticks, and these are equal times: nothing is marked")
		}
	}
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
}

const findingsBelow = 4

func (i *Inspector) findings() []string {
	found := i.Moment.Found
	if len(found) == 0 {
		return []string{"  no finding yet"}
	}
	lines := []string{fmt.Sprintf("  %s so far", count(len(found), "finding", "findings"))}
	for _, f := range found[max(0, len(found)-findingsBelow):] {
		lines = append(lines, "  "+AlertLine(f.Alert()))
	}
	return lines
}
