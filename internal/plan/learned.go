package plan

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"

	"zitherwheel/internal/verdict/learn"
	"zitherwheel/internal/verdict/rulebook"
)

// Learned writes what was learned as the part of a plan that says what is watched, with what each rule
// was learned from as a comment, for a person to read and edit.
func Learned(l *learn.Lesson) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintln(&b, "# Learned from matches. Read it, change what is not so, and keep it: what is written here is judged.")
	for _, text := range l.Asked {
		fmt.Fprintf(&b, "# DECIDE: %s\n", text)
	}
	for _, text := range l.Unsure {
		fmt.Fprintf(&b, "# Not learned: %s\n", text)
	}
	if len(l.Rules) > 0 {
		fmt.Fprintln(&b, "\nwatch:")
	}
	kind := ""
	for _, r := range l.Rules {
		if r.Entities != kind {
			if kind != "" {
				fmt.Fprintln(&b)
			}
			kind = r.Entities
		}
		text := ruleTexts(r.Rule)
		usual := rulebook.Rule{MaxDelay: rulebook.DefaultMaxDelay, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace}
		usualText := ruleTexts(usual)
		if err := writeLearned(&b, r.Why, less(writeObject(ruleKeys(&r.Rule, &text)), writeObject(ruleKeys(&usual, &usualText)))); err != nil {
			return nil, err
		}
	}
	if len(l.Events) > 0 {
		fmt.Fprintln(&b, "\nevents:")
	}
	for _, e := range l.Events {
		usual := rulebook.EventRule{MaxDelay: rulebook.DefaultMaxDelay, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace}
		if err := writeLearned(&b, e.Why, less(writeObject(eventKeys(&e.EventRule)), writeObject(eventKeys(&usual)))); err != nil {
			return nil, err
		}
	}
	if len(l.Laws) > 0 {
		fmt.Fprintln(&b, "\ninvariants:")
	}
	for _, law := range l.Laws {
		usual := rulebook.InvariantRule{Invariant: rulebook.Apart, MinDuration: rulebook.DefaultMinDuration} // which is never learned: the name is always told
		if err := writeLearned(&b, law.Why, less(writeObject(invariantKeys(&law.InvariantRule)), writeObject(invariantKeys(&usual)))); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// writeLearned writes a rule in one line, below what it was learned from.
func writeLearned(b *bytes.Buffer, why []string, rule yaml.MapSlice) error {
	for _, text := range why {
		fmt.Fprintf(b, "  # %s\n", strings.ReplaceAll(text, "\n", " "))
	}
	line, err := yaml.MarshalWithOptions(rule, yaml.Flow(true))
	if err != nil {
		return err
	}
	fmt.Fprintf(b, "  - %s\n", strings.TrimSpace(string(line)))
	return nil
}
