package judge

import (
	"slices"
	"strings"

	"zitherwheel/internal/verdict/rulebook"
)

// About is the sort of a [Subject].
type About uint8

const (
	AboutFields     About = iota // fields of an entity; Name is their label, like "x, y"
	AboutInvariant               // Name is the invariant's label
	AboutEvent                   // Name is the event's
	AboutSequence                // Name is the sequence's
	AboutMeasure                 // Name is that of a measure that has a limit
	AboutMembership              // who is in the match
	AboutTicks                   // the view's ticks as a whole
	AboutProgram                 // a process under test
	AboutLog                     // Name is the log rule's label
	AboutCheckpoint              // Name is the checkpoint's
	AboutEffect                  // Name is the effect rule's label
)

// Subject is what a finding is about.
type Subject struct {
	About About
	Name  string
}

// words are how subjects without a name are written, prefixes those with one.
var (
	subjectWords    = map[About]string{AboutMembership: "membership", AboutTicks: "ticks", AboutProgram: "program"}
	subjectPrefixes = map[About]string{AboutEvent: "event ", AboutSequence: "sequence ", AboutLog: "log ", AboutCheckpoint: "checkpoint ", AboutEffect: "effect "}
)

// String is how findings.json, signatures and people have it: "x, y", "event bark",
// "membership".
func (s Subject) String() string {
	if word := subjectWords[s.About]; word != "" {
		return word
	}
	return subjectPrefixes[s.About] + s.Name
}

// ParseSubject reads what String wrote. An invariant is written like fields, so it is read
// as fields; a finding says beside it that it is about one.
func ParseSubject(text string) Subject {
	for about, word := range subjectWords {
		if text == word {
			return Subject{About: about}
		}
	}
	for about, prefix := range subjectPrefixes {
		if name, is := strings.CutPrefix(text, prefix); is {
			return Subject{about, name}
		}
	}
	if slices.Contains(rulebook.Measures, text) {
		return Subject{AboutMeasure, text}
	}
	return Subject{AboutFields, text}
}

// Fields are the fields that it is about, nil if it is not about any.
func (s Subject) Fields() []string {
	if s.About != AboutFields {
		return nil
	}
	return strings.Split(s.Name, ", ")
}

func (s Subject) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s *Subject) UnmarshalText(text []byte) error {
	*s = ParseSubject(string(text))
	return nil
}
