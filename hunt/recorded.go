package hunt

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"zitherwheel/judge"
	"zitherwheel/measure"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/stage"
)

// Recorded makes a match of a run that was recorded, as if it had been hunted, and
// returns its measures by view too.
func Recorded(run *runfolder.Run) (Match, *measure.Measures, error) {
	p, err := plan.Load(run.PlanPath())
	if err != nil {
		return Match{}, nil, err
	}
	r := &stage.Result{Ended: run.About.Ended, Why: run.About.Why, Verdict: &judge.Verdict{}, Measures: &measure.Measures{}}
	for path, into := range map[string]any{run.FindingsPath(): r.Verdict, filepath.Join(run.Path, "measures.json"): r.Measures} {
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return Match{}, nil, fmt.Errorf("%s is not there, so the run was not judged; judge it with zwheel check", path)
		}
		if err == nil {
			err = json.Unmarshal(text, into)
		}
		if err != nil {
			return Match{}, nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return matchOf(p, r), r.Measures, nil
}
