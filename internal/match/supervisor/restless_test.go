//go:build linux && amd64

package supervisor

import (
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hogs has processors used by others, as long as the test runs.
func hogs(t *testing.T, n int) {
	t.Helper()
	run := compiled(t, `int main(void) { for (volatile long i = 0;; i++) ; }`)
	for range n {
		pid, err := syscall.ForkExec(run[0], run, &syscall.ProcAttr{})
		require.NoError(t, err)
		t.Cleanup(func() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			_, _ = syscall.Wait4(pid, nil, 0, nil)
		})
	}
}

// A thread that others keep from the processors is in the same state as one that computes.
func TestAProgramThatIsKeptFromTheProcessorIsNotChargedForIt(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time")
	}
	starved := compiled(t, `
#define _GNU_SOURCE
#include <sched.h>
#include <stdio.h>
#include <time.h>
int main(void) {
	struct sched_param none = {0};
	sched_setscheduler(0, SCHED_IDLE, &none);
	volatile double x = 1;
	for (int i = 0; i < 3; i++) {
		for (long k = 0; k < 400000; k++) x = x * 1.0000001 + 0.1;
		struct timespec ms = {0, 1000000};
		nanosleep(&ms, 0);
		printf("step %d\n", i); fflush(stdout);
	}
	return 0;
}`)
	hogs(t, 6)
	alone(t, 1, func(s *stage) {
		s.spins, s.computes = 50*time.Millisecond, 100*time.Millisecond // more than it computes, less than it has to wait
		s.start("starved", starved...)
		s.run(10 * time.Second)
		assert.Equal(t, []string{"1ms starved: step 0", "2ms starved: step 1", "3ms starved: step 2"}, s.lines)
		assert.Zero(t, s.Report().Charged)
	})
}

func TestTimeGoesOnBesideAProgramThatNeverWaits(t *testing.T) {
	runs := compiled(t, `int main(void) { for (volatile long i = 0;; i++) ; }`)
	clock := compiled(t, sleeper)
	alone(t, 1, func(s *stage) {
		s.computes = 50 * time.Millisecond
		s.start("the runner", runs...)
		s.start("clock", clock...)
		s.run(2100 * time.Millisecond)
		assert.Len(t, s.lines, 1)
		r := s.Report()
		assert.Positive(t, r.Charged)
		assert.Equal(t, []string{"the runner"}, r.Computed)
	})
}

// Programs that wait by looking: for a time that is strictly over, for less than a millisecond, for nothing at all.
func TestALoopThatWaitsByLookingGoesOn(t *testing.T) {
	for name, run := range map[string]func(t *testing.T) []string{
		"until strictly after a time": func(t *testing.T) []string {
			return compiled(t, `
#include <linux/futex.h>
#include <stdio.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>
int main(void) {
	struct timespec t, now; int word = 0;
	for (int i = 0; i < 40; i++) {
		clock_gettime(CLOCK_MONOTONIC, &t);
		if ((t.tv_nsec += 25000000) >= 1000000000) { t.tv_nsec -= 1000000000; t.tv_sec++; }
		do {
			syscall(SYS_futex, &word, FUTEX_WAIT_BITSET_PRIVATE, 0, &t, 0, ~0);
			clock_gettime(CLOCK_MONOTONIC, &now);
		} while (now.tv_sec < t.tv_sec || now.tv_sec == t.tv_sec && now.tv_nsec <= t.tv_nsec);
	}
	puts("done"); return 0;
}`)
		},
		"until strictly after a millisecond": func(t *testing.T) []string {
			return compiled(t, `
#include <poll.h>
#include <stdio.h>
#include <time.h>
static long long now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec * 1000LL + t.tv_nsec / 1000000; }
int main(void) {
	for (int i = 0; i < 40; i++)
		for (long long until = now() + 24, left; (left = until - now()) >= 0;) poll(0, 0, left);
	puts("done"); return 0;
}`)
		},
		"by whole milliseconds of less": func(t *testing.T) []string {
			return compiled(t, `
#include <poll.h>
#include <stdio.h>
#include <time.h>
static double now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec * 1e3 + t.tv_nsec / 1e6; }
int main(void) {
	double next = now();
	for (int i = 0; i < 60; i++)
		for (next += 1000.0 / 60; now() < next;) poll(0, 0, (int)(next - now()));
	puts("done"); return 0;
}`)
		},
		"by select of nothing": func(t *testing.T) []string {
			return compiled(t, `
#include <stdio.h>
#include <sys/select.h>
#include <time.h>
static double now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec + t.tv_nsec / 1e9; }
int main(void) {
	double until = now() + 1;
	while (now() < until) { struct timeval none = {0, 0}; select(0, 0, 0, 0, &none); }
	puts("done"); return 0;
}`)
		},
		"by processor time": func(t *testing.T) []string {
			return compiled(t, `
#include <stdio.h>
#include <time.h>
int main(void) { while (clock() < CLOCKS_PER_SEC) ; puts("done"); return 0; }`)
		},
		"at what is there already, while another thread is to go on": func(t *testing.T) []string {
			return compiled(t, `
#include <poll.h>
#include <pthread.h>
#include <stdio.h>
#include <unistd.h>
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t work = PTHREAD_COND_INITIALIZER;
static volatile int todo, done;
static void *worker(void *p) {
	pthread_mutex_lock(&lock);
	while (!todo) pthread_cond_wait(&work, &lock);
	pthread_mutex_unlock(&lock);
	done = 1; return p;
}
int main(void) {
	int ends[2]; pthread_t t; pipe(ends); write(ends[1], "x", 1);
	pthread_create(&t, 0, worker, 0); usleep(1000000);
	pthread_mutex_lock(&lock); todo = 1; pthread_cond_signal(&work); pthread_mutex_unlock(&lock);
	struct pollfd f = {ends[0], POLLIN, 0};
	while (!done) poll(&f, 1, 0);
	puts("done"); return 0;
}`)
		},
		"at what is there already, until a time has come": func(t *testing.T) []string {
			return compiled(t, `
#include <poll.h>
#include <stdio.h>
#include <time.h>
#include <unistd.h>
static double now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec + t.tv_nsec / 1e9; }
int main(void) {
	int ends[2]; pipe(ends); write(ends[1], "x", 1);
	struct pollfd f = {ends[0], POLLIN, 0};
	for (double until = now() + 1; now() < until;) poll(&f, 1, 0);
	puts("done"); return 0;
}`)
		},
		"a thread in Ruby": func(t *testing.T) []string {
			return script(t, "ruby", ".rb", `40.times { Thread.new { sleep 0.025 }.join }; puts "done"`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			program := run(t)
			alone(t, 1, func(s *stage) {
				s.start("loop", program...)
				s.run(2 * time.Second)
				require.Len(t, tidy(s.lines), 1, "%v", s.exits)
				assert.Contains(t, []string{"1s loop: done", "1.1s loop: done"}, tidy(s.lines)[0])
				r := s.Report()
				assert.Zero(t, r.Charged)
				assert.Less(t, r.Events, uint64(100000), "it does not crawl")
			})
		})
	}
}
