package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// What is read of YAML is bounded before it is understood: the parser's memory grows with
// the square of how deep brackets nest.
const (
	mostText    = 4 << 20 // bytes
	mostNesting = 60
	mostIndent  = 400 // columns
)

// readDocument reads a document by a table of keys. Its error, if there is any, is of type
// *Error, or Errors if there are several.
func readDocument(file string, text []byte, what string, keys []key, check func() error) error {
	if err := bounded(text); err != nil {
		err.File = file
		return err
	}
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil {
			return &Error{file, syntax.Token.Position.Line, syntax.Token.Position.Column, "not YAML: " + syntax.Message}
		}
		return &Error{File: file, Message: "not YAML: " + strings.SplitN(err.Error(), "\n", 2)[0]}
	}
	var body ast.Node
	for _, doc := range parsed.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			at := doc.Body.GetToken().Position
			return &Error{file, at.Line, at.Column, "a second document begins here; a plan is one"}
		}
		body = doc.Body
	}
	if body == nil {
		return &Error{File: file, Message: "the file is empty; see docs/plan.md for what a plan looks like"}
	}
	a := aliases{anchors: map[string]ast.Node{}}
	body, err = a.resolve(body)
	if err == nil {
		err = readObject(body, what, keys)
	}
	if check != nil {
		err = errors.Join(err, check())
	}
	return placed(file, err)
}

// bounded reports text that is too large, or nested too deeply.
func bounded(text []byte) *Error {
	if len(text) > mostText {
		return &Error{Message: fmt.Sprintf("%d bytes; a plan has %d at most", len(text), mostText)}
	}
	depth, quote, before := 0, byte(0), byte('\n')
	line, indent, starts := 1, 0, 0 // starts counts the list items that begin in one line
	leading := true
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\n':
			line, indent, starts, leading = line+1, 0, 0, true
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && strings.IndexByte(" \n[{,:-", before) >= 0:
			quote = c
		case c == '#' && (before == ' ' || before == '\n'):
			for i+1 < len(text) && text[i+1] != '\n' {
				i++
			}
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth = max(0, depth-1)
		case leading && (c == ' ' || c == '\t'):
			indent++
		case leading && (c == '-' || c == '?') && i+1 < len(text) && (text[i+1] == ' ' || text[i+1] == '\n'):
			starts++
			indent++
		default:
			leading = false
		}
		if depth > mostNesting || starts > mostNesting || indent > mostIndent {
			return &Error{Line: line, Column: 1, Message: fmt.Sprintf("nested more than %d deep, which no plan is", mostNesting)}
		}
		before = c
	}
	return nil
}

// aliases puts what anchors name in the place of aliases.
type aliases struct {
	anchors map[string]ast.Node
	open    []string // anchors that are being read
}

func (a *aliases) resolve(n ast.Node) (ast.Node, error) {
	var err error
	each := func(of *ast.Node) {
		if *of != nil && err == nil {
			*of, err = a.resolve(*of)
		}
	}
	switch v := n.(type) {
	case *ast.AliasNode:
		name := v.Value.GetToken().Value
		if slices.Contains(a.open, name) {
			return n, wrong(n, "*%s stands within what it stands for", name)
		}
		known, ok := a.anchors[name]
		if !ok {
			return n, wrong(n, "nothing before this is named &%s", name)
		}
		return known, nil
	case *ast.AnchorNode:
		name := v.Name.GetToken().Value
		a.open = append(a.open, name)
		each(&v.Value)
		a.open = a.open[:len(a.open)-1]
		a.anchors[name] = v.Value
		return v.Value, err
	case *ast.TagNode:
		each(&v.Value)
	case *ast.MappingNode:
		for _, entry := range v.Values {
			each(&entry.Value)
		}
	case *ast.MappingValueNode:
		each(&v.Value)
	case *ast.SequenceNode:
		for i := range v.Values {
			each(&v.Values[i])
		}
	}
	return n, err
}

// entry is one key of a mapping with its value.
type entry struct {
	key   ast.MapKeyNode
	value ast.Node
}

// entriesOf lists what a mapping says: its own keys, then those merged into it with <<
// that it does not have itself.
func entriesOf(mapping ast.MapNode) ([]entry, error) {
	m := merger{keys: map[string]bool{}, seen: map[any]bool{}}
	err := m.mapping(mapping)
	return m.list, err
}

// merger puts together a mapping and what is merged into it, each once: what comes first
// holds, so that the second time adds nothing.
type merger struct {
	list []entry
	keys map[string]bool
	seen map[any]bool // mappings and lists of them
}

func (m *merger) mapping(n ast.MapNode) error {
	var merged []ast.Node
	for entries := n.MapRange(); entries.Next(); {
		if entries.Key().IsMergeKey() {
			merged = append(merged, entries.Value())
			continue
		}
		if name := entries.Key().GetToken().Value; !m.keys[name] {
			m.list = append(m.list, entry{entries.Key(), entries.Value()})
			m.keys[name] = true
		}
	}
	return m.merge(merged)
}

func (m *merger) merge(list []ast.Node) error {
	for _, n := range list {
		n = unwrap(n)
		if m.seen[n] {
			continue
		}
		m.seen[n] = true
		err := wrong(n, "<<: %s is not a mapping to merge", show(n))
		switch v := n.(type) {
		case *ast.SequenceNode:
			err = m.merge(v.Values)
		case ast.MapNode:
			err = m.mapping(v)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Errors are several errors in one file.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, one := range e {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// placed turns errors at nodes into errors with places, in the order of the file.
func placed(file string, err error) error {
	var all Errors
	var take func(err error)
	take = func(err error) {
		if several, ok := err.(interface{ Unwrap() []error }); ok {
			for _, one := range several.Unwrap() {
				take(one)
			}
			return
		}
		var at *locatedError
		one := &Error{File: file, Message: err.Error()}
		if errors.As(err, &at) {
			position := start(at.node)
			one.Line, one.Column = position.Line, position.Column
		}
		all = append(all, one)
	}
	if err != nil {
		take(err)
	}
	slices.SortStableFunc(all, func(a, b *Error) int { return a.Line - b.Line })
	all = slices.CompactFunc(all, func(a, b *Error) bool { return *a == *b }) // of what several aliases stand for
	switch len(all) {
	case 0:
		return nil
	case 1:
		return all[0]
	}
	return all
}
