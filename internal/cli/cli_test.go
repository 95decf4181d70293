package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
)

func TestMain(m *testing.M) {
	// A match that is played here starts this program again, as its guard and as the demo
	// game's programs: without this each would run all tests.
	if len(os.Args) > 1 && (os.Args[1] == guardName || os.Args[1] == "hillfold" || os.Args[1] == match.StandInName || os.Getenv("CLI_TEST_PROGRAM") != "") {
		os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr))
	}
	testscript.Main(m, map[string]func(){"zwheel": func() { os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr)) }})
}

// insteadName is the variable with a folder whose program zwheel is tried in place of this
// one: that of Windows, under wine. Conditions called windows hold for it.
const insteadName = "ZWHEEL_INSTEAD"

// The scripts in testdata run the program as a user would, each in a folder of
// its own.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		Setup: func(env *testscript.Env) error {
			examples, err := filepath.Abs("../../examples")
			env.Setenv("EXAMPLES", examples)
			env.Setenv("XDG_CONFIG_HOME", filepath.Join(env.WorkDir, ".settings"))
			if program := os.Getenv(insteadName); program != "" {
				env.Setenv("PATH", program+string(os.PathListSeparator)+env.Getenv("PATH"))
				for _, name := range []string{"WINEPREFIX", "WINEDEBUG", "HOME"} {
					env.Setenv(name, os.Getenv(name))
				}
			}
			return err
		},
		Condition: func(name string) (bool, error) {
			switch name {
			case "windows-program":
				return runtime.GOOS == "windows" || os.Getenv(insteadName) != "", nil
			case "root":
				return os.Geteuid() == 0, nil
			case "supervised": // the virtual clock for builds can be had
				return match.Machine(context.Background())[0].Has, nil
			}
			return false, fmt.Errorf("there is no condition %s", name)
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"exits": exits, "await": await, "cut": cut, "fill": fill, "harmless": harmless, "full": full, "taint": taint, "alike": alike, "unseal": unseal,
		},
	})
}

// exits CODE ARGS... runs zwheel and expects that exit code. A match of which nothing can be
// told, because this machine stood still, is played again.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	for again := 2; ; again-- {
		code := 0
		var failure *exec.ExitError
		if err := ts.Exec("zwheel", args[1:]...); errors.As(err, &failure) {
			code = failure.ExitCode()
		} else {
			ts.Check(err)
		}
		if again > 0 && code == 3 && want == 0 && args[1] == "run" && strings.Contains(ts.ReadFile("stdout"), "set aside: ") {
			if i := slices.Index(args, "--out"); i >= 0 {
				ts.Check(os.RemoveAll(ts.MkAbs(args[i+1])))
			}
			continue
		}
		if code != want || neg {
			ts.Fatalf("zwheel %v exits with %d, not %d", args[1:], code, want)
		}
		return
	}
}

// harmless ARGS... runs zwheel, whatever its exit code, and expects that nothing it says
// steers a terminal.
func harmless(ts *testscript.TestScript, _ bool, args []string) {
	var failure *exec.ExitError
	if err := ts.Exec("zwheel", args...); err != nil && !errors.As(err, &failure) {
		ts.Fatalf("%v", err)
	}
	for _, name := range []string{"stdout", "stderr"} {
		text := ts.ReadFile(name)
		if i := strings.IndexFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' || r == '\u202e' }); i >= 0 {
			ts.Fatalf("zwheel %v writes %q to %s", args, text[max(0, i-20):min(len(text), i+20)], name)
		}
	}
}

// taint FOLDER puts what steers a terminal into the names, logs and title of a run folder.
func taint(ts *testscript.TestScript, _ bool, args []string) {
	const evil = `\u001b]52;c;aGFsbG8=\u0007\u001b[2J\u202e`
	dir := ts.MkAbs(args[0])
	replace := func(path, old, with string) {
		file, err := trace.Open(path)
		ts.Check(err)
		text, err := io.ReadAll(file)
		ts.Check(errors.Join(err, file.Close()))
		ts.Check(os.WriteFile(path, []byte(strings.ReplaceAll(string(text), old, with)), 0o600))
	}
	for _, view := range []string{"server", "fern", "moss"} {
		path := filepath.Join(dir, "views", view+".jsonl.zst")
		replace(path, `dog/moss`, `dog/moss`+evil)
		replace(path, `"input":"`, `"input":"`+evil)
		ts.Check(os.WriteFile(filepath.Join(dir, "logs", view+".log"), []byte("0.5 \x1b]52;c;aGFsbG8=\a\x9b2J\n1.2 \x1b[31mred\r\n"), 0o600))
	}
	replace(filepath.Join(dir, "about.json"), "TITLE", "T"+evil)
	replace(filepath.Join(dir, "plan.yaml"), "title: TITLE", `title: "T\e]0;evil\a\x9b2J"`)
	ts.Check(errors.Join(os.Remove(filepath.Join(dir, "findings.json")), os.Remove(filepath.Join(dir, "measures.json"))))
}

// full CODE ARGS... runs zwheel with an output that is full and expects that exit code.
func full(ts *testscript.TestScript, _ bool, args []string) {
	device, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	ts.Check(err)
	defer device.Close()
	path, err := exec.LookPath("zwheel")
	ts.Check(err)
	c := exec.Command(path, args[1:]...)
	var said strings.Builder
	c.Dir, c.Stdout, c.Stderr = ts.MkAbs("."), device, &said
	_ = c.Run() // its exit code is looked at
	if code := strconv.Itoa(c.ProcessState.ExitCode()); code != args[0] || !strings.Contains(said.String(), "no space left") {
		ts.Fatalf("zwheel %v on a full disk exits with %s and says %s", args[1:], code, said.String())
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

// alike FOLDER OTHER holds two hunts against each other: they found the same, to the byte but for their names.
func alike(ts *testscript.TestScript, _ bool, args []string) {
	var found [2]string
	for i, folder := range args {
		found[i] = strings.ReplaceAll(ts.ReadFile(filepath.Join(folder, "hunt.json")), `"`+folder+`/`, `"`)
	}
	if found[0] != found[1] {
		ts.Fatalf("%s and %s differ:\n%s\n%s", args[0], args[1], found[0], found[1])
	}
}

// unseal FOLDER makes of a run folder one that was recorded before there were seals.
func unseal(ts *testscript.TestScript, _ bool, args []string) {
	about := ts.MkAbs(filepath.Join(args[0], "about.json"))
	text, err := os.ReadFile(about)
	ts.Check(err)
	ts.Check(os.WriteFile(about, bytes.Replace(text, []byte(`"layout": 3`), []byte(`"layout": 2`), 1), 0o600))
	ts.Check(os.Remove(ts.MkAbs(filepath.Join(args[0], "seal.json"))))
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
	first, err := freeFolder("runs", p)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join("runs", "four-dogs-on-the-moor-seed7"), first)
	require.NoError(t, os.MkdirAll(first, 0o755))
	second, err := freeFolder("runs", p)
	require.NoError(t, err)
	assert.Equal(t, first+"-2", second)
	p.Title = strings.Repeat("long", 100)
	long, err := freeFolder("runs", p)
	require.NoError(t, err)
	assert.Less(t, len(filepath.Base(long)), 80, "a title is longer than a file's name may be")
	p.Title = "羊"
	none, err := freeFolder("runs", p)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join("runs", "match-seed7"), none)
	require.NoError(t, os.WriteFile("file", nil, 0o600))
	_, err = freeFolder("file", p)
	assert.ErrorContains(t, err, "name a folder with --out")
}

func TestWhatTheMachineLacksIsNobodysMistake(t *testing.T) {
	assert.Contains(t, lacking(&fs.PathError{Op: "open", Path: "x", Err: syscall.EMFILE}), "ulimit -n")
	assert.Contains(t, lacking(fmt.Errorf("start: %w", syscall.ENOMEM)), "memory")
	assert.Contains(t, lacking(fmt.Errorf("write: %w", syscall.ENOSPC)), "room")
	assert.Empty(t, lacking(fs.ErrNotExist))
}
