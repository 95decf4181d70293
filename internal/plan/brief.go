package plan

import (
	"reflect"
	"slices"

	"github.com/goccy/go-yaml"
)

// Brief writes the plan for people: without what it would have anyway. Parse reads the
// same plan from it.
func (p *Plan) Brief() ([]byte, error) {
	usual := Defaults()
	usual.Game.Name, usual.Game.Send, usual.Game.InterestRadius = p.Game.Name, p.Game.Send, p.Game.InterestRadius // the game's rules are adapted to these
	usual.addGameRules()
	usual.Game.Send, usual.Game.InterestRadius = Defaults().Game.Send, 0
	usual.Title, usual.Seed, usual.Duration = "", p.Seed+1, 0 // these are always told
	return yaml.MarshalWithOptions(less(writeObject(p.keys()), writeObject(usual.keys())), yaml.IndentSequence(true))
}

// less is what an object has that the usual one has not.
func less(object, usual yaml.MapSlice) yaml.MapSlice {
	var rest yaml.MapSlice
	for _, item := range object {
		i := slices.IndexFunc(usual, func(u yaml.MapItem) bool { return u.Key == item.Key })
		if i < 0 {
			rest = append(rest, item)
			continue
		}
		if item = lessItem(item, usual[i].Value); item.Value != nil {
			rest = append(rest, item)
		}
	}
	return rest
}

func lessItem(item yaml.MapItem, usual any) yaml.MapItem {
	if reflect.DeepEqual(item.Value, usual) {
		return yaml.MapItem{}
	}
	switch value := item.Value.(type) {
	case yaml.MapSlice:
		if u, ok := usual.(yaml.MapSlice); ok {
			item.Value = less(value, u)
		}
	case []any:
		if u, ok := usual.([]any); ok {
			item.Value = slices.DeleteFunc(slices.Clone(value), func(v any) bool {
				return slices.ContainsFunc(u, func(w any) bool { return reflect.DeepEqual(v, w) })
			})
		}
	}
	return item
}
