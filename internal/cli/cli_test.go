package cli

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/plan"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"zwheel": func() { os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr)) }})
}

// The scripts in testdata run the program as a user would, each in a folder of
// its own.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		Setup: func(env *testscript.Env) error {
			examples, err := filepath.Abs("../../examples")
			env.Setenv("EXAMPLES", examples)
			return err
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"exits": exits, "await": await, "cut": cut, "fill": fill,
		},
	})
}

// exits CODE ARGS... runs zwheel and expects that exit code.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	code := 0
	var failure *exec.ExitError
	if err := ts.Exec("zwheel", args[1:]...); errors.As(err, &failure) {
		code = failure.ExitCode()
	} else {
		ts.Check(err)
	}
	if code != want || neg {
		ts.Fatalf("zwheel %v exits with %d, not %d", args[1:], code, want)
	}
}

// fill FILE puts the path of the examples in place of EXAMPLES in a file.
func fill(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[0])
	text, err := os.ReadFile(path)
	ts.Check(err)
	ts.Check(os.WriteFile(path, []byte(strings.ReplaceAll(string(text), "EXAMPLES", ts.Getenv("EXAMPLES"))), 0o600))
}

// await FILES... waits until there is something in each of the files.
func await(ts *testscript.TestScript, _ bool, args []string) {
	for _, file := range args {
		written := func() bool {
			info, err := os.Stat(ts.MkAbs(file))
			return err == nil && info.Size() > 0
		}
		for range 1000 {
			if written() {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		if !written() {
			ts.Fatalf("nothing was ever written to %s", file)
		}
	}
}

// cut FILE BYTES takes so many bytes off the end of a file.
func cut(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[0])
	info, err := os.Stat(path)
	ts.Check(err)
	n, err := strconv.ParseInt(args[1], 10, 64)
	ts.Check(err)
	ts.Check(os.Truncate(path, info.Size()-n))
}

func TestFoldersAreNeverUsedTwice(t *testing.T) {
	t.Chdir(t.TempDir())
	p := &plan.Plan{Title: "Four dogs, on the Moor!", Seed: 7}
	first := freeFolder("runs", p)
	assert.Equal(t, filepath.Join("runs", "four-dogs-on-the-moor-seed7"), first)
	require.NoError(t, os.MkdirAll(first, 0o755))
	assert.Equal(t, first+"-2", freeFolder("runs", p))
}
