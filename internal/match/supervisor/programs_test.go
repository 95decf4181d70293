//go:build linux && amd64

package supervisor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/match/process"
)

func TestAProgramIsDrivenAndEndedInVirtualTime(t *testing.T) {
	echo := script(t, "python3", ".py", `
import sys, time
for line in sys.stdin:
    time.sleep(0.25)
    print("heard", line.strip(), flush=True)
    if "stop" in line: break
`)
	stubborn := compiled(t, `
#include <signal.h>
#include <stdio.h>
#include <unistd.h>
int main(void) { signal(SIGTERM, SIG_IGN); puts("deaf"); fflush(stdout); for (;;) pause(); }`)
	asked := compiled(t, `
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
static void bye(int n) { (void)n; puts("bye"); fflush(stdout); _exit(4); }
int main(void) { signal(SIGTERM, bye); for (;;) sleep(100); }`)
	alone(t, 1, func(s *stage) {
		e, st, a := s.start("echo", echo...), s.start("stubborn", stubborn...), s.start("asked", asked...)
		s.At(time.Second, func() { assert.True(t, e.Say([]byte("hello"))) })
		for _, p := range []*Program{e, st, a} {
			s.At(3*time.Second, p.Stop)
		}
		s.run(10 * time.Second)
		assert.Equal(t, []string{"0s stubborn: deaf", "1.25s echo: heard hello", `3.25s echo: heard {"do":"stop"}`, "4s asked: bye"}, s.lines)
		assert.Equal(t, []string{"3.25s echo: exit status 0", "4s asked: exit status 4", "5s stubborn: signal: killed"}, s.exits)
		assert.True(t, st.Failed())
		assert.False(t, e.Failed())
	})
}

func TestAProgramThatStandsStillForAnotherReasonIsNamed(t *testing.T) {
	runs := compiled(t, `int main(void) { for (volatile long i = 0;; i++) ; }`)
	done := make(chan error)
	go func() {
		s, err := New(context.Background(), Options{Seed: 1, Zero: zero, Patient: 300 * time.Millisecond})
		if err == nil {
			_, err = s.Start(process.Spec{Name: "the runner", Run: runs}, func(process.Line) {}, func(*Program) {})
			_ = s.Close() // its error is not what is asked for
		}
		done <- err
	}()
	err := <-done
	var refused *RefusedError
	if errors.As(err, &refused) {
		t.Skip(err)
	}
	var never *NeverQuietError
	require.ErrorAs(t, err, &never)
	assert.Equal(t, "the runner", never.Program)
	assert.Equal(t, []string{"its thread 1 runs"}, never.Threads)
}

func TestMuchOutputFitsThroughAPipe(t *testing.T) {
	talker := compiled(t, `
#include <stdio.h>
int main(void) { for (int i = 0; i < 200000; i++) printf("line %d of very many that are said at once\n", i); return 0; }`)
	alone(t, 1, func(s *stage) {
		s.start("talker", talker...)
		s.run(time.Second)
		require.Len(t, s.lines, 200000)
		assert.Equal(t, "0s talker: line 199999 of very many that are said at once", s.lines[199999])
	})
}

func TestWhatAProgramLeavesBehindEndsWithIt(t *testing.T) {
	parent := compiled(t, `
#include <stdio.h>
#include <unistd.h>
int main(void) {
	for (int i = 0; i < 3; i++)
		if (fork() == 0) { for (;;) { usleep(300000); } }
	sleep(1);
	printf("%d\n", (int)getpid()); fflush(stdout);
	sleep(1000);
}`)
	alone(t, 1, func(s *stage) {
		p := s.start("parent", parent...)
		s.run(3 * time.Second)
		p.Kill()
		s.run(4 * time.Second)
		assert.Equal(t, []string{"3s parent: signal: killed"}, tidy(s.exits))
		assert.Eventually(t, func() bool { return syscall.Kill(-p.PID(), 0) != nil }, 5*time.Second, 10*time.Millisecond, "its group is gone")
	})
}

func TestATraceComesThroughAFileOrAConnection(t *testing.T) {
	teller := script(t, "python3", ".py", `
import socket, sys, time
s = None
if ":" in sys.argv[1]:
    host, port = sys.argv[1].split(":")
    s = socket.create_connection((host, int(port)))
    out = s.makefile("w")
else:
    out = open(sys.argv[1], "w")
for i in range(3):
    time.sleep(1)
    out.write('{"n":%d}\n' % i); out.flush()
if s:
    print("heard", s.makefile("r").readline().strip(), flush=True)
`)
	alone(t, 1, func(s *stage) {
		listener, err := s.Listen()
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "trace")
		say := func(name string) func(process.Line) {
			return func(l process.Line) {
				s.lines = append(s.lines, fmt.Sprintf("%s %s %t: %s", l.At.Sub(zero).Round(coarse), name, l.Trace, l.Text))
			}
		}
		ended := func(*Program) {}
		_, err = s.Start(process.Spec{Name: "file", Run: append(teller, file), Trace: process.Trace{File: file}}, say("file"), ended)
		require.NoError(t, err)
		p, err := s.Start(process.Spec{Name: "connection", Run: append(teller, listener.Addr().String()), Trace: process.Trace{Socket: listener}, DriveSocket: true}, say("connection"), ended)
		require.NoError(t, err)
		assert.False(t, p.Connected())
		s.run(time.Millisecond)
		assert.True(t, p.Connected())
		s.At(2500*time.Millisecond, func() { p.Say([]byte("a line")) })
		s.run(5 * time.Second)
		assert.Equal(t, []string{
			`1s file true: {"n":0}`, `1s connection true: {"n":0}`, `2s file true: {"n":1}`, `2s connection true: {"n":1}`,
			`3s file true: {"n":2}`, "3s connection false: heard a line", `3s connection true: {"n":2}`,
		}, s.lines)
	})
}

// Several threads, pipes, sockets and children at once, in programs that draw by themselves.
const busy = `
import os, random, socket, subprocess, sys, threading, time
def work(name, n):
    for i in range(n):
        time.sleep(random.random() / 50)
        print(name, i, "%.4f" % random.random(), "%.3f" % (time.monotonic() % 100), flush=True)
threads = [threading.Thread(target=work, args=("thread%d" % i, 12)) for i in range(3)]
for t in threads: t.start()
a, b = socket.socketpair()
def ask():
    for i in range(10):
        a.send(b"%d" % i); print("answer", a.recv(10), flush=True)
def answer():
    for i in range(10): b.send(b.recv(10) * 2)
more = [threading.Thread(target=f) for f in (ask, answer)]
for t in more: t.start()
for t in threads + more: t.join()
print(subprocess.run([sys.executable, "-c", "import time; time.sleep(0.3); print(id(object()) % 1000)"], capture_output=True).stdout, flush=True)
`

func TestTheSameProgramsSayTheSameAtTheSameTimes(t *testing.T) {
	if testing.Short() {
		t.Skip("many runs")
	}
	run := script(t, "python3", ".py", busy)
	first := ""
	hogs(t, 2) // others who use the machine
	const times = 5
	for i := range times {
		with(t, Options{Seed: 7, OneThread: true}, func(s *stage) {
			s.start("a", run...)
			s.start("b", run...)
			s.run(3 * time.Second)
			said := strings.Join(s.lines, "\n")
			if i == 0 {
				first = said
				assert.Len(t, s.lines, 2*(3*12+10+1))
			}
			assert.Equal(t, first, said, "run %d", i)
			assert.Zero(t, s.Report().Wrong)
		})
	}
}

// A runtime that draws from another source in each of its threads tells which of them did what.
func TestOneThreadAtATimeLeavesNothingToChance(t *testing.T) {
	if testing.Short() {
		t.Skip("many runs")
	}
	run := goProgram(t, `package main
import ("fmt"; "math/rand"; "sync"; "time")
func main() {
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() { time.Sleep(time.Duration(rand.Intn(50)) * time.Millisecond); fmt.Println(i, rand.Intn(1000)) })
	}
	all.Wait()
}`)
	var first string
	for i := range 20 {
		with(t, Options{Seed: 3, OneThread: true}, func(s *stage) {
			s.start("threads", run...)
			s.run(time.Second)
			said := strings.Join(s.lines, "\n")
			if i == 0 {
				assert.Len(t, s.lines, 8)
				first = said
			}
			assert.Equal(t, first, said, "run %d", i)
		})
	}
}

// Whoever lets others run, instead of waiting, lets those run that can.
func TestALoopThatNeverSleepsGoesOnAndRepeats(t *testing.T) {
	run := compiled(t, "pool.c")
	var first string
	for i := range 5 {
		with(t, Options{Seed: 3, OneThread: true}, func(s *stage) {
			s.start("engine", run...)
			s.run(3 * time.Second)
			said := strings.Join(s.lines, "\n")
			if i == 0 {
				require.Len(t, s.lines, 40)
				assert.True(t, strings.HasPrefix(s.lines[20], "1s engine: step 21: "), s.lines[20])
				first = said
			}
			assert.Equal(t, first, said, "run %d", i)
			assert.Zero(t, s.Report().Charged)
		})
	}
}

// Numbers of processes and threads follow from the seed, and are the same to all programs, to what they start and to /proc.
func TestProcessNumbersFollowFromTheSeed(t *testing.T) {
	run := script(t, "python3", ".py", `
import os, subprocess, threading, time
print(os.getpid(), os.readlink("/proc/self"), flush=True)
child = subprocess.Popen(["sh", "-c", "echo $$; sleep 0.1"], stdout=subprocess.PIPE)
print(child.pid, int(child.stdout.readline()), flush=True)
child.wait() # it runs beside this program, and who of two is first to start something is not told
def tell():
    print(threading.get_native_id(), flush=True)
for _ in range(3):
    t = threading.Thread(target=tell)
    t.start()
    t.join()
time.sleep(3)
`)
	play := func(seed uint64) (said string) {
		alone(t, seed, func(s *stage) {
			if s.numbers == nil {
				return
			}
			s.start("a", run...)
			s.At(1500*time.Millisecond, func() { s.start("b", run...) })
			s.run(10 * time.Second)
			said = strings.Join(s.lines, "\n")
			assert.Len(t, s.lines, 10)
			assert.Equal(t, []string{"a: exit status 0", "b: exit status 0"}, bare(s.exits))
		})
		return said
	}
	first := play(1)
	if first == "" {
		t.Skip("a numbering of one's own is not allowed here")
	}
	for range 5 {
		assert.Equal(t, first, play(1))
	}
	assert.NotEqual(t, first, play(2))
}

// What waits in the kernel keeps its limit by the virtual clock, gives up then as it would have, and has its memory as it was.
func TestLimitsOfWhatWaitsInTheKernel(t *testing.T) {
	run := compiled(t, "limits.c")
	for i := range 6 {
		with(t, Options{Seed: 1, OneThread: i%2 == 0}, func(s *stage) {
			s.start("old", run...)
			s.run(30 * time.Second)
			assert.Equal(t, []string{
				"2s old: a semaphore: Resource temporarily unavailable, its limit still 2",
				"5s old: a queue: Connection timed out, its limit still 2",
				"5.5s old: files: 0 events, its limit still 500000000",
				"6s old: a semaphore that comes: came, its limit still 2",
				"6.5s old: a queue into which something comes: came, its limit still 2",
				"7.5s old: a lock that is held: Connection timed out, its limit still 2",
				"9.5s old: a lock that is given up: came, its limit still 2",
			}, s.lines)
			assert.Equal(t, []string{"9.5s old: exit status 0"}, s.exits)
			assert.Empty(t, s.Report().Remarks)
		})
	}
}

func TestACallOfWhichNothingIsDoneIsNamed(t *testing.T) {
	spy := compiled(t, `
#include <sys/ptrace.h>
int main(void) { ptrace(PTRACE_TRACEME, 0, 0, 0); return 0; }`)
	alone(t, 1, func(s *stage) {
		s.start("old", spy...)
		s.run(time.Second)
		assert.Equal(t, []string{"old calls ptrace: what that does is not on the virtual clock"}, s.Report().Remarks)
	})
}

// An unknown call might wait for real time, or read the real machine: such a match ends.
func TestACallThatNobodyKnowsEndsTheMatchByName(t *testing.T) {
	for name, c := range map[string]struct{ call, want string }{
		"a new one":         {"syscall(999, 0);", "stranger makes the system call 999, which the virtual clock does not know; play it on the wall clock (clock: wall)"},
		"one with a name":   {`syscall(SYS_umount2, "nothing", 0);`, "stranger makes the system call umount2, which the virtual clock does not know; play it on the wall clock (clock: wall)"},
		"in the 32-bit way": {`int r; __asm__ volatile("int $0x80" : "=a"(r) : "a"(20));`, "stranger makes the 32-bit system call 20, which the virtual clock does not answer; play it on the wall clock (clock: wall)"},
		"in the way of x32": {"syscall(0x40000000 | SYS_getpid);", "stranger makes the x32 system call 39, which the virtual clock does not answer; play it on the wall clock (clock: wall)"},
	} {
		t.Run(name, func(t *testing.T) {
			run := compiled(t, `
#define _GNU_SOURCE
#include <sys/syscall.h>
#include <unistd.h>
int main(void) { sleep(1); `+c.call+` return 0; }`)
			alone(t, 1, func(s *stage) {
				s.start("stranger", run...)
				assert.EqualError(t, s.Run(context.Background(), 2*time.Second), c.want)
			})
		})
	}
}

func TestAProgramThatIsNotThereOrCannotBePatchedIsAnError(t *testing.T) {
	alone(t, 1, func(s *stage) {
		_, err := s.Start(process.Spec{Name: "nobody", Run: []string{"./no-such-program"}, Folder: t.TempDir()}, nil, nil)
		var missing *process.NotFoundError
		require.ErrorAs(t, err, &missing)
	})
	file := filepath.Join(t.TempDir(), "strange")
	require.NoError(t, os.WriteFile(file, []byte("\x7fELF and so on"), 0o700))
	alone(t, 1, func(s *stage) {
		s.start("strange", file)
		s.run(time.Second)
		assert.Contains(t, strings.Join(s.lines, "\n"), "exec format error")
		assert.Equal(t, []string{"strange: exit status 127"}, bare(s.exits))
	})
}

func TestAnImageThatIsNoneHasNoSymbols(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		image := rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "image")
		_, _ = symbols(image) // it may find nothing, or say so; it must not fail otherwise
	})
}

func TestSignalsThatWaitAreReadFromAStatusFile(t *testing.T) {
	status := "Name:\tx\nSigPnd:\t0000000000000200\nShdPnd:\t0000000000000001\nSigBlk:\tffffffffffffffff\n"
	assert.Equal(t, uint64(0x201), waitingSignals(status))
}

// Whatever happens to a program while its calls are held, the supervisor goes on.
func TestProgramsMayEndAtAnyMoment(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time")
	}
	run := script(t, "python3", ".py", busy)
	for seed := range uint64(4) {
		alone(t, seed, func(s *stage) {
			var b bytes.Buffer
			list := []*Program{s.start("a", run...), s.start("b", run...), s.start("c", run...)}
			draws := chance{seed}
			for _, p := range list {
				var at [1]byte
				draws.fill(at[:])
				s.At(time.Duration(at[0])*time.Millisecond, p.Kill)
			}
			if err := s.Run(context.Background(), time.Second); err != nil {
				fmt.Fprintln(&b, err)
			}
			assert.Len(t, s.exits, 3)
			assert.Empty(t, b.String())
		})
	}
}
