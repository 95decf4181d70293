// Package logs finds in the logs of programs the lines that tell of errors and warnings, and puts
// those together that say the same.
//
// It goes by forms that the logs of most languages and runtimes share, and knows nothing of what
// the lines are about, of files, or of who reads the report. It judges nothing: what it finds
// stands beside a verdict.
package logs

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Level is how bad a line is.
type Level string

// The levels of lines that are told of.
const (
	Error   Level = "error"
	Warning Level = "warning"
)

// Kind is what several lines of one program say: the same but for numbers.
type Kind struct {
	Program string        `json:"program"`
	Level   Level         `json:"level"`
	Text    string        `json:"text"` // of the first, cut
	First   judge.Seconds `json:"first_s"`
	Last    judge.Seconds `json:"last_s"`
	Count   int           `json:"count"`
	Most    int           `json:"most_per_second"` // of them within one second
}

// Form is what the lines of the kind have in common: the text without its numbers.
func (k *Kind) Form() string { return numbers.ReplaceAllString(k.Text, "#") }

// Signatures names what logs tell of errors and warnings, so that the kinds of two matches can be
// compared: whether it is the server's or a client's, and what the lines have in common.
func (r *Report) Signatures() (list []string) {
	for _, k := range r.Kinds {
		whose := "a client"
		if k.Program == rulebook.Server {
			whose = "the server"
		}
		if name := fmt.Sprintf("%s logged by %s: %s", k.Level, whose, k.Form()); !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// Report is what the logs of a match tell.
type Report struct {
	Kinds []Kind `json:"kinds"` // errors first, in the order of their first lines
	Lines int    `json:"lines"` // that were looked at
	Left  int    `json:"left"`  // lines of kinds beyond the first MostKinds of a program
}

// MostKinds is how many kinds of one program are told apart.
const MostKinds = 100

// longest is how much of a line is looked at, and kept.
const (
	longest = 2000
	kept    = 240
)

// Collector takes in the lines of a match. The zero value is ready.
type Collector struct {
	report Report
	kinds  map[key]*kind
	count  map[string]int // of kinds, by program
	last   map[string]line
	levels levels
}

type key struct {
	program string
	level   Level
	form    string
}

type kind struct {
	Kind
	second int64
	now    int // in that second
}

// line is what is known of the line before: a trace of calls belongs to it.
type line struct {
	level Level
	at    time.Duration
}

var (
	calls   = regexp.MustCompile(`^(\s{2,}|\t|\s*#\d+ )`)
	numbers = regexp.MustCompile(`0x[0-9a-fA-F]+|\b[0-9a-f]{8,}\b|[0-9]+`)
)

// Line takes in a line of a program. Those of one program must come in order.
func (c *Collector) Line(program string, at time.Duration, text string) {
	c.report.Lines++
	if c.kinds == nil {
		c.kinds, c.count, c.last = map[key]*kind{}, map[string]int{}, map[string]line{}
	}
	before := c.last[program]
	if before.level != "" && calls.MatchString(text) && at-before.at < time.Second {
		c.last[program] = line{before.level, at} // where it happened, not once more
		return
	}
	is := c.levels.of(text)
	level := is.level
	c.last[program] = line{level, at}
	if level == "" {
		return
	}
	text = strings.TrimSpace(cut(text, kept))
	id := key{program, level, is.form}
	k := c.kinds[id]
	if k == nil {
		if c.count[program] >= MostKinds {
			c.report.Left++
			return
		}
		c.count[program]++
		k = &kind{Kind: Kind{Program: program, Level: level, Text: text, First: judge.Seconds(at)}, second: -1}
		c.kinds[id] = k
	}
	if second := int64(at / time.Second); second != k.second {
		k.second, k.now = second, 0
	}
	k.now++
	k.Most = max(k.Most, k.now)
	k.Count++
	k.Last = judge.Seconds(at)
}

// cut leaves so many bytes of a text, of whole letters, and nothing of the rest in memory.
func cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return strings.Clone(text[:most])
}

// Report is what was found.
func (c *Collector) Report() *Report {
	r := c.report
	r.Kinds = []Kind{}
	for _, k := range c.kinds {
		r.Kinds = append(r.Kinds, k.Kind)
	}
	slices.SortFunc(r.Kinds, func(a, b Kind) int {
		return cmp.Or(cmp.Compare(a.Level, b.Level), cmp.Compare(a.First, b.First), cmp.Compare(a.Program, b.Program), cmp.Compare(a.Text, b.Text))
	})
	return &r
}

// Count is how many lines are of a level.
func (r *Report) Count(level Level) (lines int) {
	for _, k := range r.Kinds {
		if k.Level == level {
			lines += k.Count
		}
	}
	return lines
}
