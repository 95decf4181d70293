package logs

import (
	"fmt"
	"regexp"
	"time"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Rules counts the lines of logs that rules are about. See [NewRules].
type Rules struct {
	counts []*count
	last   time.Duration
}

// count is one rule on one program.
type count struct {
	rule  *rulebook.LogRule
	match *regexp.Regexp
	view  string
	lines int
	told  []judge.LogLine // the first few
	over  time.Duration   // when it came to be one too many
}

// keptLines is how many lines of a broken rule are shown.
const keptLines = 5

// NewRules counts for rules, which must be valid, in the logs of some views.
func NewRules(rules []rulebook.LogRule, views []string) *Rules {
	r := &Rules{}
	for i := range rules {
		match := regexp.MustCompile(rules[i].Match)
		for _, view := range views {
			if rules[i].Covers(view) {
				r.counts = append(r.counts, &count{rule: &rules[i], match: match, view: view})
			}
		}
	}
	return r
}

// Line takes in a line of a view's program.
func (r *Rules) Line(view string, at time.Duration, text string) {
	r.last = max(r.last, at)
	if len(text) > longest {
		text = text[:longest]
	}
	for _, c := range r.counts {
		if c.view != view || !c.match.MatchString(text) {
			continue
		}
		if c.lines++; c.lines == c.rule.Lines.Max+1 {
			c.over = at
		}
		if len(c.told) < keptLines {
			c.told = append(c.told, judge.LogLine{At: judge.Seconds(at), Text: cut(text, kept)})
		}
	}
}

// Broken lists the rules that were not kept, with the lines that they are about.
func (r *Rules) Broken() (list []judge.BrokenLog) {
	for _, c := range r.counts {
		breach := c.rule.Lines.Breach(c.lines)
		if breach == "" {
			continue
		}
		b := judge.BrokenLog{View: c.view, Rule: c.rule.Label(), At: c.over, Why: number(c.lines) + " in the log of " + c.view + breach, Lines: c.told}
		if b.Missing = c.lines < c.rule.Lines.Min; b.Missing {
			b.At = r.last
		}
		list = append(list, b)
	}
	return list
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
