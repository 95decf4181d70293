package judge

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"zitherwheel/internal/trace"
)

// What the two sides tell may not be of one kind: a field that one of them calls otherwise or leaves out,
// a number in quotes, an entity whose name differs in its case. Then nothing is wrong with the game, or all
// of it, and what to do is another thing than where values differ.

// unlike says how what a view tells of an entity is not of the kind that the reference tells; "" if it is.
func (k *tracker) unlike(v *view) string {
	names := v.judge.config.Names
	var lacking, quoted []string
	for _, f := range k.path.fields {
		if int(f) >= len(k.mirror.known.values) {
			continue
		}
		switch have, want := k.mirror.value(f), k.mirror.known.values[f]; {
		case want.Kind() == trace.KindNull || have.Kind() == want.Kind():
		case have.Kind() == trace.KindNull:
			if v.tells(f) {
				return "" // of others, so it knows the name
			}
			lacking = append(lacking, names.FieldName(f))
		default:
			quoted = append(quoted, fmt.Sprintf("the view tells %s as %s, %s, and the reference as %s, %s", names.FieldName(f), kindText(have.Kind()), names.Format(have), kindText(want.Kind()), names.Format(want)))
		}
	}
	switch {
	case len(quoted) > 0:
		return quoted[0]
	case len(lacking) == 0:
		return ""
	}
	text := fmt.Sprintf("%s tells no %s of anything", v.name, listOf(lacking, "or"))
	var told []string
	for f, value := range k.mirror.values {
		if value.Kind() != trace.KindNull {
			told = append(told, names.FieldName(trace.Field(f)))
		}
	}
	slices.Sort(told)
	if len(told) == 0 {
		return text
	}
	return fmt.Sprintf("%s; of %s it tells %s", text, k.mirror.known.name, listOf(told, "and"))
}

// value is what a view last told of a field.
func (m *mirror) value(f trace.Field) (v trace.Value) {
	if int(f) < len(m.values) {
		v = m.values[f]
	}
	return v
}

// tells reports whether a view tells a field of anything.
func (v *view) tells(f trace.Field) bool {
	return slices.ContainsFunc(v.mirrors, func(m *mirror) bool { return m != nil && m.value(f).Kind() != trace.KindNull })
}

func kindText(k trace.Kind) string {
	switch k {
	case trace.KindNumber:
		return "a number"
	case trace.KindBool:
		return "a flag"
	case trace.KindText:
		return "text"
	}
	return "nothing"
}

// listOf is names in a row, the first few.
func listOf(list []string, word string) string {
	const most = 5
	if more := len(list) - most; more > 0 {
		list = append(slices.Clone(list[:most]), fmt.Sprintf("%d more", more))
	}
	last := len(list) - 1
	if last == 0 {
		return list[0]
	}
	return strings.Join(list[:last], ", ") + " " + word + " " + list[last]
}

// warnOfNames warns of a view that tells of an entity under a name that differs from the reference's in its
// case or in what stands between its words.
func (j *Judge) warnOfNames() (list []Warning) {
	if !slices.ContainsFunc(j.known, func(e *entity) bool { return !e.ever }) {
		return nil
	}
	theirs := map[string]string{}
	for _, e := range j.known {
		if e.ever {
			theirs[folded(e.name)] = e.name
		}
	}
	for _, v := range j.views[1:] {
		var first string
		count := 0
		for _, e := range j.known {
			m := v.mirrorOf(e.id)
			name := theirs[folded(e.name)]
			if e.ever || m == nil || !m.isThere || name == "" {
				continue
			}
			if count++; first == "" {
				first = fmt.Sprintf("%s shows %s, and %s has %s: names are compared to the letter", v.name, e.name, j.views[0].name, name)
			}
		}
		if count > 1 {
			first += fmt.Sprintf(" (and %d more of the kind)", count-1)
		}
		if count > 0 {
			list = append(list, Warning{View: v.name, Text: first})
		}
	}
	return list
}

// warnOfNames warns of events in the same way.
func (l *ledger) warnOfNames() (list []Warning) {
	theirs := map[string]string{}
	for _, name := range l.names {
		if l.reports[name].Sent > 0 {
			theirs[folded(name)] = name
		}
	}
	for _, name := range slices.Sorted(maps.Keys(l.untold)) {
		like := theirs[folded(name)]
		if l.reports[name].Sent > 0 || like == "" {
			continue
		}
		for _, v := range l.match.views[1:] {
			if l.untold[name][v.number] {
				list = append(list, Warning{View: v.name, Event: like, Text: fmt.Sprintf("%s tells of %s, and %s of %s: names are compared to the letter", v.name, name, l.match.views[0].name, like)})
			}
		}
	}
	return list
}

// folded is a name as far as people tell it from others.
func folded(name string) string { return strings.ToLower(noMarks.Replace(name)) }

var noMarks = strings.NewReplacer("_", "", "-", "", " ", "", ".", "")
