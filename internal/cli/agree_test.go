package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// What run says of a match, check, show and report say of its folder: for every example,
// on both clocks, however clocks are brought together.
func TestEveryReaderSaysTheSameOfARun(t *testing.T) {
	if testing.Short() {
		t.Skip("plays every example")
	}
	paths, err := filepath.Glob("../../examples/*.yaml")
	require.NoError(t, err)
	pond, err := filepath.Glob("../../examples/*/*.yaml")
	require.NoError(t, err)
	supervised := match.Machine(context.Background())[0].Has
	for _, path := range append(paths, pond...) {
		loaded, err := plan.Load(path)
		require.NoError(t, err)
		var cases [][2]string
		for _, align := range []string{"shared", "tick", "estimated"} {
			if loaded.Clock == plan.Virtual {
				cases = append(cases, [2]string{plan.Virtual, align})
			}
		}
		if loaded.Clock == plan.Wall || strings.HasSuffix(path, "healthy.yaml") {
			cases = append(cases, [2]string{plan.Wall, "shared"})
		}
		needs := "node"
		switch {
		case strings.HasSuffix(path, "millpond.yaml"):
			cases = append(cases, [2]string{plan.Wall, "estimated"})
		case strings.Contains(path, "quayside"):
			needs = "python3"
		case strings.HasSuffix(path, "stonewain.yaml"):
			needs, cases = "python3", [][2]string{{plan.Wall, "tick"}}
		}
		if loaded.Build.Given() && supervised {
			cases = append(cases, [2]string{plan.Virtual, cases[0][1]})
		}
		for _, c := range cases {
			if _, err := exec.LookPath(needs); (c[0] == plan.Wall || loaded.Build.Given()) && err != nil {
				continue
			}
			t.Run(fmt.Sprintf("%s %s %s", filepath.Base(path), c[0], c[1]), func(t *testing.T) {
				t.Parallel()
				sameOf(t, path, c[0], c[1])
			})
		}
	}
}

func sameOf(t *testing.T, path, clock, align string) {
	dir := t.TempDir()
	p, err := plan.Load(path)
	require.NoError(t, err)
	p.Clock, p.Align = clock, align
	if clock == plan.Wall {
		p.Duration = min(p.Duration, 5e9)
	}
	text, err := p.SeenFrom(dir).YAML()
	require.NoError(t, err)
	planPath, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(planPath, text, 0o600))
	say := func(args ...string) (string, int) {
		var out, messages bytes.Buffer
		code := Main(args, &out, &messages)
		return out.String(), code
	}
	ran, code := say("run", planPath, "--out", folder, "--json")
	if _, err := os.Stat(filepath.Join(folder, "findings.json")); err != nil {
		t.Fatalf("no verdict, exit code %d: %s", code, ran)
	}
	var verdict judge.Verdict
	require.NoError(t, json.Unmarshal([]byte(ran), &verdict))
	checked, again := say("check", folder, "--json")
	if verdict.Comparisons > 0 || verdict.Outcome == judge.OutOfSync || verdict.Outcome.Passed() {
		assert.Equal(t, ran, checked)
	} else {
		assert.Equal(t, exitFailed, again)
	}
	assert.Equal(t, code, again)
	shown, _ := say("show", folder, "--json")
	assert.JSONEq(t, ran, shown)
	reported, _ := say("report", folder, "--markdown", filepath.Join(dir, "report.md"), "--junit", filepath.Join(dir, "junit.xml"))
	markdown, err := os.ReadFile(filepath.Join(dir, "report.md"))
	require.NoError(t, err, reported)
	assert.Contains(t, string(markdown), strings.ToUpper(string(verdict.Outcome)))
	page, err := os.ReadFile(filepath.Join(folder, "report.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), `class="verdict `+strings.ReplaceAll(string(verdict.Outcome), " ", "-")+`"`)
	junit, err := os.ReadFile(filepath.Join(dir, "junit.xml"))
	require.NoError(t, err)
	// A pass in one is a pass in all.
	passed := strings.Contains(string(junit), `failures="0" errors="0"`)
	assert.Equal(t, code == exitInSync, passed, "%s", junit)
}
