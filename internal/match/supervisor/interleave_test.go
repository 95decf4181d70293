//go:build linux && amd64

package supervisor

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const threaded = `
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t changed = PTHREAD_COND_INITIALIZER;
static void say(const char *text) { write(1, text, strlen(text)); }
`

func TestRacesShowInDrawnOrders(t *testing.T) {
	for name, c := range map[string]struct{ text, wrong string }{
		"a lost wake-up": {threaded + `
static int done;
static void *finish(void *p) { say("finishing\n"); pthread_mutex_lock(&lock); done = 1; pthread_cond_signal(&changed); pthread_mutex_unlock(&lock); return p; }
int main(void) {
	pthread_t t; pthread_create(&t, 0, finish, 0);
	int was = done; /* the mistake: it is asked before the lock is taken */
	say("waiting\n");
	struct timespec until; clock_gettime(CLOCK_REALTIME, &until); until.tv_sec += 5;
	pthread_mutex_lock(&lock);
	if (!was && pthread_cond_timedwait(&changed, &lock, &until)) say("nobody woke me\n");
	pthread_mutex_unlock(&lock);
	return 0;
}`, "nobody woke me"},
		"a check before an act, in two calls": {threaded + `
static void *claim(void *name) {
	struct stat s;
	if (stat("claimed", &s)) { int f = open("claimed", O_CREAT | O_WRONLY, 0600); write(f, name, 1); close(f); say("claimed\n"); }
	return 0;
}
int main(void) {
	pthread_t t[2];
	pthread_create(&t[0], 0, claim, "a"); pthread_create(&t[1], 0, claim, "b");
	pthread_join(t[0], 0); pthread_join(t[1], 0);
	return 0;
}`, "claimed\nclaimed"},
		"a thread that begins before all is ready": {threaded + `
static const char *greeting;
static void *greet(void *p) { say(greeting ? greeting : "nothing to say\n"); return p; }
int main(void) {
	pthread_t t; pthread_create(&t, 0, greet, 0);
	greeting = "hello\n";
	pthread_join(t, 0);
	return 0;
}`, "nothing to say"},
	} {
		t.Run(name, func(t *testing.T) {
			run := compiled(t, c.text)
			said := func(o Options) (text string) {
				with(t, o, func(s *stage) {
					s.start("racer", run...)
					s.run(10 * time.Second)
					assert.Equal(t, []string{"racer: exit status 0"}, bare(s.exits))
					text = strings.Join(words(s.lines), "\n")
				})
				return text
			}
			shown, first := 0, uint64(0)
			const seeds = 40
			for seed := range uint64(seeds) {
				assert.NotContains(t, said(Options{Seed: seed, OneThread: true}), c.wrong, "in the one fixed order")
				if strings.Contains(said(Options{Seed: seed, OneThread: true, DrawnOrder: true}), c.wrong) {
					if shown++; shown == 1 {
						first = seed
					}
				}
			}
			t.Logf("shown in %d of %d orders", shown, seeds)
			assert.Positive(t, shown)
			for range 3 {
				assert.Contains(t, said(Options{Seed: first, OneThread: true, DrawnOrder: true}), c.wrong, "the same seed, the same order")
			}
		})
	}
}
