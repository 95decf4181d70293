package internal

import (
	"os/exec"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the rooms from the top of the house to its ground. A package may import
// those of its own room, and those of floors below; docs/architecture.md draws it.
var floors = [][]string{
	{"cli", "docs"},
	{"output"},
	{"cluster"},
	{"campaign"},
	{"match"},
	{"review"},
	{"plan"},
	{"demo"},
	{"bot"},
	{"game"},
	{"verdict"},
	{"run"},
	{"network"},
	{"trace", "control"},
	{"random", "schedule", "lines", "atomicfile", "pack", "version"},
}

func floorOf(room string) int {
	return slices.IndexFunc(floors, func(rooms []string) bool { return slices.Contains(rooms, room) })
}

// imports are the packages of this module that each of them imports, by their path below
// internal, and what each imports of others.
func imports(t *testing.T) (own, others map[string][]string) {
	t.Helper()
	return listed(t, `{{join .Imports " "}}`)
}

func listed(t *testing.T, what string) (own, others map[string][]string) {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} "+what, "./...").Output()
	require.NoError(t, err)
	own, others = map[string][]string{}, map[string][]string{}
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		from := inside(words[0])
		for _, to := range words[1:] {
			if strings.HasPrefix(to, "zitherwheel/internal/") {
				own[from] = append(own[from], inside(to))
			} else {
				others[from] = append(others[from], to)
			}
		}
	}
	return own, others
}

func inside(importPath string) string { return strings.TrimPrefix(importPath, "zitherwheel/internal/") }

func room(pkg string) string { first, _, _ := strings.Cut(pkg, "/"); return first }

func TestImportsPointDown(t *testing.T) {
	own, _ := imports(t)
	require.NotEmpty(t, own)
	for from, list := range own {
		if from == "zitherwheel/internal" {
			continue
		}
		require.GreaterOrEqual(t, floorOf(room(from)), 0, "%s is in no room of the list", from)
		for _, to := range list {
			if room(from) != room(to) {
				assert.Less(t, floorOf(room(from)), floorOf(room(to)), "%s imports %s, which is not below it", from, to)
			}
		}
	}
}

// A test may have a match played for what it needs of a recording. Further up than that none
// reaches.
func TestTestsReachNoHigherThanMatch(t *testing.T) {
	own, _ := listed(t, `{{join .TestImports " "}} {{join .XTestImports " "}}`)
	require.NotEmpty(t, own)
	for from, list := range own {
		for _, to := range list {
			if room(from) != room(to) && floorOf(room(to)) < floorOf("match") {
				assert.Less(t, floorOf(room(from)), floorOf(room(to)), "a test of %s imports %s", from, to)
			}
		}
	}
}

// The core computes; it prints nothing, asks nobody for the time and reads no plan.
func TestTheCoreHasNoInterface(t *testing.T) {
	own, others := imports(t)
	for from := range others {
		if room(from) != "verdict" && from != "network/link" {
			continue
		}
		for _, to := range reached(own, from) {
			assert.NotContains(t, []string{"plan", "cli", "output", "match", "demo", "game"}, room(to), "%s reaches %s", from, to)
		}
		for _, to := range others[from] {
			assert.NotContains(t, []string{"os", "os/exec", "net", "log", "flag"}, to, "%s imports %s", from, to)
			assert.False(t, strings.Contains(path.Dir(to), "charm") || strings.Contains(to, "cobra") || strings.Contains(to, "yaml"), "%s imports %s", from, to)
		}
	}
}

// reached is all that a package imports, and what that imports.
func reached(own map[string][]string, from string) (all []string) {
	for _, to := range own[from] {
		if !slices.Contains(all, to) {
			all = append(append(all, to), reached(own, to)...)
		}
	}
	return all
}
