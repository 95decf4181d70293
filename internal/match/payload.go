package match

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"zitherwheel/internal/network/link"
)

// How much of a packet of a build is told.
const (
	mostText   = 160 // characters
	mostHex    = 24  // bytes
	leastWord  = 3   // characters of what counts as a word between bytes that are none
	mostlyText = 0.9
)

// describes makes ready to tell what packets carry, if somebody may ask, and reports whether what they
// hold is to be kept.
func (m *buildMatch) describes(record bool) bool {
	if m.options.Packet == nil {
		return record
	}
	m.describe = func(data []byte, d link.Direction) string {
		if m.decoder != nil {
			if text, known := m.decoder.Decode(data, d); known {
				return text
			}
		}
		return carried(data)
	}
	return true
}

// carried says what a packet of a build carries, of whose protocol nothing is known: the text that
// it is, or its first bytes with the words that are found among them.
func carried(data []byte) string {
	var words []string
	var word strings.Builder
	legible := 0
	end := func() {
		if utf8.RuneCountInString(word.String()) >= leastWord {
			words = append(words, word.String())
		}
		word.Reset()
	}
	for rest := data; len(rest) > 0; {
		r, size := utf8.DecodeRune(rest)
		if r != utf8.RuneError && (unicode.IsPrint(r) || r == '\n' || r == '\t') {
			legible += size
			if unicode.IsPrint(r) {
				word.WriteRune(r)
			} else {
				end()
			}
		} else {
			end()
		}
		rest = rest[size:]
	}
	end()
	text := strings.Join(words, " ")
	if runes := []rune(text); len(runes) > mostText {
		text = string(runes[:mostText]) + " ..."
	}
	if float64(legible) >= mostlyText*float64(len(data)) {
		return text
	}
	start := data[:min(len(data), mostHex)]
	more := ""
	if len(start) < len(data) {
		more = " ..."
	}
	if text == "" {
		return fmt.Sprintf("the bytes %s%s", hex.EncodeToString(start), more)
	}
	return fmt.Sprintf("the bytes %s%s with %q in them", hex.EncodeToString(start), more, text)
}
