package logs

import (
	"regexp"
	"strings"
	"unicode/utf8"
)

// What is an error or a warning is told by regular expressions, which are slow. So a line is looked through first for
// words without which none of them can fit, and what was said of a line holds for all that differ from it in digits
// alone.

var (
	errors = regexp.MustCompile(`(?i)(^|[^\w./-])(errors?|fatal|critical|panic|severe|emergency|abort(ed)?|crash(ed)?|unhandled|uncaught)([^\w./-]|$)` +
		`|\b[A-Za-z]\w*(Exception|Error)\b|(?i:assert(ion)?\w*( has)? fail)|^Traceback \(|^goroutine \d+ \[|(?i:segmentation fault|access violation|core dumped|stack overflow|out of memory)` +
		`|\b(Address|Thread|Memory|Leak|UndefinedBehavior)Sanitizer\b|(?i:data race)` +
		`|(?i:(null|nil)[- ]?(pointer|reference|object)|(null|nil|none|undefined) (is not|has no)|cannot read propert|of (null|undefined)\b|no such (key|entity|object|field|property))`)
	nothing  = regexp.MustCompile(`(?i)\b(no|0|zero|without( any)?) errors?\b|\berrors?\b["']?\s*[:=]\s*["']?(0|none|nil|null|false|ok|""|'')\b`)
	warnings = regexp.MustCompile(`(?i)(^|[^\w./-])(warn(ing)?s?|deprecated)([^\w./-]|$)`)
)

// needed are words in lower case, one of which is in every line that fits errors or warnings.
var needed = []string{"error", "fatal", "critical", "panic", "severe", "emergency", "abort", "crash", "unhandled", "uncaught", "exception", "assert", "traceback", "goroutine",
	"segmentation", "violation", "dumped", "overflow", "of memory", "sanitizer", "data race", "null", "nil", "none", "undefined", "propert", "no such", "warn", "deprecated"}

// LevelOf is how bad a line is by its form, or "".
func LevelOf(text string) Level {
	if len(text) > longest {
		text = text[:longest]
	}
	switch {
	case errors.MatchString(nothing.ReplaceAllString(text, "")):
		return Error
	case warnings.MatchString(text):
		return Warning
	}
	return ""
}

// seen is what is known of a line.
type seen struct {
	level Level
	form  string // its text without numbers, if it has a level
}

func look(text string) seen {
	level := LevelOf(text)
	if level == "" {
		return seen{}
	}
	return seen{level, numbers.ReplaceAllString(strings.TrimSpace(cut(text, kept)), "#")}
}

// levels remembers what is known of lines.
type levels struct {
	known map[string]seen // by the line with all digits but 0 alike
	line  []byte
}

const mostLevels = 1 << 12

// of is what look says.
func (l *levels) of(text string) seen {
	if len(text) > longest {
		text = text[:longest]
	}
	l.line = append(l.line[:0], text...)
	for i, b := range l.line {
		switch {
		case b >= utf8.RuneSelf: // letters may have other forms
			return look(text)
		case 'A' <= b && b <= 'Z':
			l.line[i] = b + 'a' - 'A'
		}
	}
	if !needs(l.line) {
		return seen{}
	}
	// Upper case matters for some, so that is kept; 0 does, in "0 errors" and 0x.
	for i := range l.line {
		if l.line[i] = text[i]; '1' <= text[i] && text[i] <= '9' {
			l.line[i] = '1'
		}
	}
	is, known := l.known[string(l.line)]
	if !known {
		is = look(text)
		if l.known == nil || len(l.known) >= mostLevels {
			l.known = map[string]seen{}
		}
		l.known[string(l.line)] = is
	}
	return is
}

// begins has the first two letters of each needed word, as places in a table.
var begins = func() (table [1 << 16]bool) {
	for _, word := range needed {
		table[int(word[0])<<8|int(word[1])] = true
	}
	return table
}()

// needs reports whether a line in lower case has one of the needed words.
func needs(line []byte) bool {
	for i := 0; i+1 < len(line); i++ {
		if !begins[int(line[i])<<8|int(line[i+1])] {
			continue
		}
		for _, word := range needed {
			if word[0] == line[i] && len(line)-i >= len(word) && string(line[i:i+len(word)]) == word {
				return true
			}
		}
	}
	return false
}
