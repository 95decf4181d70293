package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"zitherwheel/internal/plan"
)

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// longestSlug bounds how much of a title becomes part of a folder's name.
const longestSlug = 60

// freeFolder names a folder below parent that does not exist yet.
func freeFolder(parent string, p *plan.Plan) (string, error) {
	slug := notInNames.ReplaceAllString(strings.ToLower(p.Title), "-")
	slug = strings.Trim(slug[:min(len(slug), longestSlug)], "-")
	if slug == "" {
		slug = "match"
	}
	path, err := freePath(filepath.Join(parent, fmt.Sprintf("%s-seed%d", slug, p.Seed)))
	if err != nil {
		return "", failed(fmt.Errorf("%w; name a folder with --out", err))
	}
	return path, nil
}

// freePath is the path, or the first with a number behind it that does not exist yet.
func freePath(base string) (string, error) {
	const most = 100_000
	path := base
	for i := 2; i <= most; i++ {
		switch _, err := os.Lstat(path); {
		case errors.Is(err, fs.ErrNotExist):
			return path, nil
		case err != nil:
			return "", fmt.Errorf("no free name for %s can be found: %w", base, err)
		}
		path = fmt.Sprintf("%s-%d", base, i)
	}
	return "", fmt.Errorf("there are %d of %s already", most, base)
}
