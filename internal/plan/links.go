package plan

import (
	"errors"
	"fmt"
	"reflect"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"zitherwheel/internal/network/link"
)

// readLinks reads links by name. What a link says counts for both directions
// unless it says otherwise under up or down.
func (p *Plan) readLinks(n ast.Node) error {
	mapping, ok := n.(ast.MapNode)
	if !ok {
		return fmt.Errorf("%s is not a mapping from names to links", show(n))
	}
	entries, err := entriesOf(mapping)
	failures := []error{err}
	for _, e := range entries {
		l := link.Pair{Name: e.key.GetToken().Value}
		if err := p.readLink(e.value, &l); err != nil {
			failures = append(failures, err)
		}
		p.Links = append(p.Links, l) // also one that is wrong: who names it is not
	}
	return errors.Join(failures...)
}

func (p *Plan) readLink(n ast.Node, l *link.Pair) error {
	what := "link " + l.Name
	var both courseReader
	var up, down ast.Node
	keys := append(linkKeys(&both, l),
		key{name: "up", schema: objectOf(courseKeys(&link.Course{})), read: func(n ast.Node) error { up = n; return nil }},
		key{name: "down", schema: objectOf(courseKeys(&link.Course{})), read: func(n ast.Node) error { down = n; return nil }})
	if err := readObject(n, what, keys); err != nil {
		return err
	}
	for _, d := range []struct {
		name string
		node ast.Node
		into *link.Course
	}{{"up", up, &l.Up}, {"down", down, &l.Down}} {
		own := both
		if d.node != nil {
			if err := readObject(d.node, d.name, own.keys()); err != nil {
				return err
			}
		}
		if err := own.readChanges(); err != nil {
			return err
		}
		if err := own.course.Validate(); err != nil {
			return wrong(n, "%s: %s", what, err)
		}
		*d.into = own.course
	}
	return nil
}

// linkKeys are what a link says of both directions.
func linkKeys(both *courseReader, l *link.Pair) []key {
	return append(both.keys(), timesKey("nat-rebind", &l.Moves), timesKey("reset", &l.Resets))
}

// courseReader reads a course. Its changes are read last, because each begins from
// what was said before it.
type courseReader struct {
	course  link.Course
	changes ast.Node // or nil
}

func (r *courseReader) keys() []key {
	keys := courseKeys(&r.course)
	for i := range keys {
		if keys[i].name == "changes" {
			keys[i].read = func(n ast.Node) error { r.changes = n; return nil }
		}
	}
	return keys
}

func (r *courseReader) readChanges() error {
	if r.changes == nil {
		return nil
	}
	now := r.course.Conditions
	err := readList(r.changes, func(item ast.Node) error {
		change := link.Change{Conditions: now}
		if err := readObject(item, "change", append(qualityKeys(&change.Conditions), durationKey("at", &change.At))); err != nil {
			return err
		}
		now = change.Conditions
		r.course.Changes = append(r.course.Changes, change)
		return nil
	})
	var at *locatedError
	if err != nil && !errors.As(err, &at) {
		return wrong(r.changes, "changes: %s", err)
	}
	return err
}

// qualityKeys are the words of a link as keys of a plan.
func qualityKeys(q *link.Conditions) (keys []key) {
	for _, w := range q.Words() {
		keys = append(keys, key{name: w.Name, schema: wordSchema(w), write: w.Value, read: func(n ast.Node) error {
			text, _ := scalar(n)
			return w.Set(text)
		}})
	}
	return keys
}

func wordSchema(w link.Word) schema {
	switch off := w.Off().(type) {
	case bool:
		return schema{"type": "boolean"}
	case string:
		if off == link.Normal.String() {
			return schema{"type": "string", "enum": link.Spreads}
		}
		return schema{"type": "string", "pattern": durationPattern}
	}
	switch w.Unit {
	case link.Share:
		return oneOf(schema{"type": "number", "minimum": 0, "maximum": 1}, schema{"type": "string", "pattern": sharePattern})
	case link.Rate:
		return oneOf(schema{"type": "number", "minimum": 0}, schema{"type": "string"})
	case link.Size:
		return oneOf(schema{"type": "integer", "minimum": 0}, schema{"type": "string"})
	}
	return schema{"type": "number"}
}

func courseKeys(c *link.Course) []key {
	return append(qualityKeys(&c.Conditions),
		key{name: "changes", schema: listOf(objectOf(append(qualityKeys(&link.Conditions{}), durationKey("at", new(time.Duration))))), write: func() any { return writeChanges(c) }},
		key{name: "outages", schema: listOf(objectOf(outageKeys(new(time.Duration), new(time.Duration)))), read: func(n ast.Node) error {
			c.Outages = nil
			return readList(n, func(item ast.Node) error {
				var at, length time.Duration
				if err := readObject(item, "outage", outageKeys(&at, &length)); err != nil {
					return err
				}
				c.Outages = append(c.Outages, link.Window{From: at, Until: at + length})
				return nil
			})
		}, write: func() any {
			var out []any
			for _, w := range c.Outages {
				length := w.Until - w.From
				out = append(out, writeObject(outageKeys(&w.From, &length)))
			}
			if out == nil {
				return nil
			}
			return out
		}},
		outcomesKey(&c.Given))
}

// outcomesKey reads outcomes that single packets are given.
func outcomesKey(into *[]link.Given) key {
	return listKey("outcomes", "outcome", into, func() link.Given { return link.Given{} }, givenKeys, func(*link.Given) error { return nil })
}

func givenKeys(g *link.Given) []key {
	number, delays, dropped := int(g.Number), g.Delay[:g.Copies], ""
	if g.Dropped != link.Delivered {
		dropped = g.Dropped.String()
	}
	return []key{
		then(wholeKey("packet", &number, 1, 1<<40), func(ast.Node) error { g.Number = uint64(number); return nil }),
		then(wordKey("dropped", &dropped, link.Reasons()), func(ast.Node) error { g.Dropped, _ = link.ParseReason(dropped); return nil }),
		then(timesKey("after", &delays), func(ast.Node) error {
			if len(delays) > len(g.Delay) {
				return errors.New("a packet arrives at most twice")
			}
			g.Copies = copy(g.Delay[:], delays)
			return nil
		}),
		optional(wholeKey("flipped", &g.Flipped, 0, 1<<20), &g.Flipped),
		optional(wholeKey("resent", &g.Resent, 0, 100), &g.Resent),
		durationKey("sent", &g.Like.Sent),
		optional(wholeKey("bytes", &g.Like.Size, 1, 1<<20), &g.Like.Size),
	}
}

func outageKeys(at, length *time.Duration) []key {
	return []key{durationKey("at", at), durationKey("for", length)}
}

// writeChanges writes of each change what it changes.
func writeChanges(c *link.Course) any {
	var out []any
	before := c.Conditions
	for _, change := range c.Changes {
		object := yaml.MapSlice{{Key: "at", Value: change.At.String()}}
		old := before.Words()
		for i, w := range change.Conditions.Words() {
			was, is := old[i].Value(), w.Value()
			switch {
			case was == is:
			case is != nil:
				object = append(object, yaml.MapItem{Key: w.Name, Value: is})
			default: // back to nothing, which must be said here
				object = append(object, yaml.MapItem{Key: w.Name, Value: w.Off()})
			}
		}
		out = append(out, object)
		before = change.Conditions
	}
	if out == nil {
		return nil
	}
	return out
}

func (p *Plan) writeLinks() any {
	var out yaml.MapSlice
	for i := range p.Links {
		l := &p.Links[i]
		up, down := writeObject(courseKeys(&l.Up)), writeObject(courseKeys(&l.Down))
		object := yaml.MapSlice{}
		switch {
		case reflect.DeepEqual(up, down): // what a link says counts for both
			object = up
		default:
			for _, d := range []yaml.MapItem{{Key: "up", Value: up}, {Key: "down", Value: down}} {
				if len(d.Value.(yaml.MapSlice)) > 0 {
					object = append(object, d)
				}
			}
		}
		object = append(object, writeObject([]key{timesKey("nat-rebind", &l.Moves), timesKey("reset", &l.Resets)})...)
		if object == nil {
			object = yaml.MapSlice{}
		}
		out = append(out, yaml.MapItem{Key: l.Name, Value: object})
	}
	if out == nil {
		return nil
	}
	return out
}

// timesKey reads one moment or a list of them.
func timesKey(name string, into *[]time.Duration) key {
	return key{name: name, schema: oneOf(schema{"type": "string", "pattern": durationPattern}, listOf(schema{"type": "string", "pattern": durationPattern})), read: func(n ast.Node) error {
		*into = nil
		one := func(item ast.Node) error {
			var at time.Duration
			if err := durationKey(name, &at).read(item); err != nil {
				return err
			}
			*into = append(*into, at)
			return nil
		}
		if _, ok := scalar(n); ok {
			return one(n)
		}
		return readList(n, one)
	}, write: func() any {
		var out []string
		for _, at := range *into {
			out = append(out, at.String())
		}
		if out == nil {
			return nil
		}
		return out
	}}
}

// ReadyLinksJSON are the ready links as JSON, in the words of plans.
func ReadyLinksJSON() ([]byte, error) {
	p := Plan{Links: link.Ready}
	text, err := yaml.Marshal(p.writeLinks())
	if err != nil {
		return nil, err
	}
	return yaml.YAMLToJSON(text)
}
