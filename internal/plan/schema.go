package plan

import (
	"encoding/json"

	"zitherwheel/internal/network/link"
)

// schema is a JSON Schema, or a part of one (draft 2020-12).
type schema map[string]any

const (
	durationPattern = `^([0-9]+(\.[0-9]+)?(ns|us|µs|ms|s|m|h))+$`
	sharePattern    = `^[0-9]+(\.[0-9]+)? *%?$`
)

// Schema is the JSON Schema of plans, for editors. It comes from the same tables of
// keys by which plans are read, so it knows every key and no other; what depends on
// other parts of a plan it cannot say.
func Schema() ([]byte, error) {
	p := Defaults()
	s := objectOf(p.keys())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "zwheel test plan"
	s["required"] = []string{"bots"}
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

func objectOf(keys []key) schema {
	properties := schema{}
	for _, k := range keys {
		if properties[k.name] = k.schema; k.schema == nil {
			properties[k.name] = schema{}
		}
	}
	return schema{"type": "object", "properties": properties, "additionalProperties": false}
}

func listOf(item schema) schema { return schema{"type": "array", "items": item} }

func oneOf(list ...schema) schema { return schema{"anyOf": list} }

func linksSchema() schema {
	direction := objectOf(courseKeys(&link.Course{}))
	one := objectOf(linkKeys(&courseReader{}, &link.Pair{}))
	one["properties"].(schema)["up"], one["properties"].(schema)["down"] = direction, direction
	return schema{"type": "object", "additionalProperties": one}
}

func (p *Plan) botsSchema() schema {
	count := 0
	return listOf(objectOf(append((&Bot{}).keys(p), wholeKey("count", &count, 1, mostBots))))
}
