//go:build linux && amd64

package supervisor

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match/process"
)

// coarse is what times are rounded to: a wait ends a little after its deadline.
const coarse = 100 * time.Microsecond

var zero = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// stage is a supervisor of a test, and what its programs have said.
type stage struct {
	*Supervisor
	t     *testing.T
	lines []string
	exits []string
}

// alone runs a test on a thread of its own, and skips it where the system refuses.
func alone(t *testing.T, seed uint64, test func(s *stage)) {
	t.Helper()
	with(t, Options{Seed: seed}, test)
}

func with(t *testing.T, o Options, test func(s *stage)) {
	t.Helper()
	o.Zero, o.Patient = zero, 20*time.Second
	done := make(chan any)
	go func() {
		defer func() { done <- recover() }()
		s, err := New(context.Background(), o)
		if !assert.NoError(t, err) {
			return
		}
		st := &stage{Supervisor: s, t: t}
		test(st)
		assert.NoError(t, s.Close())
	}()
	if failure := <-done; failure != nil {
		if skip, is := failure.(*RefusedError); is {
			t.Skip(skip)
		}
		t.Fatal(failure)
	}
}

// start starts a program that says its lines into the stage's.
func (s *stage) start(name string, run ...string) *Program {
	p, err := s.Start(process.Spec{Name: name, Run: run, Folder: s.t.TempDir(), DriveInput: true, StopWithin: time.Second}, func(l process.Line) {
		s.lines = append(s.lines, fmt.Sprintf("%s %s: %s", l.At.Sub(zero).Round(coarse), name, l.Text))
	}, func(p *Program) {
		how, _ := p.Exit()
		s.exits = append(s.exits, fmt.Sprintf("%s %s: %s", s.Now().Round(coarse), name, how))
	})
	var refused *RefusedError
	if errors.As(err, &refused) {
		panic(refused)
	}
	if err != nil {
		panic(err)
	}
	return p
}

func (s *stage) run(d time.Duration) {
	if err := s.Run(context.Background(), d); err != nil {
		panic(err)
	}
}

// script writes a program of a language that may not be here.
func script(t *testing.T, language, ending, text string) []string {
	t.Helper()
	path, err := exec.LookPath(language)
	if err != nil {
		t.Skipf("there is no %s here", language)
	}
	if language == "python3" { // it may be a script that looks for the true one
		out, err := exec.Command(path, "-c", "import sys; print(sys.executable)").Output()
		require.NoError(t, err)
		path = strings.TrimSpace(string(out))
	}
	file := filepath.Join(t.TempDir(), "program"+ending)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return []string{path, file}
}

// compiled is a program in C, of a file in testdata or of a text.
func compiled(t *testing.T, text string, flags ...string) []string {
	t.Helper()
	if file, err := os.ReadFile(filepath.Join("testdata", text)); err == nil {
		text = string(file)
	}
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("there is no gcc here")
	}
	folder := t.TempDir()
	source, program := filepath.Join(folder, "program.c"), filepath.Join(folder, "program")
	require.NoError(t, os.WriteFile(source, []byte(text), 0o600))
	out, err := exec.Command("gcc", append(append([]string{"-O1", "-o", program, source}, flags...), "-lpthread", "-lrt", "-lm")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return []string{program}
}

func goProgram(t *testing.T, text string) []string {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "main.go"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "go.mod"), []byte("module program\n\ngo 1.25\n"), 0o600))
	c := exec.Command("go", "build", "-o", "program", ".")
	c.Dir = folder
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return []string{filepath.Join(folder, "program")}
}

func TestATimerOfAnyRuntimeFiresAtItsTime(t *testing.T) {
	for name, program := range map[string]func(t *testing.T) []string{
		"node": func(t *testing.T) []string {
			return script(t, "node", ".mjs", `let n=0; const t=setInterval(()=>{ console.log(new Date().toISOString()); if(++n==3) clearInterval(t) }, 2000)`)
		},
		"python": func(t *testing.T) []string {
			return script(t, "python3", ".py", `
import time, datetime
for i in range(3):
    time.sleep(2)
    print(datetime.datetime.utcnow().strftime("%Y-%m-%dT%H:%M:%S.000Z"), flush=True)
`)
		},
		"c#":        managed,
		"c":         func(t *testing.T) []string { return compiled(t, sleeper) },
		"c, static": func(t *testing.T) []string { return compiled(t, sleeper, "-static") },
		"go": func(t *testing.T) []string {
			return goProgram(t, `package main
import ("fmt"; "time")
func main() { for range 3 { time.Sleep(2*time.Second); fmt.Println(time.Now().UTC().Format("2006-01-02T15:04:05.000Z")) } }`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			run := program(t)
			alone(t, 1, func(s *stage) {
				s.start("clock", run...)
				s.run(10 * time.Second)
				var want []string
				for i := range 3 {
					at := time.Duration(i+1) * 2 * time.Second
					want = append(want, fmt.Sprintf("%s clock: %s", at, zero.Add(at).Format("2006-01-02T15:04:05.000Z")))
				}
				assert.Equal(t, want, tidy(s.lines))
				assert.Equal(t, []string{"6s clock: exit status 0"}, tidy(s.exits))
				assert.Equal(t, 10*time.Second, s.Now())
				assert.Zero(t, s.Report().Wrong)
			})
		})
	}
}

const sleeper = `
#include <stdio.h>
#include <time.h>
int main(void) {
	for (int i = 0; i < 3; i++) {
		struct timespec d = {2, 0};
		nanosleep(&d, 0);
		time_t t = time(0); char b[64];
		strftime(b, sizeof b, "%Y-%m-%dT%H:%M:%S.000Z", gmtime(&t));
		puts(b); fflush(stdout);
	}
	return 0;
}`

// tidy rounds the times of lines to a tenth of a second: how many short waits a runtime makes
// before its first line is its own affair.
func tidy(lines []string) (list []string) {
	for _, l := range lines {
		at, rest, _ := strings.Cut(l, " ")
		d, err := time.ParseDuration(at)
		if err != nil {
			list = append(list, l)
			continue
		}
		list = append(list, fmt.Sprintf("%s %s", d.Round(100*time.Millisecond), rest))
	}
	return list
}

func TestEveryWayToWaitTakesVirtualTime(t *testing.T) {
	want, err := os.ReadFile("testdata/waits.want")
	require.NoError(t, err)
	run := compiled(t, "waits.c")
	draws := map[uint64]string{}
	for _, o := range []Options{{Seed: 1}, {Seed: 1, OneThread: true}, {Seed: 2, OneThread: true}} {
		seed := o.Seed
		with(t, o, func(s *stage) {
			s.start("waits", run...)
			s.run(30 * time.Second)
			var said strings.Builder
			for _, l := range s.lines {
				_, text, _ := strings.Cut(l, ": ")
				if drawn, is := strings.CutPrefix(text, "random "); is {
					if before, again := draws[seed]; again {
						assert.Equal(t, before, drawn, "the same seed draws the same")
					}
					draws[seed] = drawn
					continue
				}
				said.WriteString(text + "\n")
			}
			assert.Equal(t, string(want), said.String())
			assert.Equal(t, []string{"waits: exit status 0"}, bare(s.exits))
			assert.Zero(t, s.Report().Wrong)
		})
	}
	assert.NotEqual(t, draws[1], draws[2], "another seed draws otherwise")
}

// bare leaves the times of lines out.
func bare(lines []string) (list []string) {
	for _, l := range lines {
		_, text, _ := strings.Cut(l, " ")
		list = append(list, text)
	}
	return list
}

// managed is a program in C#, for mono.
func managed(t *testing.T) []string {
	t.Helper()
	if _, err := exec.LookPath("mcs"); err != nil {
		t.Skip("there is no mono here")
	}
	mono, err := exec.LookPath("mono")
	if err != nil {
		t.Skip("there is no mono here")
	}
	folder := t.TempDir()
	source, program := filepath.Join(folder, "program.cs"), filepath.Join(folder, "program.exe")
	require.NoError(t, os.WriteFile(source, []byte(`using System; using System.Threading;
class P { static void Main() { for (int i = 0; i < 3; i++) { Thread.Sleep(2000); Console.WriteLine(DateTime.UtcNow.ToString("yyyy-MM-ddTHH:mm:ss.000Z")); } } }`), 0o600))
	out, err := exec.Command("mcs", "-out:"+program, source).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return []string{mono, program}
}
