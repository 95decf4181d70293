package plan

import "fmt"

// renamed are keys that were called otherwise once, and words for values of keys.
var renamed = map[string]string{
	"lag": "max-delay", "lead": "max-ahead", "within": "tolerance", "settle": "min-duration", "computed": "time-driven", "every": "every-value",
	"radius": "interest-radius", "leave": "leave-radius", "near": "in-range",
	"world": "invariants", "law": "invariant", "least": "min", "most": "max",
	"length": "duration", "frame": "fps", "places": "max-players", "sheep": "population", "hertz": "control-rate", "stays": "keep-running",
	"readdress": "nat-rebind", "fates": "outcomes", "most-entities": "max-entities", "least-news": "smallest-update", "mark": "checkpoint", "jerkiness": "unevenness",
}

// called says what an old name is called now, if that is one of the names there are.
func called(name string, names []string) (text string, ok bool) {
	now := renamed[name]
	for _, n := range names {
		if n == now {
			return fmt.Sprintf("; it is called %s now", now), true
		}
	}
	return "", false
}
