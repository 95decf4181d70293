//go:build linux && amd64

package supervisor

import (
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"golang.org/x/sys/unix"
)

// The runtime of Go interrupts its threads with signals whenever it likes, most where several matches
// are played at once. None of them may end a call in such a way that something else happens.
func TestSignalsOfTheRuntimeDecideNothing(t *testing.T) {
	program := compiled(t, `
#include <stdio.h>
#include <time.h>
int main(void) {
	struct timespec some = {0, 3000000}, now;
	for (int i = 0; i < 60; i++) { nanosleep(&some, 0); clock_gettime(CLOCK_MONOTONIC, &now); printf("%ld.%09ld\n", now.tv_sec, now.tv_nsec); fflush(stdout); }
	return 0;
}`)
	stop := make(chan struct{})
	var storm sync.WaitGroup
	interrupt := func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			tasks, _ := os.ReadDir("/proc/self/task")
			for _, task := range tasks {
				if tid, err := strconv.Atoi(task.Name()); err == nil {
					_ = unix.Tgkill(os.Getpid(), tid, unix.SIGURG) // it may have ended
				}
			}
			time.Sleep(50 * time.Microsecond)
		}
	}
	defer storm.Wait()
	defer close(stop)
	var first []string
	var internal uint64
	for i := range 12 {
		ran := false
		t.Run("", func(t *testing.T) {
			alone(t, 1, func(s *stage) {
				for range 3 {
					s.start("program", program...)
				}
				s.run(time.Second)
				if i == 0 {
					first, internal = s.lines, s.Report().Internal
				}
				ran = true
				assert.Len(t, s.lines, 180)
				assert.Equal(t, first, s.lines)
				assert.Equal(t, internal, s.Report().Internal)
				assert.Zero(t, s.Report().Wrong)
			})
		})
		if i == 0 && !ran {
			t.Skip("there is no virtual clock here")
		}
		assert.True(t, ran, "match %d is not refused where the first was not", i)
		if i == 0 {
			storm.Go(interrupt)
		}
	}
}

// A program whose first thread has ended goes on with the others, also where one of them is signalled.
func TestAProgramGoesOnWithoutItsFirstThread(t *testing.T) {
	run := compiled(t, `
#define _GNU_SOURCE
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
static pthread_t sleeper;
static void hear(int n) { (void)n; puts("heard"); fflush(stdout); }
static void *sleeps(void *p) { sleep(100); return p; }
static void *goes_on(void *p) { sleep(1); pthread_kill(sleeper, SIGUSR1); sleep(1); puts("bye"); fflush(stdout); _exit(3); return p; }
int main(void) {
	pthread_t t;
	signal(SIGUSR1, hear);
	pthread_create(&sleeper, 0, sleeps, 0); pthread_create(&t, 0, goes_on, 0);
	pthread_exit(0);
}`)
	with(t, Options{Seed: 1, OneThread: true}, func(s *stage) {
		s.start("orphans", run...)
		s.run(5 * time.Second)
		assert.Equal(t, []string{"1s orphans: heard", "2s orphans: bye"}, s.lines)
		assert.Equal(t, []string{"2s orphans: exit status 3"}, s.exits)
	})
}
