package docs

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var coded = regexp.MustCompile("`([^`]+)`")

// oldWords are the old words of docs/words.md: those of keys and kinds as code, those of
// prose as they are.
func oldWords(t *testing.T) (code, prose []string) {
	t.Helper()
	text, err := os.ReadFile("../../docs/words.md")
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 4 {
			continue
		}
		old := strings.TrimSpace(cells[3])
		if found := coded.FindAllStringSubmatch(old, -1); found != nil {
			for _, m := range found {
				code = append(code, m[1])
			}
		} else if old != "" && old != "old" && !strings.HasPrefix(old, "-") {
			prose = append(prose, old)
		}
	}
	return code, prose
}

// common are old words that have another meaning too, in which documents may use them.
var common = []string{"thing", "picture", "mistake", "trial", "quality", "within", "leave"}

func TestNoDocumentUsesAnOldWord(t *testing.T) {
	code, prose := oldWords(t)
	require.Greater(t, len(code), 25)
	require.Greater(t, len(prose), 5)
	var documents []string
	for _, pattern := range []string{"../../README.md", "../../docs/*.md", "../../emitters/*.md"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		documents = append(documents, found...)
	}
	for _, path := range documents {
		if filepath.Base(path) == "words.md" {
			continue
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, word := range code {
			if !slices.Contains(common, word) {
				assert.NotContains(t, string(text), "`"+word+"`", "%s uses an old word", path)
				assert.NotRegexp(t, `(?m)[{ ]`+regexp.QuoteMeta(word)+`: [\[{\d]`, string(text), "%s uses an old key", path)
			}
		}
		for _, word := range prose {
			if !slices.Contains(common, word) {
				assert.NotRegexp(t, `\b`+regexp.QuoteMeta(word)+`s?\b`, string(text), "%s uses an old word", path)
			}
		}
	}
}
