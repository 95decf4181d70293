package plan

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"zitherwheel/link"
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
		l := Link{Name: e.key.GetToken().Value}
		if err := p.readLink(e.value, &l); err != nil {
			failures = append(failures, err)
		}
		p.Links = append(p.Links, l) // also one that is wrong: who names it is not
	}
	return errors.Join(failures...)
}

func (p *Plan) readLink(n ast.Node, l *Link) error {
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
func linkKeys(both *courseReader, l *Link) []key {
	return append(both.keys(), timesKey("readdress", &l.Moves), timesKey("reset", &l.Resets))
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
	now := r.course.Quality
	err := readList(r.changes, func(item ast.Node) error {
		change := link.Change{Quality: now}
		if err := readObject(item, "change", append(qualityKeys(&change.Quality), durationKey("at", &change.At))); err != nil {
			return err
		}
		now = change.Quality
		r.course.Changes = append(r.course.Changes, change)
		return nil
	})
	var at *located
	if err != nil && !errors.As(err, &at) {
		return wrong(r.changes, "changes: %s", err)
	}
	return err
}

func qualityKeys(q *link.Quality) []key {
	return []key{
		durationKey("latency", &q.Latency),
		durationKey("jitter", &q.Jitter),
		{name: "spread", schema: schema{"type": "string", "enum": link.Spreads}, read: func(n ast.Node) (err error) {
			text, _ := scalar(n)
			q.Spread, err = link.ParseSpread(text)
			return err
		}, write: func() any {
			if q.Spread == link.Normal {
				return nil
			}
			return q.Spread.String()
		}},
		numberKey("sticky", &q.Sticky),
		flagKey("reorder", &q.Reorder),
		shareKey("loss", &q.Loss),
		numberKey("burst", &q.Burst),
		shareKey("duplicate", &q.Duplicate),
		shareKey("corrupt", &q.Corrupt),
		shareKey("straggle", &q.Straggle),
		durationKey("straggle-by", &q.StraggleBy),
		rateKey("rate", &q.Rate),
		bytesKey("queue", &q.Queue),
		bytesKey("mtu", &q.MTU),
	}
}

func courseKeys(c *link.Course) []key {
	return append(qualityKeys(&c.Quality),
		key{name: "changes", schema: listOf(objectOf(append(qualityKeys(&link.Quality{}), durationKey("at", new(time.Duration))))), write: func() any { return writeChanges(c) }},
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
		fatesKey(&c.Given))
}

// fatesKey reads fates that single packets are given.
func fatesKey(into *[]link.Given) key {
	return listKey("fates", "fate", into, func() link.Given { return link.Given{} }, givenKeys, func(*link.Given) error { return nil })
}

func givenKeys(g *link.Given) []key {
	number := int(g.Number)
	packet := wholeKey("packet", &number, 1, 1<<40)
	readPacket := packet.read
	packet.read = func(n ast.Node) error {
		err := readPacket(n)
		g.Number = uint64(number)
		return err
	}
	var dropped string
	if g.Dropped != link.Delivered {
		dropped = g.Dropped.String()
	}
	drop := wordKey("dropped", &dropped, link.Reasons())
	readDrop := drop.read
	drop.read = func(n ast.Node) error {
		err := readDrop(n)
		g.Dropped, _ = link.ParseReason(dropped)
		return err
	}
	delays := g.Delay[:g.Copies]
	after := timesKey("after", &delays)
	readAfter := after.read
	after.read = func(n ast.Node) error {
		err := readAfter(n)
		if len(delays) > len(g.Delay) {
			return errors.New("a packet arrives at most twice")
		}
		g.Copies = copy(g.Delay[:], delays)
		return err
	}
	return []key{packet, drop, after, optional(wholeKey("flipped", &g.Flipped, 0, 1<<20), &g.Flipped), optional(wholeKey("resent", &g.Resent, 0, 100), &g.Resent)}
}

func outageKeys(at, length *time.Duration) []key {
	return []key{durationKey("at", at), durationKey("for", length)}
}

// writeChanges writes of each change what it changes.
func writeChanges(c *link.Course) any {
	var out []any
	before := c.Quality
	for _, change := range c.Changes {
		object := yaml.MapSlice{{Key: "at", Value: change.At.String()}}
		old := qualityKeys(&before)
		for i, k := range qualityKeys(&change.Quality) {
			was, is := old[i].write(), k.write()
			switch {
			case reflect.DeepEqual(was, is):
			case is != nil:
				object = append(object, yaml.MapItem{Key: k.name, Value: is})
			default: // back to nothing, which must be said here
				object = append(object, yaml.MapItem{Key: k.name, Value: nothing[k.name]})
			}
		}
		out = append(out, object)
		before = change.Quality
	}
	if out == nil {
		return nil
	}
	return out
}

// nothing is how a quality is written that is switched off.
var nothing = map[string]any{"latency": "0s", "jitter": "0s", "straggle-by": "0s", "spread": link.Normal.String(), "reorder": false,
	"sticky": 0, "loss": 0, "burst": 0, "duplicate": 0, "corrupt": 0, "straggle": 0, "rate": 0, "queue": 0, "mtu": 0}

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
		object = append(object, writeObject([]key{timesKey("readdress", &l.Moves), timesKey("reset", &l.Resets)})...)
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

// ParseRate reads bits a second: 2Mbit/s, 256kbit/s, or a number.
func ParseRate(text string) (float64, error) { return withUnit(text, "/s", bitUnits) }

// ParseBytes reads a number of bytes: 64kB, 64KiB, or a number.
func ParseBytes(text string) (int, error) {
	v, err := withUnit(text, "", byteUnits)
	return int(v), err
}

type unit struct {
	name   string
	factor float64
}

var bitUnits = []unit{{"Gbit", 1e9}, {"Mbit", 1e6}, {"kbit", 1e3}, {"bit", 1}, {"", 1}}
var byteUnits = []unit{{"MiB", 1 << 20}, {"KiB", 1 << 10}, {"MB", 1e6}, {"kB", 1e3}, {"B", 1}, {"", 1}}

func withUnit(text, per string, units []unit) (float64, error) {
	digits := strings.TrimSuffix(strings.TrimSpace(text), per)
	for _, u := range units {
		if number, ok := strings.CutSuffix(digits, u.name); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
			if err != nil || !(v >= 0 && v*u.factor <= 1e12) {
				break
			}
			return v * u.factor, nil
		}
	}
	if per != "" {
		return 0, fmt.Errorf("%q is no number of bits a second; write it like 2Mbit/s or 256kbit/s", text)
	}
	return 0, fmt.Errorf("%q is no number of bytes; write it like 1200 or 64KiB", text)
}

func rateKey(name string, into *float64) key {
	k := numberKey(name, into)
	k.schema = oneOf(schema{"type": "number", "minimum": 0}, schema{"type": "string"})
	k.read = func(n ast.Node) (err error) {
		text, _ := scalar(n)
		*into, err = ParseRate(text)
		return err
	}
	return k
}

func bytesKey(name string, into *int) key {
	return optional(key{name: name, schema: oneOf(schema{"type": "integer", "minimum": 0}, schema{"type": "string"}), read: func(n ast.Node) (err error) {
		text, _ := scalar(n)
		*into, err = ParseBytes(text)
		return err
	}}, into)
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

// QualityKeys are the names of what a link can say of a direction.
func QualityKeys() (names []string) {
	for _, k := range qualityKeys(&link.Quality{}) {
		names = append(names, k.name)
	}
	return names
}

// SetQuality changes one value of a quality, as a plan would say it.
func SetQuality(q *link.Quality, name, value string) error {
	changed := *q
	keys := qualityKeys(&changed)
	k := find(keys, name)
	if k == nil {
		return fmt.Errorf("there is no %q%s", name, suggestion(name, keys))
	}
	parsed, err := parser.ParseBytes([]byte(strconv.Quote(value)), 0)
	if value == "true" || value == "false" {
		parsed, err = parser.ParseBytes([]byte(value), 0)
	}
	if err != nil || len(parsed.Docs) == 0 {
		return fmt.Errorf("%s: %q cannot be read", name, value)
	}
	if err := k.read(parsed.Docs[0].Body); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if err := changed.Validate(); err != nil {
		return err
	}
	*q = changed
	return nil
}

// shares are the values of a quality that are parts of a whole.
var shares = []string{"loss", "duplicate", "corrupt", "straggle"}

// QualityText writes what is not usual about a quality, like "latency 80ms, loss
// 3 %".
func QualityText(q link.Quality) string {
	var parts []string
	for _, k := range qualityKeys(&q) {
		if v := k.write(); v != nil {
			if share, ok := v.(float64); ok && slices.Contains(shares, k.name) {
				v = fmt.Sprintf("%.4g %%", 100*share)
			}
			if k.name == "rate" {
				v = fmt.Sprintf("%.4g Mbit/s", q.Rate/1e6)
			}
			parts = append(parts, fmt.Sprintf("%s %v", k.name, v))
		}
	}
	if parts == nil {
		return "perfect"
	}
	return strings.Join(parts, ", ")
}

// ReadyLinksJSON are the ready links as JSON, in the words of plans.
func ReadyLinksJSON() ([]byte, error) {
	p := Plan{Links: ReadyLinks}
	text, err := yaml.Marshal(p.writeLinks())
	if err != nil {
		return nil, err
	}
	return yaml.YAMLToJSON(text)
}
