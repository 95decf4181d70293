package plan

import (
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/verdict/rulebook"
)

// LoadRules reads a file with nothing but rules in it, under the keys that a
// plan has them under.
func LoadRules(path string) (rulebook.Rules, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return rulebook.Rules{}, err
	}
	rules, err := ParseRules(path, text)
	if err == nil && len(rules.Fields) == 0 {
		err = &Error{File: path, Message: "no watch rules in it; write them under the key watch"}
	}
	return rules, err
}

// WriteRules writes rules as the part of a plan that LoadRules reads them from.
func WriteRules(rules rulebook.Rules) ([]byte, error) {
	return yaml.MarshalWithOptions(writeObject(rulesKeys(&rules)), yaml.IndentSequence(true))
}

// Watched is everything that is watched in a match of the plan: its rules, and what its bots' steps
// say that must come of them.
func (p *Plan) Watched() rulebook.Rules {
	rules := p.Rules
	for _, b := range p.Bots {
		if slices.ContainsFunc(b.Steps, func(s bot.Step) bool { return s.Refuse }) {
			rules.Refused = append(rules.Refused, b.Name)
		}
	}
	return rules
}

// ParseRules reads rules from a text; file is its name in messages.
func ParseRules(file string, text []byte) (rules rulebook.Rules, err error) {
	err = readDocument(file, text, "the rules", rulesKeys(&rules), nil)
	return rules, err
}

// GameRules are the rules that come with a game.
func GameRules(g game.Game) rulebook.Rules {
	rules, err := ParseRules(g.Name()+" rules", g.Rules())
	if err != nil {
		panic(err) // the file is part of the program, and a test reads it
	}
	return rules
}

// addGameRules puts the game's rules behind the plan's, once: a plan as written
// by YAML has them already.
func (p *Plan) addGameRules() {
	played, known := p.Game.Played()
	if !known || p.Build.Given() || p.Clock == Recorded {
		return
	}
	rules := GameRules(played)
	played.Fit(&rules, p.Setup())
	add(&p.Rules.Fields, rules.Fields, func(a, b rulebook.Rule) bool {
		return a.Entities == b.Entities && a.Of == b.Of && a.Label() == b.Label()
	})
	add(&p.Rules.Events, rules.Events, func(a, b rulebook.EventRule) bool { return a.Label() == b.Label() })
	add(&p.Rules.Effects, rules.Effects, func(a, b rulebook.EffectRule) bool { return a.Label() == b.Label() })
	add(&p.Rules.Invariants, rules.Invariants, func(a, b rulebook.InvariantRule) bool { return a.Entities == b.Entities && a.Label() == b.Label() })
	add(&p.Rules.Limits, rules.Limits, func(a, b rulebook.Limit) bool { return a.Measure == b.Measure })
	if p.Rules.News == (rulebook.News{}) {
		p.Rules.News = rules.News
	}
	add(&p.Rules.Sequences, rules.Sequences, func(a, b rulebook.Sequence) bool { return a.Name == b.Name })
}

func add[T any](into *[]T, more []T, same func(a, b T) bool) {
	for _, rule := range more {
		if !slices.ContainsFunc(*into, func(r T) bool { return same(r, rule) }) {
			*into = append(*into, rule)
		}
	}
}

func rulesKeys(into *rulebook.Rules) []key {
	return []key{watchKey(&into.Fields), eventsKey(&into.Events), effectsKey(&into.Effects), worldKey(&into.Invariants), sequencesKey(&into.Sequences), limitsKey(&into.Limits), logsKey(&into.Logs),
		optional(wholeKey("ticks-per-second", &into.TickRate, 1, 10000), &into.TickRate),
		nestedKey("smallest-update", []key{
			optional(wholeKey("up", &into.News.Up, 0, 65535), &into.News.Up),
			optional(wholeKey("down", &into.News.Down, 0, 65535), &into.News.Down),
		})}
}

func watchKey(into *[]rulebook.Rule) key {
	return key{name: "watch", schema: listOf(objectOf(ruleKeys(&rulebook.Rule{}, &ruleText{}))), read: func(n ast.Node) error {
		return readList(n, func(item ast.Node) error {
			r := rulebook.Rule{MaxDelay: rulebook.DefaultMaxDelay, MinDuration: notSaid, Grace: rulebook.DefaultGrace}
			text := ruleTexts(r)
			if err := readObject(item, "watch rule", ruleKeys(&r, &text)); err != nil {
				return err
			}
			text.apply(&r)
			switch {
			case r.MinDuration != notSaid:
			case r.TimeDriven: // a flip that comes half a second late must not pass
				r.MinDuration = rulebook.TimeDrivenDuration
			default:
				r.MinDuration = rulebook.DefaultMinDuration
			}
			if r.SeenBy == rulebook.InRange && r.LeaveRadius == 0 {
				r.LeaveRadius = r.InterestRadius
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

// notSaid is a time that no plan can say.
const notSaid = time.Duration(math.MinInt64)

// ruleText holds the parts of a rule that a plan spells as words.
type ruleText struct{ of, compare, seenBy, role string }

var (
	ofWords      = words(rulebook.Any, rulebook.Own, rulebook.Others)
	compareWords = words(rulebook.Exact, rulebook.Distance, rulebook.Angle)
	roleWords    = words(rulebook.Plain, rulebook.Owner, rulebook.Outcome, rulebook.Sum)
	seenWords    = words(rulebook.Everyone, rulebook.OwnerOnly, rulebook.AllButOwner, rulebook.InRange, rulebook.Nobody)
)

func words[T fmt.Stringer](values ...T) (list []string) {
	for _, v := range values {
		list = append(list, v.String())
	}
	return list
}

func ruleTexts(r rulebook.Rule) ruleText {
	return ruleText{r.Of.String(), r.Compare.String(), r.SeenBy.String(), r.Role.String()}
}

func (t ruleText) apply(r *rulebook.Rule) {
	r.Of = rulebook.Relation(slices.Index(ofWords, t.of))
	r.Compare = rulebook.Compare(slices.Index(compareWords, t.compare))
	r.SeenBy = rulebook.Audience(slices.Index(seenWords, t.seenBy))
	r.Role = rulebook.Role(slices.Index(roleWords, t.role))
}

func ruleKeys(r *rulebook.Rule, text *ruleText) []key {
	return []key{
		textKey("entities", &r.Entities),
		wordKey("of", &text.of, ofWords),
		wordsKey("fields", &r.Fields),
		wordKey("compare", &text.compare, compareWords),
		numberKey("tolerance", &r.Tolerance),
		numberKey("circle", &r.Circle),
		always(durationKey("max-delay", &r.MaxDelay), &r.MaxDelay),
		durationKey("max-ahead", &r.MaxAhead),
		durationKey("resent-within", &r.ResentWithin),
		always(durationKey("min-duration", &r.MinDuration), &r.MinDuration),
		flagKey("time-driven", &r.TimeDriven),
		flagKey("every-value", &r.EveryValue),
		wordKey("role", &text.role, roleWords),
		numberKey("quantum", &r.Quantum),
		wordKey("seen-by", &text.seenBy, seenWords),
		numberKey("interest-radius", &r.InterestRadius),
		numberKey("leave-radius", &r.LeaveRadius),
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
	return then(wordKey(name, &word, words), func(ast.Node) error {
		*into = values[slices.Index(words, word)]
		return nil
	})
}

func always(k key, v *time.Duration) key { // a 0 here is not the default
	k.write = func() any { return v.String() }
	return k
}

func eventsKey(into *[]rulebook.EventRule) key {
	return listKey("events", "event rule", into,
		func() rulebook.EventRule {
			return rulebook.EventRule{MaxDelay: rulebook.DefaultMaxDelay, MinDuration: rulebook.DefaultMinDuration, Grace: rulebook.DefaultGrace}
		},
		eventKeys, func(r *rulebook.EventRule) error { return r.Validate() })
}

func eventKeys(r *rulebook.EventRule) []key {
	return append([]key{
		textKey("event", &r.Event),
		textKey("checkpoint", &r.Checkpoint),
		spelled("seen-by", &r.SeenBy, []rulebook.Audience{rulebook.Everyone, rulebook.OwnerOnly, rulebook.AllButOwner, rulebook.InRange, rulebook.Nobody}, seenWords),
		always(durationKey("max-delay", &r.MaxDelay), &r.MaxDelay),
		durationKey("max-ahead", &r.MaxAhead),
		durationKey("resent-within", &r.ResentWithin),
		always(durationKey("min-duration", &r.MinDuration), &r.MinDuration),
		always(durationKey("grace", &r.Grace), &r.Grace),
		flagKey("ordered", &r.Ordered),
		textKey("not-before", &r.NotBefore),
		dataKey(&r.Data),
		nestedKey("per-player", oftenKeys(&r.PerPlayer)),
		nestedKey("per-sender", oftenKeys(&r.PerSender)),
		nestedKey("per-pair", oftenKeys(&r.PerPair)),
	}, oftenKeys(&r.Told)...)
}

// dataKey reads by how much the data of an event may differ, by key: a number, or any.
func dataKey(into *rulebook.DataRule) key {
	const whatever = "any"
	return key{name: "data", schema: schema{"type": "object", "additionalProperties": schema{"anyOf": []schema{{"type": "number", "minimum": 0}, {"const": whatever}}}}, read: func(n ast.Node) error {
		mapping, ok := n.(ast.MapNode)
		if !ok {
			return fmt.Errorf("%s is not a mapping from keys of the data to tolerances, like {x: 0.1, stamp: any}", show(n))
		}
		*into = rulebook.DataRule{}
		entries, err := entriesOf(mapping)
		for _, e := range entries {
			tolerance := math.Inf(1)
			if text, _ := scalar(unwrap(e.value)); text != whatever {
				var bad error
				if tolerance, bad = number(e.value); bad != nil || !(tolerance >= 0) || math.IsInf(tolerance, 0) {
					return wrong(e.value, "data: %s is no tolerance; write a number of 0 or more, or any", show(e.value))
				}
			}
			(*into)[e.key.GetToken().Value] = tolerance
		}
		return err
	}, write: func() any {
		var out yaml.MapSlice
		for _, name := range slices.Sorted(maps.Keys(*into)) {
			value := any((*into)[name])
			if math.IsInf((*into)[name], 1) {
				value = whatever
			}
			out = append(out, yaml.MapItem{Key: name, Value: value})
		}
		if out == nil {
			return nil
		}
		return out
	}}
}

func effectsKey(into *[]rulebook.EffectRule) key {
	return listKey("effects", "effect rule", into,
		func() rulebook.EffectRule {
			return rulebook.EffectRule{Whose: rulebook.EffectTargets[0], Within: rulebook.DefaultMinDuration}
		},
		func(r *rulebook.EffectRule) []key {
			return []key{
				textKey("event", &r.Event),
				wordKey("whose", &r.Whose, rulebook.EffectTargets),
				textKey("field", &r.Field),
				numberKey("change", &r.Change),
				numberKey("tolerance", &r.Tolerance),
				numberKey("min", &r.Min),
				numberKey("max", &r.Max),
				always(durationKey("within", &r.Within), &r.Within),
			}
		}, func(r *rulebook.EffectRule) error { return r.Validate() })
}

func worldKey(into *[]rulebook.InvariantRule) key {
	return listKey("invariants", "invariant", into,
		func() rulebook.InvariantRule { return rulebook.InvariantRule{MinDuration: rulebook.DefaultMinDuration} },
		invariantKeys, func(r *rulebook.InvariantRule) error { return r.Validate() })
}

func invariantKeys(r *rulebook.InvariantRule) []key {
	invariants := make([]string, len(rulebook.Invariants))
	for i, invariant := range rulebook.Invariants {
		invariants[i] = string(invariant)
	}
	return []key{
		spelled("invariant", &r.Invariant, rulebook.Invariants, invariants),
		textKey("entities", &r.Entities),
		wordsKey("fields", &r.Fields),
		textKey("when", &r.When),
		numberKey("min", &r.Min),
		numberKey("max", &r.Max),
		always(durationKey("min-duration", &r.MinDuration), &r.MinDuration),
	}
}

func sequencesKey(into *[]rulebook.Sequence) key {
	return listKey("sequences", "sequence", into,
		func() rulebook.Sequence { return rulebook.Sequence{By: "by"} },
		sequenceKeys, func(s *rulebook.Sequence) error { return s.Validate() })
}

func sequenceKeys(s *rulebook.Sequence) []key {
	return append([]key{
		textKey("name", &s.Name),
		wordKey("by", &s.By, []string{"by", "id", "entity"}),
		textKey("unless", &s.Unless),
		listKey("steps", "step of a sequence", &s.Steps,
			func() rulebook.SequenceStep { return rulebook.SequenceStep{In: rulebook.InServer} },
			func(step *rulebook.SequenceStep) []key {
				return []key{
					textKey("checkpoint", &step.Checkpoint),
					textKey("event", &step.Event),
					wordKey("in", &step.In, rulebook.SequenceViews),
					durationKey("within", &step.Within),
				}
			}, func(*rulebook.SequenceStep) error { return nil }),
	}, oftenKeys(&s.Begun)...)
}

func logsKey(into *[]rulebook.LogRule) key {
	return listKey("logs", "log rule", into,
		func() rulebook.LogRule { return rulebook.LogRule{} },
		func(r *rulebook.LogRule) []key {
			return append([]key{textKey("match", &r.Match), textKey("in", &r.In), textKey("for-each", &r.Each),
				nestedKey("after", []key{textKey("line", &r.After.Line), textKey("event", &r.After.Event), textKey("checkpoint", &r.After.Checkpoint),
					wordKey("joined", &r.After.Joined, []string{rulebook.Itself, rulebook.Anybody}), textKey("in", &r.After.In)}),
				durationKey("within", &r.Within)}, oftenKeys(&r.Lines)...)
		}, func(r *rulebook.LogRule) error {
			if r.After.Given() && !r.Lines.Asks() {
				r.Lines.Min = 1
			}
			return r.Validate()
		})
}

// oftenKeys are how often something must happen: at least, at most, or exactly.
func oftenKeys(into *rulebook.Often) []key {
	const most = 1_000_000_000
	given := "" // exactly, or one of the other two
	count := func(name string, value func() *int, set func(n int)) key {
		number := 0
		k := wholeKey(name, &number, 0, most)
		read := k.read
		k.read = func(n ast.Node) error {
			if given != "" && (name == "exactly" || given == "exactly") {
				return fmt.Errorf("write exactly alone, or at-least and at-most")
			}
			given = name
			err := read(n)
			set(number)
			return err
		}
		k.write = func() any {
			if v := value(); v != nil {
				return *v
			}
			return nil
		}
		return k
	}
	only := func(is bool, v *int) *int {
		if is {
			return v
		}
		return nil
	}
	return []key{
		count("at-least", func() *int { return only(into.Min > 0 && !into.Exact(), &into.Min) }, func(n int) { into.Min = n }),
		count("at-most", func() *int { return only(into.Capped && !into.Exact(), &into.Max) }, func(n int) { into.Max, into.Capped = n, true }),
		count("exactly", func() *int { return only(into.Exact(), &into.Min) }, func(n int) { *into = rulebook.Often{Min: n, Max: n, Capped: true} }),
	}
}

// limitsKey reads a mapping from measures to the most they may reach.
func limitsKey(into *[]rulebook.Limit) key {
	keys := func() (list []key) {
		for _, name := range rulebook.Measures {
			list = append(list, key{name: name, schema: schema{"type": "number"}, read: func(n ast.Node) error {
				most, err := number(n)
				*into = append(*into, rulebook.Limit{Measure: name, Max: most})
				return err
			}, write: func() any {
				for _, l := range *into {
					if l.Measure == name {
						return l.Max
					}
				}
				return nil
			}})
		}
		return list
	}
	return nestedKey("limits", keys())
}
