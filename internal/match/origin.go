package match

import (
	"os"
	"path/filepath"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/pack"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
)

// OriginOf is the build of a plan as it is now: where it is, and the sums of its programs and of the scripts that their
// commands name. A plan whose matches are played in this process has none.
func OriginOf(p *plan.Plan) *run.Origin {
	if !p.ByPrograms() {
		return nil
	}
	b := p.ToBringUp()
	origin := &run.Origin{Folder: b.Folder, Programs: map[string]string{}}
	for _, one := range []plan.Program{b.Server, b.Client, b.Host} {
		for i, word := range one.Run {
			path := word
			if i == 0 {
				found, err := process.Find(word, b.Folder)
				if err != nil {
					continue // whoever starts it says so
				}
				path = found
			} else if !filepath.IsAbs(path) {
				path = filepath.Join(b.Folder, path)
			}
			path = filepath.Clean(path)
			if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
				continue // a word that names no file
			}
			if sum, _, err := pack.FileSum(path); err == nil {
				origin.Programs[path] = sum
			}
		}
	}
	return origin
}
