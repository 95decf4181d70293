package plan

import (
	"bytes"
	"fmt"
	"slices"
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
	if slices.ContainsFunc(l.Laws, func(law learn.Law) bool { return !law.Offered }) {
		fmt.Fprintln(&b, "\ninvariants:")
	}
	offered := false
	for _, law := range byOffer(l.Laws) {
		if law.Offered && !offered {
			offered = true
			fmt.Fprintln(&b, "\n# Held throughout, and may be chance: invariants to take over if they must.")
		}
		usual := rulebook.InvariantRule{Invariant: rulebook.Falling, MinDuration: rulebook.DefaultMinDuration} // which is never learned: the name is always told
		rule := less(writeObject(invariantKeys(&law.InvariantRule)), writeObject(invariantKeys(&usual)))
		var err error
		if law.Offered {
			err = writeOffered(&b, law.Why, rule)
		} else {
			err = writeLearned(&b, law.Why, rule)
		}
		if err != nil {
			return nil, err
		}
	}
	if len(l.Chains) > 0 {
		fmt.Fprintln(&b, "\n# Each came after the other every time, and may be chance: sequences to take over if they must.")
	}
	for _, chain := range l.Chains {
		if err := writeOffered(&b, chain.Why, writeObject(sequenceKeys(&chain.Sequence))); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// byOffer puts what is only offered last.
func byOffer(laws []learn.Law) []learn.Law {
	laws = slices.Clone(laws)
	slices.SortStableFunc(laws, func(a, b learn.Law) int {
		switch {
		case a.Offered == b.Offered:
			return 0
		case a.Offered:
			return 1
		}
		return -1
	})
	return laws
}

// writeOffered writes a rule in one line, as a comment.
func writeOffered(b *bytes.Buffer, why []string, rule yaml.MapSlice) error {
	line, err := yaml.MarshalWithOptions(rule, yaml.Flow(true))
	if err != nil {
		return err
	}
	fmt.Fprintf(b, "#   - %s  # %s\n", strings.TrimSpace(string(line)), strings.Join(why, "; "))
	return nil
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
