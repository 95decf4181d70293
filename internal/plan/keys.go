package plan

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// key is one key of a YAML mapping: how its value is read and how it is
// written again. One table of keys describes an object for both ways.
type key struct {
	name   string
	read   func(n ast.Node) error
	write  func() any // nil means that the key is left out
	schema schema     // of its value; nil allows anything
}

// located is an error at a node of the document.
type locatedError struct {
	node ast.Node
	msg  string
}

func (e *locatedError) Error() string { return e.msg }

func wrong(n ast.Node, format string, args ...any) error {
	return &locatedError{n, fmt.Sprintf(format, args...)}
}

// readObject reads a mapping by its table of keys.
func readObject(n ast.Node, what string, keys []key) error {
	mapping, ok := unwrap(n).(ast.MapNode)
	if !ok {
		return wrong(n, "%s: %s is not a mapping of keys to values; the keys are %s", what, show(n), names(keys))
	}
	entries, err := entriesOf(mapping)
	failures := []error{err}
	for _, e := range entries {
		name := e.key.GetToken().Value
		k := find(keys, name)
		if k == nil {
			failures = append(failures, wrong(e.key, "%s: there is no key %q%s", what, name, suggestion(name, keys)))
			continue
		}
		if err := k.read(unwrap(e.value)); err != nil {
			var at *locatedError
			if !errors.As(err, &at) {
				err = wrong(e.value, "%s: %s", name, err)
			}
			failures = append(failures, err)
		}
	}
	return errors.Join(failures...)
}

// readList calls item for every element of a sequence.
func readList(n ast.Node, item func(n ast.Node) error) error {
	list, ok := unwrap(n).(*ast.SequenceNode)
	if !ok {
		return fmt.Errorf("%s is not a list", show(n))
	}
	var failures []error
	for _, v := range list.Values {
		failures = append(failures, item(unwrap(v)))
	}
	return errors.Join(failures...)
}

func writeObject(keys []key) yaml.MapSlice {
	var out yaml.MapSlice
	for _, k := range keys {
		if v := k.write(); v != nil {
			out = append(out, yaml.MapItem{Key: k.name, Value: v})
		}
	}
	return out
}

// unwrap sees through anchors and tags.
func unwrap(n ast.Node) ast.Node {
	switch v := n.(type) {
	case *ast.AnchorNode:
		return unwrap(v.Value)
	case *ast.TagNode:
		return unwrap(v.Value)
	}
	return n
}

// show is a value as the file has it, for messages.
func show(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "nothing"
	}
	return strconv.Quote(n.GetToken().Value)
}

func find(keys []key, name string) *key {
	for i := range keys {
		if keys[i].name == name {
			return &keys[i]
		}
	}
	return nil
}

func names(keys []key) string {
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = k.name
	}
	return strings.Join(list, ", ")
}

func suggestion(name string, keys []key) string {
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = k.name
	}
	if now, is := called(name, list); is {
		return now
	}
	if best := nearest(name, list); best != "" {
		return fmt.Sprintf("; did you mean %q?", best)
	}
	return "; the keys are " + strings.Join(list, ", ")
}

// nearest is the name that takes the fewest edits, if they are few.
func nearest(name string, list []string) string {
	best, fewest := "", max(2, len(name)/3)+1
	for _, candidate := range list {
		if d := edits(strings.ToLower(name), candidate); d < fewest {
			best, fewest = candidate, d
		}
	}
	return best
}

// edits is the Levenshtein distance.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := diagonal
			if a[i] != b[j] {
				change++
			}
			diagonal = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// scalar is the text of a plain value.
func scalar(n ast.Node) (string, bool) {
	if s, ok := n.(ast.ScalarNode); ok {
		if _, null := n.(*ast.NullNode); !null {
			return s.GetToken().Value, true
		}
	}
	return "", false
}

func textKey(name string, into *string) key {
	return key{name: name, schema: schema{"type": "string"}, read: func(n ast.Node) error {
		s, ok := scalar(n)
		if !ok {
			return fmt.Errorf("%s is not text", show(n))
		}
		*into = s
		return nil
	}, write: func() any {
		if *into == "" {
			return nil
		}
		return *into
	}}
}

// then does something with what a key has read: it checks it, or puts it where it belongs.
func then(k key, next func(n ast.Node) error) key {
	read := k.read
	k.read = func(n ast.Node) error {
		if err := read(n); err != nil {
			return err
		}
		return next(n)
	}
	return k
}

func wordKey(name string, into *string, allowed []string) key {
	k := textKey(name, into)
	k.schema = schema{"type": "string", "enum": allowed}
	return then(k, func(n ast.Node) error {
		for _, word := range allowed {
			if *into == word {
				return nil
			}
		}
		if now, is := called(*into, allowed); is {
			return fmt.Errorf("%s is not known%s", show(n), now)
		}
		did := ""
		if best := nearest(*into, allowed); best != "" {
			did = fmt.Sprintf("did you mean %q? ", best)
		}
		return fmt.Errorf("%s is not known; %swrite one of %s", show(n), did, strings.Join(allowed, ", "))
	})
}

func wholeKey(name string, into *int, low, high int) key {
	return key{name: name, schema: schema{"type": "integer", "minimum": low, "maximum": high}, read: func(n ast.Node) error {
		s, _ := scalar(n)
		v, err := strconv.Atoi(s)
		if err != nil || v < low || v > high {
			return fmt.Errorf("%s is not a whole number from %d to %d", show(n), low, high)
		}
		*into = v
		return nil
	}, write: func() any { return *into }}
}

// optional leaves a whole number out that is 0.
func optional(k key, v *int) key {
	k.write = func() any {
		if *v == 0 {
			return nil
		}
		return *v
	}
	return k
}

func seedKey(name string, into *uint64) key {
	return key{name: name, schema: schema{"type": "integer", "minimum": 0}, read: func(n ast.Node) error {
		s, _ := scalar(n)
		v, err := strconv.ParseUint(s, 10, 64)
		if err != nil {
			return fmt.Errorf("%s is not a seed; write a whole number from 0 up", show(n))
		}
		*into = v
		return nil
	}, write: func() any { return *into }}
}

func numberKey(name string, into *float64) key {
	return key{name: name, schema: schema{"type": "number"}, read: func(n ast.Node) error {
		v, err := number(n)
		*into = v
		return err
	}, write: func() any {
		if *into == 0 {
			return nil
		}
		return *into
	}}
}

func number(n ast.Node) (float64, error) {
	s, _ := scalar(n)
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		return 0, fmt.Errorf("%s is not a number", show(n))
	}
	return v, nil
}

// durationKey reads a time span with its unit: 80ms, 1.5s, 2m.
func durationKey(name string, into *time.Duration) key {
	return key{name: name, schema: schema{"type": "string", "pattern": durationPattern}, read: func(n ast.Node) error {
		s, _ := scalar(n)
		v, err := time.ParseDuration(s)
		if err != nil {
			return fmt.Errorf("%s is not a time span; write a number and its unit, like 80ms, 1.5s or 2m", show(n))
		}
		if v < 0 {
			return fmt.Errorf("%s is negative; write 0s or more", show(n))
		}
		*into = v
		return nil
	}, write: func() any {
		if *into == 0 {
			return nil
		}
		return into.String()
	}}
}

func flagKey(name string, into *bool) key {
	return key{name: name, schema: schema{"type": "boolean"}, read: func(n ast.Node) error {
		v, ok := n.(*ast.BoolNode)
		if !ok {
			return fmt.Errorf("%s is neither true nor false", show(n))
		}
		*into = v.Value
		return nil
	}, write: func() any {
		if !*into {
			return nil
		}
		return true
	}}
}

// wordsKey reads a list of words, or a single one.
func wordsKey(name string, into *[]string) key {
	return key{name: name, schema: oneOf(schema{"type": "string"}, listOf(schema{"type": "string"})), read: func(n ast.Node) error {
		*into = nil
		if s, ok := scalar(n); ok {
			*into = []string{s}
			return nil
		}
		return readList(n, func(item ast.Node) error {
			s, ok := scalar(item)
			if !ok {
				return wrong(item, "%s: %s is not a word", name, show(item))
			}
			*into = append(*into, s)
			return nil
		})
	}, write: func() any {
		if len(*into) == 0 {
			return nil
		}
		return *into
	}}
}

func pointKey(name string, into *[2]float64) key {
	return key{name: name, schema: schema{"type": "array", "items": schema{"type": "number"}, "minItems": 2, "maxItems": 2}, read: func(n ast.Node) error {
		var point []float64
		err := readList(n, func(item ast.Node) error {
			v, err := number(item)
			point = append(point, v)
			return err
		})
		if err != nil || len(point) != 2 {
			return fmt.Errorf("%s is not a point; write two numbers, like [10, -5]", show(n))
		}
		*into = [2]float64(point)
		return nil
	}, write: func() any {
		if *into == [2]float64{} {
			return nil
		}
		return []float64{into[0], into[1]}
	}}
}

// nestedKey reads and writes an object of its own.
func nestedKey(name string, keys []key) key {
	return key{name: name, schema: objectOf(keys), read: func(n ast.Node) error { return readObject(n, name, keys) }, write: func() any {
		if out := writeObject(keys); len(out) > 0 {
			return out
		}
		return nil
	}}
}
