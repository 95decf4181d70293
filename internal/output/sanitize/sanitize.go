// Package sanitize makes text harmless that came from outside (names, logs, titles): what
// would steer a terminal, or turn the order of what is read around, is shown as what it
// is.
package sanitize

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Text is s with every control character and every mark of writing direction written as
// \u and four hexadecimal digits, which in JSON stands for the same character.
func Text(s string) string { return replace(s, steers) }

// Screen is what a program of our own is to draw: lines and our own colours stay.
func Screen(s string) string { return string(screen([]byte(s))) }

// replace writes out the characters that are bad.
func replace(s string, bad func(r rune) bool) string {
	if !strings.ContainsFunc(s, bad) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\u%04x`, s[i])
		case r == utf8.RuneError:
			b.WriteRune(r)
		case bad(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// steers reports whether a character is one that terminals act upon: C0, DEL and C1, and
// those that set the direction of writing. A byte that is no UTF-8 may be a C1 too.
func steers(r rune) bool {
	return r < 0x20 || r >= 0x7f && r <= 0x9f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f || r == 0x061c || r == utf8.RuneError
}

// steersBeyondLines is steers for text in lines.
func steersBeyondLines(r rune) bool { return steers(r) && r != '\n' && r != '\t' }

// colour is a sequence that does nothing but colour what follows.
var colour = regexp.MustCompile("\x1b\\[[0-9;]*m")

// Writer writes text for people: lines and tabs stay, a carriage return stays at the end
// of what is written, and colours stay where they may be.
type Writer struct {
	to      io.Writer
	colours bool
	err     error
}

// NewWriter returns a writer. Where colours is not set there are none.
func NewWriter(to io.Writer, colours bool) *Writer { return &Writer{to: to, colours: colours} }

// Write writes data, and reports success for all of it: see Err.
func (w *Writer) Write(data []byte) (int, error) {
	if w.err != nil {
		return 0, w.err
	}
	body, end := data, ""
	if bytes.HasSuffix(data, []byte("\r")) {
		body, end = data[:len(data)-1], "\r"
	}
	text := body
	switch {
	case bytes.IndexFunc(body, steersBeyondLines) < 0:
		text = data
		end = ""
	case w.colours:
		text = screen(body)
	default:
		text = []byte(replace(string(body), steersBeyondLines))
	}
	if _, w.err = w.to.Write(append(text[:len(text):len(text)], end...)); w.err != nil {
		return 0, w.err
	}
	return len(data), nil
}

// Err is the first error of writing. Whoever prints need not ask at every line.
func (w *Writer) Err() error { return w.err }

func screen(text []byte) []byte {
	var out []byte
	plain := func(b []byte) []byte { return []byte(replace(string(b), steersBeyondLines)) }
	for {
		at := colour.FindIndex(text)
		if at == nil {
			return append(out, plain(text)...)
		}
		out = append(append(out, plain(text[:at[0]])...), text[at[0]:at[1]]...)
		text = text[at[1]:]
	}
}
