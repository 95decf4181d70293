//go:build linux && amd64

package supervisor

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match/process"
)

// measured compiles a program in C for a benchmark.
func measured(b *testing.B, text string) string {
	b.Helper()
	if _, err := exec.LookPath("gcc"); err != nil {
		b.Skip("there is no gcc here")
	}
	folder := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(folder, "program.c"), []byte(text), 0o600))
	out, err := exec.Command("gcc", "-O1", "-o", filepath.Join(folder, "program"), filepath.Join(folder, "program.c")).CombinedOutput()
	require.NoError(b, err, "%s", out)
	return filepath.Join(folder, "program")
}

// supervised runs a program on the virtual clock for a time, on a thread of its own.
func supervised(b *testing.B, d time.Duration, program string, args ...string) (report Report) {
	b.Helper()
	done := make(chan error)
	go func() {
		s, err := New(context.Background(), Options{Seed: 1, Zero: zero, Patient: time.Minute})
		if err == nil {
			_, err = s.Start(process.Spec{Name: "program", Run: append([]string{program}, args...), Folder: filepath.Dir(program), StopWithin: time.Second}, func(process.Line) {}, func(*Program) {})
			if err == nil {
				err = s.Run(b.Context(), d)
				report = s.Report()
			}
			err = errors.Join(err, s.Close())
		}
		done <- err
	}()
	err := <-done
	var refused *RefusedError
	if errors.As(err, &refused) {
		b.Skip(refused)
	}
	require.NoError(b, err)
	return report
}

// BenchmarkCycle is what it costs to let one thing happen: a program sleeps for a millisecond, so
// that its time is asked for, proved to stand still, moved on, and the program woken.
func BenchmarkCycle(b *testing.B) {
	program := measured(b, `
#include <time.h>
int main(void) { struct timespec ms = {0, 1000000}; for (;;) nanosleep(&ms, 0); }`)
	b.ResetTimer()
	r := supervised(b, time.Duration(b.N)*time.Millisecond, program)
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(max(1, r.Events)), "ns/event")
}

// BenchmarkCost is how much more of the processor a program takes on the virtual clock, with all that
// it takes to supervise it: 4,000 steps of a game loop that computes for a fifth of a millisecond and sends
// itself a packet.
func BenchmarkCost(b *testing.B) {
	program := measured(b, `
#include <arpa/inet.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>
int main(int n, char **a) {
	int steps = atoi(a[1]), s = socket(AF_INET, SOCK_DGRAM, 0);
	struct sockaddr_in at = {AF_INET, 0, {htonl(INADDR_LOOPBACK)}}; socklen_t size = sizeof at;
	bind(s, (void *)&at, sizeof at); getsockname(s, (void *)&at, &size);
	volatile double x = 1; struct timespec ms = {0, 1000000}; char data[100] = {0};
	for (int i = 0; i < steps; i++) {
		for (int k = 0; k < 60000; k++) x = x * 1.0000001 + 0.1;
		sendto(s, data, sizeof data, 0, (void *)&at, sizeof at);
		recv(s, data, sizeof data, 0);
		nanosleep(&ms, 0);
	}
	return 0;
}`)
	const steps = 4000
	used := func() (s float64) {
		for _, who := range []int{syscall.RUSAGE_SELF, syscall.RUSAGE_CHILDREN} {
			var u syscall.Rusage
			require.NoError(b, syscall.Getrusage(who, &u))
			s += float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9
		}
		return s
	}
	native, virtual := 0.0, 0.0
	for b.Loop() {
		before := used()
		require.NoError(b, exec.Command(program, strconv.Itoa(steps)).Run())
		between := used()
		supervised(b, time.Minute, program, strconv.Itoa(steps))
		native, virtual = native+between-before, virtual+used()-between
	}
	b.ReportMetric(virtual/native, "virtual/native")
}
