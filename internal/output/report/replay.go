package report

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/plan"
)

// Followed writes how far a match that was played again followed its recording.
func (t *Text) Followed(f *replay.Followed) {
	switch {
	case f.Clock == plan.Virtual && f.Same:
		fmt.Fprintf(t.w, "%s   %s lines in %d files are the same%s\n", t.colour("2", "THE SAME MATCH"), Number(f.Lines), f.Files,
			map[string]string{"same": ", and the programs woke and waited in the same order", "differs": ": all that shows; inside, the programs woke and waited in another order"}[f.Inside])
		return
	case f.Clock == plan.Virtual:
		fmt.Fprintf(t.w, "%s   %s\n", t.colour("1", "NOT THE SAME MATCH"), f.Differs)
		const most = 5
		for _, read := range f.Reads[:min(most, len(f.Reads))] {
			fmt.Fprintf(t.w, "  %s, which is not the same each time\n", read)
		}
		if more := len(f.Reads) - most; more > 0 {
			fmt.Fprintf(t.w, "  (and %d more such reads: timing.json has them, as reads)\n", more)
		}
		return
	}
	for _, line := range []struct {
		what string
		list []string
	}{{"found again", f.Kept}, {"not found again", f.Gone}, {"found, and not in the recording", f.New}} {
		for _, s := range line.list {
			fmt.Fprintf(t.w, "%s: %s\n", line.what, s)
		}
	}
	fmt.Fprintln(t.w)
	var table table
	table.right = true
	table.row("  link", "packets then", "now", "alike", "same size", "same outcome", "sent apart, median", "p95")
	for _, w := range f.Ways {
		table.row(fmt.Sprintf("  %s %s", w.Link, w.Direction), Number(w.Recorded), Number(w.Played), Number(w.Like), Number(w.SameSize), Number(w.LikeOutcomes), fmt.Sprintf("%.1f ms", w.Apart), fmt.Sprintf("%.1f ms", w.ApartP95))
	}
	table.write(t.w)
}

const textWidth = 100 // of sentences, in characters

// Why writes what was proved of a finding.
func (t *Text) Why(w *replay.Why) {
	fmt.Fprintf(t.w, "%s: %s, %s at %.3f s\n\n", w.Finding, t.colour("1", w.Signature), w.View, w.Began)
	fmt.Fprintln(t.w, ansi.Wordwrap(w.Proved, textWidth, ""))
	if len(w.Packets) > 0 {
		fmt.Fprintln(t.w)
		var table table
		table.row("  packet", "link", "sent", "bytes", "what became of it", "what it carried")
		for _, p := range w.Packets {
			carries := strings.Split(p.Carries, "; ")
			if p.Carries == "" {
				carries[0] = "not known"
			}
			table.row(fmt.Sprintf("  %d", p.Packet), p.Link+" "+p.Direction, fmt.Sprintf("%.3f s", p.Sent), Number(p.Bytes), p.Outcome, carries[0])
			for _, more := range carries[1:] {
				table.row("", "", "", "", "", more)
			}
		}
		table.write(t.w)
	}
	if len(w.Each) > 0 {
		beside := w.Beside
		if beside == "" {
			beside = "all others delivered"
		}
		fmt.Fprintf(t.w, "\nThe packets near it that were lost, late or damaged, each by itself (%s):\n", beside)
		var table table
		table.row("  packet", "link", "sent", "what became of it", "with it delivered", "with only it so")
		for _, p := range w.Each {
			table.row(fmt.Sprintf("  %d", p.Packet), p.Link+" "+p.Direction, fmt.Sprintf("%.3f s", p.Sent), p.Outcome, told(p.Delivered), told(p.Alone))
		}
		table.write(t.w)
	}
	if w.Appears != "" {
		fmt.Fprintf(t.w, "\n%s\n", ansi.Wordwrap(delivered(len(w.Packets))+", "+w.Appears+".", textWidth, ""))
	}
	if len(w.Enough) > 0 {
		fmt.Fprintf(t.w, "\nOf these enough alone: %s.\n", strings.Join(w.Enough, " and "))
	}
	if len(w.Counterpart) > 0 {
		fmt.Fprintf(t.w, "\nIn the match in which every packet is delivered, which goes another way, the loss of only this makes it:\n  %s\n", strings.Join(w.Counterpart, "\n  "))
	}
	if len(w.Needs) > 0 {
		fmt.Fprintln(t.w)
		var table table
		table.row("  tried", "the finding")
		for _, n := range w.Needs {
			table.row("  "+n.What, string(n.Answer))
		}
		table.write(t.w)
	}
	fmt.Fprintln(t.w)
	if w.Suspects > 0 {
		fmt.Fprintf(t.w, "%s lost, late or damaged before it. ", count(w.Suspects, "packet was", "packets were"))
	}
	fmt.Fprintf(t.w, "It took %d matches.\n", w.Replays)
	if w.Inconclusive > 0 {
		fmt.Fprintln(t.w, ansi.Wordwrap(fmt.Sprintf("%d of these were inconclusive and prove nothing; the first: %s.", w.Inconclusive, w.InconclusiveWhy), textWidth, ""))
	}
	if w.Repeats != nil {
		fmt.Fprintln(t.w, ansi.Wordwrap(fmt.Sprintf("The recorded match shows it in %s repeats. So a variant has it if one of its matches shows it, and has not after %d that do not, each of which is wrong in at most %.0f%% of cases.",
			w.Repeats, w.Misses, 100*replay.ErrorRate), textWidth, ""))
	}
	for _, u := range w.Unproved {
		fmt.Fprintln(t.w, ansi.Wordwrap("Not proved: "+u+".", textWidth, ""))
	}
}

// told is what a match says of a finding, and when it begins there.
func told(of replay.Told) string {
	if of.Began > 0 {
		return fmt.Sprintf("%s, %.3f s", of.Answer, of.Began)
	}
	return string(of.Answer)
}

func delivered(packets int) string {
	if packets == 1 {
		return "With it delivered"
	}
	return "With these delivered"
}

const planShown = 60 // lines

// Shrunk writes how small a plan has become, and the plan.
func (t *Text) Shrunk(s *replay.Shrunk, text string) {
	fmt.Fprintf(t.w, "%s\n\n", t.colour("1", s.Signature))
	var table table
	table.right = true
	table.row("  ", "bots", "length", "inputs", "packets lost, late or damaged")
	for _, row := range []struct {
		what string
		size replay.Size
	}{{"recorded", s.Before}, {"smallest", s.After}} {
		table.row("  "+row.what, Number(row.size.Bots), fmt.Sprintf("%.1f s", time.Duration(row.size.Length).Seconds()), Number(row.size.Inputs), Number(row.size.Outcomes))
	}
	table.write(t.w)
	fmt.Fprintln(t.w)
	lines := strings.SplitAfter(text, "\n")
	for _, line := range lines[:min(planShown, len(lines))] {
		fmt.Fprint(t.w, "  "+line)
	}
	if len(lines) > planShown {
		fmt.Fprintf(t.w, "  ... and %d lines more\n", len(lines)-planShown)
	}
	fmt.Fprintf(t.w, "\nIt took %d matches.\n", s.Replays)
	if s.Repeats != nil {
		fmt.Fprintf(t.w, "The recorded match shows it in %s repeats, the smallest in %s.\n", s.Repeats, s.Verified)
	}
	if s.Stopped {
		fmt.Fprintln(t.w, "It was ended before nothing more could be left out; with more matches, see --max, it may become smaller.")
	}
}
