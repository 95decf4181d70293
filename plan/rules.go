package plan

import (
	_ "embed"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/goccy/go-yaml/ast"

	"zitherwheel/watch"
)

//go:embed hillfold.yaml
var hillfoldRules []byte

// LoadRules reads a file with nothing but rules in it, under the keys that a
// plan has them under.
func LoadRules(path string) (watch.Rules, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return watch.Rules{}, err
	}
	rules, err := parseRules(path, text)
	if err == nil && len(rules.Fields) == 0 {
		err = &Error{File: path, Message: "no watch rules in it; write them under the key watch"}
	}
	return rules, err
}

func parseRules(file string, text []byte) (rules watch.Rules, err error) {
	err = readDocument(file, text, "the rules", rulesKeys(&rules), nil)
	return rules, err
}

// HillfoldRules are the rules that come with the demo game.
func HillfoldRules() watch.Rules {
	rules, err := parseRules("hillfold.yaml", hillfoldRules)
	if err != nil {
		panic(err) // the file is part of the program, and a test reads it
	}
	return rules
}

// addGameRules puts the game's rules behind the plan's, once: a plan as written
// by YAML has them already.
func (p *Plan) addGameRules() {
	game := HillfoldRules()
	p.adapt(&game)
	add(&p.Rules.Fields, game.Fields, func(a, b watch.Rule) bool {
		return a.Entities == b.Entities && a.Of == b.Of && a.Label() == b.Label()
	})
	add(&p.Rules.Events, game.Events, func(a, b watch.EventRule) bool { return a.Event == b.Event })
	add(&p.Rules.World, game.World, func(a, b watch.WorldRule) bool { return a.Entities == b.Entities && a.Label() == b.Label() })
	add(&p.Rules.Limits, game.Limits, func(a, b watch.Limit) bool { return a.Measure == b.Measure })
	if p.Rules.News == (watch.News{}) {
		p.Rules.News = game.News
	}
	add(&p.Rules.Sequences, game.Sequences, func(a, b watch.Sequence) bool { return a.Name == b.Name })
}

func add[T any](into *[]T, more []T, same func(a, b T) bool) {
	for _, rule := range more {
		if !slices.ContainsFunc(*into, func(r T) bool { return same(r, rule) }) {
			*into = append(*into, rule)
		}
	}
}

// leaveAt is where the demo game takes things out of a player's reach, as a
// multiple of its radius.
const leaveAt = 1.25

// adapt fits the game's rules to its rates and its radius. What is sent seldom
// is shown late, and what is far from a player is not sent to him.
func (p *Plan) adapt(rules *watch.Rules) {
	usual := time.Second / time.Duration(Defaults().Game.Send)
	seldom := time.Second/time.Duration(p.Game.Send) - usual
	for i := range rules.Events {
		if r := &rules.Events[i]; seldom > 0 {
			r.Lag, r.Settle = r.Lag+2*seldom, r.Settle+seldom
		}
	}
	for i := range rules.Fields {
		r := &rules.Fields[i]
		if r.Computed || !r.Judged() {
			continue
		}
		if seldom > 0 {
			r.Lag, r.Settle, r.Grace = r.Lag+2*seldom, r.Settle+seldom, r.Grace+2*seldom
		}
		if p.Game.Radius > 0 && r.Of != watch.Own && slices.Contains(reachable, r.Entities) {
			r.SeenBy, r.Radius, r.Leave, r.Place = watch.Near, p.Game.Radius, p.Game.Radius*leaveAt, []string{"x", "y"}
		}
	}
}

// reachable are the entities of the demo game that are sent by nearness.
var reachable = []string{"dog/*", "sheep/*", "gate/*"}

func rulesKeys(into *watch.Rules) []key {
	return []key{watchKey(&into.Fields), eventsKey(&into.Events), worldKey(&into.World), sequencesKey(&into.Sequences), limitsKey(&into.Limits),
		nestedKey("least-news", []key{
			optional(wholeKey("up", &into.News.Up, 0, 65535), &into.News.Up),
			optional(wholeKey("down", &into.News.Down, 0, 65535), &into.News.Down),
		})}
}

func watchKey(into *[]watch.Rule) key {
	return key{name: "watch", schema: listOf(objectOf(ruleKeys(&watch.Rule{}, &ruleText{}))), read: func(n ast.Node) error {
		return readList(n, func(item ast.Node) error {
			r := watch.Rule{Lag: watch.DefaultLag, Settle: watch.DefaultSettle, Grace: watch.DefaultGrace}
			text := ruleTexts(r)
			if err := readObject(item, "watch rule", ruleKeys(&r, &text)); err != nil {
				return err
			}
			text.apply(&r)
			if r.SeenBy == watch.Near && r.Leave == 0 {
				r.Leave = r.Radius
			}
			if err := r.Validate(); err != nil {
				return wrong(item, "watch rule: %s", err)
			}
			*into = append(*into, r)
			return nil
		})
	}, write: func() any {
		out := make([]any, len(*into))
		for i := range *into {
			text := ruleTexts((*into)[i])
			out[i] = writeObject(ruleKeys(&(*into)[i], &text))
		}
		return out
	}}
}

// ruleText holds the parts of a rule that a plan spells as words.
type ruleText struct{ of, compare, seenBy, role string }

var (
	ofWords      = words(watch.Any, watch.Own, watch.Others)
	compareWords = words(watch.Exact, watch.Distance, watch.Angle)
	roleWords    = words(watch.Plain, watch.Owner, watch.Outcome)
	seenWords    = words(watch.Everyone, watch.OwnerOnly, watch.AllButOwner, watch.Near, watch.Nobody)
)

func words[T fmt.Stringer](values ...T) (list []string) {
	for _, v := range values {
		list = append(list, v.String())
	}
	return list
}

func ruleTexts(r watch.Rule) ruleText {
	return ruleText{r.Of.String(), r.Compare.String(), r.SeenBy.String(), r.Role.String()}
}

func (t ruleText) apply(r *watch.Rule) {
	r.Of = watch.Relation(slices.Index(ofWords, t.of))
	r.Compare = watch.Compare(slices.Index(compareWords, t.compare))
	r.SeenBy = watch.Audience(slices.Index(seenWords, t.seenBy))
	r.Role = watch.Role(slices.Index(roleWords, t.role))
}

func ruleKeys(r *watch.Rule, text *ruleText) []key {
	return []key{
		textKey("entities", &r.Entities),
		wordKey("of", &text.of, ofWords),
		wordsKey("fields", &r.Fields),
		wordKey("compare", &text.compare, compareWords),
		numberKey("within", &r.Within),
		numberKey("circle", &r.Circle),
		always(durationKey("lag", &r.Lag), &r.Lag),
		durationKey("lead", &r.Lead),
		always(durationKey("settle", &r.Settle), &r.Settle),
		flagKey("computed", &r.Computed),
		flagKey("every", &r.Every),
		wordKey("role", &text.role, roleWords),
		numberKey("quantum", &r.Quantum),
		wordKey("seen-by", &text.seenBy, seenWords),
		numberKey("radius", &r.Radius),
		numberKey("leave", &r.Leave),
		wordsKey("place", &r.Place),
		always(durationKey("grace", &r.Grace), &r.Grace),
	}
}

// listKey reads and writes a list of objects.
func listKey[T any](name, what string, into *[]T, fresh func() T, keys func(*T) []key, validate func(*T) error) key {
	return key{name: name, schema: listOf(objectOf(keys(new(T)))), read: func(n ast.Node) error {
		return readList(n, func(item ast.Node) error {
			one := fresh()
			if err := readObject(item, what, keys(&one)); err != nil {
				return err
			}
			if err := validate(&one); err != nil {
				return wrong(item, "%s: %s", what, err)
			}
			*into = append(*into, one)
			return nil
		})
	}, write: func() any {
		out := make([]any, len(*into))
		for i := range *into {
			out[i] = writeObject(keys(&(*into)[i]))
		}
		if len(out) == 0 {
			return nil
		}
		return out
	}}
}

// spelled is a key for a value that a plan spells as one of several words.
func spelled[T comparable](name string, into *T, values []T, words []string) key {
	word := words[max(0, slices.Index(values, *into))]
	k := wordKey(name, &word, words)
	read := k.read
	k.read = func(n ast.Node) error {
		err := read(n)
		if i := slices.Index(words, word); err == nil && i >= 0 {
			*into = values[i]
		}
		return err
	}
	return k
}

func always(k key, v *time.Duration) key { // a 0 here is not the default
	k.write = func() any { return v.String() }
	return k
}

func eventsKey(into *[]watch.EventRule) key {
	return listKey("events", "event rule", into,
		func() watch.EventRule {
			return watch.EventRule{Lag: watch.DefaultLag, Settle: watch.DefaultSettle, Grace: watch.DefaultGrace}
		},
		func(r *watch.EventRule) []key {
			return []key{
				textKey("event", &r.Event),
				spelled("seen-by", &r.SeenBy, []watch.Audience{watch.Everyone, watch.OwnerOnly, watch.AllButOwner, watch.Near, watch.Nobody}, seenWords),
				always(durationKey("lag", &r.Lag), &r.Lag),
				durationKey("lead", &r.Lead),
				always(durationKey("settle", &r.Settle), &r.Settle),
				always(durationKey("grace", &r.Grace), &r.Grace),
				flagKey("ordered", &r.Ordered),
			}
		}, func(r *watch.EventRule) error { return r.Validate() })
}

func worldKey(into *[]watch.WorldRule) key {
	laws := make([]string, len(watch.Laws))
	for i, law := range watch.Laws {
		laws[i] = string(law)
	}
	return listKey("world", "world rule", into,
		func() watch.WorldRule { return watch.WorldRule{Settle: watch.DefaultSettle} },
		func(r *watch.WorldRule) []key {
			return []key{
				spelled("law", &r.Law, watch.Laws, laws),
				textKey("entities", &r.Entities),
				wordsKey("fields", &r.Fields),
				textKey("when", &r.When),
				numberKey("least", &r.Least),
				numberKey("most", &r.Most),
				always(durationKey("settle", &r.Settle), &r.Settle),
			}
		}, func(r *watch.WorldRule) error { return r.Validate() })
}

func sequencesKey(into *[]watch.Sequence) key {
	return listKey("sequences", "sequence", into,
		func() watch.Sequence { return watch.Sequence{By: "by"} },
		func(s *watch.Sequence) []key {
			return []key{
				textKey("name", &s.Name),
				wordKey("by", &s.By, []string{"by", "id", "entity"}),
				textKey("unless", &s.Unless),
				listKey("steps", "step of a sequence", &s.Steps,
					func() watch.SequenceStep { return watch.SequenceStep{In: "server"} },
					func(step *watch.SequenceStep) []key {
						return []key{
							textKey("mark", &step.Mark),
							textKey("event", &step.Event),
							wordKey("in", &step.In, watch.SequenceViews),
							durationKey("within", &step.Within),
						}
					}, func(*watch.SequenceStep) error { return nil }),
			}
		}, func(s *watch.Sequence) error { return s.Validate() })
}

// limitsKey reads a mapping from measures to the most they may reach.
func limitsKey(into *[]watch.Limit) key {
	keys := func() (list []key) {
		for _, name := range watch.Measures {
			list = append(list, key{name: name, schema: schema{"type": "number"}, read: func(n ast.Node) error {
				most, err := number(n)
				*into = append(*into, watch.Limit{Measure: name, Most: most})
				return err
			}, write: func() any {
				for _, l := range *into {
					if l.Measure == name {
						return l.Most
					}
				}
				return nil
			}})
		}
		return list
	}
	return nestedKey("limits", keys())
}
