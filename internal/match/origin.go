package match

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"

	"zitherwheel/internal/match/process"
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
			if sum, ok := sumOf(path); ok {
				origin.Programs[path] = sum
			}
		}
	}
	return origin
}

// sumOf is the sum of a regular file; of anything else there is none.
func sumOf(path string) (string, bool) {
	if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
		return "", false
	}
	file, err := os.Open(path)
	if err != nil {
		return "", false
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", false
	}
	return hex.EncodeToString(sum.Sum(nil)), true
}
