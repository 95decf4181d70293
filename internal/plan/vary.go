package plan

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/random"
)

// Change is a value of a plan that is to be another. Path is one of
//
//   - a word that a link says of a direction, like latency or loss: it is changed on both
//     directions of the links of all bots, as a link's own text would;
//   - bots: how many there are; more are like the last one;
//   - the way to a value in the file, like game.rates.send, links.hill.down.loss or
//     bots.fern.frame. Of a list, an element is called by its name, or counted from 1.
type Change struct{ Path, Value string }

// Vary is the plan with some of its values changed. The seed and the clock stay
// as they are.
func (p *Plan) Vary(changes []Change) (*Plan, error) {
	text, err := p.Brief() // its game's rules are fitted again to what is changed
	if err != nil {
		return nil, err
	}
	var document yaml.MapSlice
	if err := yaml.UnmarshalWithOptions(text, &document, yaml.UseOrderedMap()); err != nil {
		return nil, err
	}
	document = slices.DeleteFunc(document, func(item yaml.MapItem) bool { return item.Key == "draw" })
	var later []Change
	for _, c := range changes {
		if c.Path == "bots" || slices.Contains(link.WordNames(), c.Path) {
			later = append(later, c)
			continue
		}
		path := strings.Split(c.Path, ".")
		document = withReady(document, path)
		changed, err := setPath(document, path, plainValue(c.Value))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.Path, err)
		}
		document = changed.(yaml.MapSlice)
	}
	if text, err = yaml.Marshal(document); err != nil {
		return nil, err
	}
	varied, err := Parse(p.file, text)
	var wrong *Error
	if errors.As(err, &wrong) { // the place is in a text that nobody has written
		return nil, errors.New(wrong.Message)
	} else if err != nil {
		return nil, err
	}
	varied.Seed, varied.Clock = p.Seed, p.Clock
	slices.SortStableFunc(later, func(a, b Change) int { return strings.Compare(orderOf(a), orderOf(b)) })
	for _, c := range later {
		if c.Path == "bots" {
			err = varied.setBots(c.Value)
		} else {
			err = varied.setQuality(c.Path, c.Value)
		}
		if err != nil {
			return nil, err
		}
	}
	return varied, nil
}

// withReady puts the ready link that a path leads to into a document that does not have it
// yet, so that the rest of the link stays as it is.
func withReady(document yaml.MapSlice, path []string) yaml.MapSlice {
	if len(path) < 3 || path[0] != "links" {
		return document
	}
	found, known := link.FindReady(path[1])
	if !known {
		return document
	}
	one := Plan{Links: []link.Pair{found}}
	ready, _ := one.writeLinks().(yaml.MapSlice)
	at := slices.IndexFunc(document, func(item yaml.MapItem) bool { return item.Key == "links" })
	if at < 0 {
		return append(slices.Clone(document), yaml.MapItem{Key: "links", Value: ready})
	}
	own, is := document[at].Value.(yaml.MapSlice)
	if !is || slices.ContainsFunc(own, func(item yaml.MapItem) bool { return item.Key == path[1] }) {
		return document
	}
	document = slices.Clone(document)
	document[at].Value = slices.Concat(own, ready)
	return document
}

func orderOf(c Change) string {
	if c.Path == "bots" { // there must be bots before their links are changed
		return ""
	}
	return c.Path
}

// plainValue is a value as the file would have it: a number, a truth, a list, or a word.
func plainValue(text string) any {
	var v any
	if yaml.Unmarshal([]byte(text), &v) == nil {
		switch v.(type) {
		case uint64, int64, float64, bool, []any:
			return v
		}
	}
	return text
}

// setPath puts a value where a path leads, and makes what is missing on the way.
func setPath(at any, path []string, value any) (any, error) {
	if len(path) == 0 {
		return value, nil
	}
	switch v := at.(type) {
	case nil:
		return setPath(yaml.MapSlice{}, path, value)
	case yaml.MapSlice:
		v = slices.Clone(v)
		for i := range v {
			if fmt.Sprint(v[i].Key) == path[0] {
				changed, err := setPath(v[i].Value, path[1:], value)
				v[i].Value = changed
				return v, err
			}
		}
		changed, err := setPath(nil, path[1:], value)
		return append(v, yaml.MapItem{Key: path[0], Value: changed}), err
	case []any:
		v = slices.Clone(v)
		for i := range v {
			if number, err := strconv.Atoi(path[0]); err == nil && number == i+1 || nameOf(v[i]) == path[0] {
				changed, err := setPath(v[i], path[1:], value)
				v[i] = changed
				return v, err
			}
		}
		return nil, fmt.Errorf("there is no %q in that list", path[0])
	}
	return nil, fmt.Errorf("%v has no %q in it", at, path[0])
}

func nameOf(v any) string {
	object, _ := v.(yaml.MapSlice)
	for _, item := range object {
		if item.Key == "name" {
			return fmt.Sprint(item.Value)
		}
	}
	return ""
}

// setBots makes it that many bots: the first of them, or more like the last.
func (p *Plan) setBots(value string) error {
	n, err := strconv.Atoi(value)
	if err != nil || n < 1 || n > mostBots {
		return fmt.Errorf("bots: %q is not a whole number from 1 to %d", value, mostBots)
	}
	last := p.Bots[len(p.Bots)-1]
	p.Bots = slices.Clone(p.Bots[:min(n, len(p.Bots))])
	for i := len(p.Bots); i < n; i++ {
		b := last
		b.Name = fmt.Sprintf("%s-%d", last.Name, i+1)
		p.Bots = append(p.Bots, b)
	}
	return nil
}

// setQuality changes one value of the links of all bots, both ways and all the time.
func (p *Plan) setQuality(name, value string) error {
	var links []link.Pair
	p.Bots = slices.Clone(p.Bots)
	for i := range p.Bots {
		b := &p.Bots[i]
		l := p.LinkOf(*b)
		l.Name = b.Name
		for _, course := range []*link.Course{&l.Up, &l.Down} {
			course.Changes = slices.Clone(course.Changes)
			qualities := []*link.Conditions{&course.Conditions}
			for i := range course.Changes {
				qualities = append(qualities, &course.Changes[i].Conditions)
			}
			for _, q := range qualities {
				if err := q.Set(name, value); err != nil {
					return err
				}
			}
		}
		links = append(links, l)
	}
	for i, l := range links {
		p.Bots[i].Link = l.Name
	}
	p.Links = links
	return nil
}

// Draw says what of a match is drawn by its seed, so that matches with many seeds differ
// in it.
type Draw struct {
	Roles  bool         // who does what: the steps are dealt among the bots, and with them who joins when
	Links  []string     // on which each bot plays
	Acts   []string     // what each bot does instead of roaming: roam, idle, or chase with a kind
	Values []DrawnValue // any values of the plan
}

// DrawnValue is a value of a plan that is drawn from a list.
type DrawnValue struct {
	Path string // as in Change
	From []string
}

func (d *Draw) any() bool {
	return d.Roles || len(d.Links) > 0 || len(d.Acts) > 0 || len(d.Values) > 0
}

// Drawn draws what the plan leaves to be drawn, by its seed, and says which values came
// out. A plan that leaves nothing is returned as it is.
func (p *Plan) Drawn() (*Plan, []Change, error) {
	d := p.Draw
	if !d.any() {
		return p, nil, nil
	}
	var changes []Change
	for _, v := range d.Values {
		changes = append(changes, Change{v.Path, one(random.Stream(p.Seed, "draw/"+v.Path), v.From)})
	}
	drawn, err := p.Vary(changes)
	if err != nil {
		return nil, nil, fmt.Errorf("draw: %w", err)
	}
	drawn.Draw = Draw{}
	drawn.Bots = slices.Clone(drawn.Bots)
	if d.Roles {
		random.Stream(p.Seed, "draw/roles").Shuffle(len(drawn.Bots), func(i, j int) {
			drawn.Bots[i].Steps, drawn.Bots[j].Steps = drawn.Bots[j].Steps, drawn.Bots[i].Steps
		})
	}
	for i := range drawn.Bots {
		b := &drawn.Bots[i]
		if len(d.Links) > 0 {
			b.Link = one(random.Stream(p.Seed, "draw/link/"+b.Name), d.Links)
		}
		if len(d.Acts) > 0 {
			random := random.Stream(p.Seed, "draw/acts/"+b.Name)
			b.Steps = slices.Clone(b.Steps)
			for j := range b.Steps {
				if s := &b.Steps[j]; s.Do == bot.Roam {
					s.Do, s.Kind, _ = strings.Cut(one(random, d.Acts), " ")
				}
			}
		}
	}
	return drawn, changes, nil
}

func one(random *rand.Rand, list []string) string { return list[random.IntN(len(list))] }

// drawKey reads what is drawn. That the values can be drawn is tried when all is read.
func (p *Plan) drawKey() key {
	d := &p.Draw
	keys := []key{
		flagKey("roles", &d.Roles),
		wordsKey("links", &d.Links),
		wordsKey("acts", &d.Acts),
		{name: "values", schema: schema{"type": "object", "additionalProperties": listOf(schema{})}, read: func(n ast.Node) error {
			mapping, ok := n.(ast.MapNode)
			if !ok {
				return fmt.Errorf("%s is not a mapping from values of the plan to lists", show(n))
			}
			for entries := mapping.MapRange(); entries.Next(); {
				v := DrawnValue{Path: entries.Key().GetToken().Value}
				if err := wordsKey(v.Path, &v.From).read(unwrap(entries.Value())); err != nil {
					return wrong(entries.Value(), "draw: %s: %s", v.Path, err)
				}
				if len(v.From) == 0 {
					return wrong(entries.Value(), "draw: %s: there is nothing to draw from", v.Path)
				}
				d.Values = append(d.Values, v)
			}
			return nil
		}, write: func() any {
			values := map[string][]string{}
			for _, v := range d.Values {
				values[v.Path] = v.From
			}
			var out yaml.MapSlice
			for _, path := range slices.Sorted(maps.Keys(values)) {
				out = append(out, yaml.MapItem{Key: path, Value: values[path]})
			}
			if out == nil {
				return nil
			}
			return out
		}},
	}
	k := nestedKey("draw", keys)
	return then(k, func(n ast.Node) error {
		p.checks = append(p.checks, func() error {
			for _, name := range d.Links {
				if !slices.ContainsFunc(p.allLinks(), func(l link.Pair) bool { return l.Name == name }) {
					return wrong(n, "draw: there is no link %q", name)
				}
			}
			for _, act := range d.Acts {
				do, kind, _ := strings.Cut(act, " ")
				if step := (bot.Step{Do: do, Kind: kind}); !slices.Contains([]string{bot.Roam, bot.Idle, bot.Chase}, do) || step.Validate(nil) != nil {
					return wrong(n, "draw: %q cannot be done instead of roaming; write roam, idle, or chase with a kind, like chase sheep", act)
				}
			}
			return nil
		})
		return nil
	})
}

// checkDraw tries each value that can be drawn.
func (p *Plan) checkDraw() error {
	for _, v := range p.Draw.Values {
		for _, value := range v.From {
			if _, err := p.Vary([]Change{{v.Path, value}}); err != nil {
				return fmt.Errorf("draw: %s: %w", v.Path, err)
			}
		}
	}
	return nil
}
