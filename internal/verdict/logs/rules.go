package logs

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Rules counts the lines of logs that rules are about: over the whole match, or after something
// that happens. See [NewRules].
type Rules struct {
	counts []*count
	marks  []*mark // of each rule that has one
	views  []string
	stays  map[string][]stay // of each view that tells of its joining
	last   time.Duration     // of all that was said
}

// count is one rule on one program.
type count struct {
	rule  *rulebook.LogRule
	match *regexp.Regexp
	view  string
	lines int
	told  []judge.LogLine // the first few
	over  time.Duration   // when it came to be one too many
	each  map[string]int  // lines, by what the rule's group found
	fits  []occurrence    // where the rule is about what comes after something
	mark  *mark           // that it comes after, or nil
}

// mark is what lines come after.
type mark struct {
	rule  *rulebook.Mark
	match *regexp.Regexp // of a line, or nil
	came  []occurrence
}

// occurrence is a line that fits, or something that happened, with what named groups found in it.
type occurrence struct {
	at     time.Duration
	view   string
	groups map[string]string
	text   string // of a line
}

// stay is a time in which a view was in the match.
type stay struct{ from, until time.Duration }

const (
	keptLines = 5       // how many lines of a broken rule are shown
	mostFits  = 200_000 // how many lines and marks of one rule are kept

	// early is how much before something a line about it may stand: a line of a log is stamped when it
	// comes, and what a trace tells a little later.
	early = 100 * time.Millisecond
)

// NewRules counts for rules, which must be valid, in the logs of some views.
func NewRules(rules []rulebook.LogRule, views []string) *Rules {
	r := &Rules{views: views, stays: map[string][]stay{}}
	for i := range rules {
		rule := &rules[i]
		var m *mark
		if rule.After.Given() {
			m = &mark{rule: &rule.After}
			if rule.After.Line != "" {
				m.match = regexp.MustCompile(rule.After.Line)
			}
			r.marks = append(r.marks, m)
		}
		match := regexp.MustCompile(rule.Match)
		for _, view := range views {
			if rule.Covers(view) {
				r.counts = append(r.counts, &count{rule: rule, match: match, view: view, each: map[string]int{}, mark: m})
			}
		}
	}
	return r
}

// Record takes in what a view, by its place among the views, told in its trace.
func (r *Rules) Record(number int, record *trace.Record) {
	if len(r.counts) == 0 {
		return
	}
	view := r.views[number]
	r.last = max(r.last, record.T)
	switch {
	case record.Joined == view:
		r.stays[view] = append(r.stays[view], stay{record.T, forGood})
	case record.Leaves(view) && len(r.stays[view]) > 0:
		r.stays[view][len(r.stays[view])-1].until = record.T
	}
	for _, m := range r.marks {
		if len(m.came) >= mostFits || !m.rule.Covers(view) {
			continue
		}
		switch {
		case m.rule.Event != "" && m.rule.Event == record.Event, m.rule.Checkpoint != "" && m.rule.Checkpoint == record.Checkpoint:
			m.came = append(m.came, occurrence{at: record.T, view: view, groups: map[string]string{"by": record.By, "to": record.To, "id": record.ID, "entity": record.Entity}})
		case m.rule.Joined != "" && record.Joined == view && view != rulebook.Server:
			m.came = append(m.came, occurrence{at: record.T, view: view, groups: map[string]string{rulebook.Player: view}})
		}
	}
}

const forGood = time.Duration(1<<63 - 1)

// Line takes in a line of a view's program.
func (r *Rules) Line(view string, at time.Duration, text string) {
	r.last = max(r.last, at)
	if len(text) > longest {
		text = text[:longest]
	}
	for _, m := range r.marks {
		if m.match != nil && m.rule.Covers(view) && len(m.came) < mostFits {
			if found := m.match.FindStringSubmatch(text); found != nil {
				m.came = append(m.came, occurrence{at: at, view: view, groups: groups(m.match, found), text: cut(text, kept)})
			}
		}
	}
	for _, c := range r.counts {
		if c.view != view {
			continue
		}
		found := c.match.FindStringSubmatch(text)
		if found == nil {
			continue
		}
		if c.lines++; c.lines == c.rule.Lines.Max+1 {
			c.over = at
		}
		if c.rule.Each != "" {
			c.each[found[c.match.SubexpIndex(c.rule.Each)]]++
		}
		if c.mark != nil && len(c.fits) < mostFits {
			c.fits = append(c.fits, occurrence{at, view, groups(c.match, found), cut(text, kept)})
		}
		if len(c.told) < keptLines {
			c.told = append(c.told, judge.LogLine{At: judge.Seconds(at), Text: cut(text, kept)})
		}
	}
}

// groups are the texts of named groups.
func groups(expression *regexp.Regexp, found []string) map[string]string {
	var list map[string]string
	for i, name := range expression.SubexpNames() {
		if name != "" {
			if list == nil {
				list = map[string]string{}
			}
			list[name] = found[i]
		}
	}
	return list
}

// Broken lists the rules that were not kept, with the lines that they are about.
func (r *Rules) Broken() (list []judge.BrokenLog) {
	for _, m := range r.marks {
		slices.SortStableFunc(m.came, func(a, b occurrence) int { return cmp.Compare(a.at, b.at) })
	}
	for _, c := range r.counts {
		var b *judge.BrokenLog
		switch {
		case c.mark != nil:
			b = r.after(c)
		case c.rule.Each != "":
			b = r.each(c)
		default:
			b = r.inAll(c)
		}
		if b != nil {
			b.View, b.Rule = c.view, c.rule.Label()
			list = append(list, *b)
		}
	}
	return list
}

// inAll counts over the whole match.
func (r *Rules) inAll(c *count) *judge.BrokenLog {
	breach := c.rule.Lines.Breach(c.lines)
	if breach == "" {
		return nil
	}
	b := &judge.BrokenLog{At: c.over, Why: number(c.lines) + " in the log of " + c.view + breach, Lines: c.told}
	if c.lines < c.rule.Lines.Min {
		b.Open, b.Ended, b.At = true, "counted to the end of the logs", r.last
	} else {
		b.Ended = fmt.Sprintf("the first that is too many came at %s", judge.Seconds(c.over))
	}
	return b
}

// each counts over the whole match, for each text that a group found, and for every player.
func (r *Rules) each(c *count) *judge.BrokenLog {
	values := slices.Collect(maps.Keys(c.each))
	if c.rule.Each == rulebook.Player {
		for view := range r.stays {
			if c.each[view] == 0 {
				values = append(values, view)
			}
		}
	}
	slices.Sort(values)
	var wrong []string
	breach := ""
	for _, value := range values {
		if how := c.rule.Lines.Breach(c.each[value]); how != "" {
			breach = cmp.Or(breach, how)
			wrong = append(wrong, fmt.Sprintf("%s for %s", number(c.each[value]), value))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return &judge.BrokenLog{At: r.last, Open: true, Ended: "counted to the end of the logs", Lines: c.told,
		Why: fmt.Sprintf("%s in the log of %s%s of each)", listed(wrong), c.view, strings.TrimSuffix(breach, ")"))}
}

// mostListed is how many of a kind are named one by one.
const mostListed = 6

func listed(texts []string) string {
	if more := len(texts) - mostListed; more > 1 {
		return strings.Join(texts[:mostListed], ", ") + fmt.Sprintf(" and so on, %d more", more)
	}
	return strings.Join(texts, ", ")
}

// after counts what came soon after each of the marks. A program is asked only if it was there all
// the while, as far as its trace tells when it joined and left.
func (r *Rules) after(c *count) (b *judge.BrokenLog) {
	asked, wrong := 0, 0
	for _, m := range c.mark.came {
		until := m.at + c.rule.Within
		if until > r.last || !r.there(c.view, m.at, until) || c.mark.rule.Joined == rulebook.Itself && m.view != c.view {
			continue
		}
		asked++
		lines := 0
		var told []judge.LogLine
		first, _ := slices.BinarySearchFunc(c.fits, m.at-early, func(f occurrence, t time.Duration) int { return cmp.Compare(f.at, t) })
		for _, f := range c.fits[first:] {
			if f.at > until {
				break
			}
			if agree(f.groups, m.groups) {
				if lines++; lines <= keptLines {
					told = append(told, judge.LogLine{At: judge.Seconds(f.at), Text: f.text})
				}
			}
		}
		breach := c.rule.Lines.Breach(lines)
		if breach == "" {
			continue
		}
		if wrong++; b == nil {
			b = &judge.BrokenLog{At: m.at, Ended: fmt.Sprintf("counted for %v", c.rule.Within), Lines: told,
				Why: fmt.Sprintf("%s in the log of %s within %v of %s at %s%s", number(lines), c.view, c.rule.Within, m.what(c.mark.rule), judge.Seconds(m.at), breach)}
		}
	}
	if wrong > 1 {
		b.Why += fmt.Sprintf("; so after %d of %d", wrong, asked)
	}
	return b
}

// there reports whether a view was in the match for a time, or never tells that it is.
func (r *Rules) there(view string, from, until time.Duration) bool {
	stays := r.stays[view]
	return len(stays) == 0 || slices.ContainsFunc(stays, func(s stay) bool { return s.from <= from && until <= s.until })
}

// agree reports whether groups of the same name found the same.
func agree(a, b map[string]string) bool {
	for name, text := range a {
		if other, both := b[name]; both && other != text {
			return false
		}
	}
	return true
}

// what tells of what happened, with what was found in it.
func (o occurrence) what(m *rulebook.Mark) string {
	if m.Line != "" {
		return fmt.Sprintf("%q of %s", o.text, o.view)
	}
	text := m.Label()
	for _, name := range slices.Sorted(maps.Keys(o.groups)) {
		if o.groups[name] != "" && m.Joined == "" {
			text += " " + name + " " + o.groups[name]
		}
	}
	return text + " of " + o.view
}

func number(lines int) string {
	switch lines {
	case 0:
		return "no line fits"
	case 1:
		return "1 line fits"
	}
	return fmt.Sprintf("%d lines fit", lines)
}
