//go:build linux && amd64

package replay

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
)

// bell is a server with a mistake that needs no packet and no client: it asks whether a thread has finished before it
// takes the lock, so a wake-up can be lost.
const bell = `
#include <arpa/inet.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t changed = PTHREAD_COND_INITIALIZER;
static int done;
static void say(const char *text) { write(1, text, strlen(text)); }
static void *finish(void *p) { say("finishing\n"); pthread_mutex_lock(&lock); done = 1; pthread_cond_signal(&changed); pthread_mutex_unlock(&lock); return p; }
int main(int argc, char **argv) {
	if (argc < 2) for (say("there\n");;) sleep(1);
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons(atoi(argv[1])), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	bind(socket(AF_INET, SOCK_DGRAM, 0), (struct sockaddr *)&at, sizeof at);
	say("open\n");
	for (;;) {
		struct timespec until, little = {0, 300000000};
		nanosleep(&little, 0);
		done = 0;
		pthread_t t; pthread_create(&t, 0, finish, 0);
		int was = done;
		say("waiting\n");
		clock_gettime(CLOCK_REALTIME, &until); until.tv_sec += 1;
		pthread_mutex_lock(&lock);
		if (!was && pthread_cond_timedwait(&changed, &lock, &until)) say("nobody woke me\n");
		pthread_mutex_unlock(&lock);
		pthread_join(t, 0);
	}
}`

func TestWhyNamesTheOrderOfThreadsThatAFindingHangsOn(t *testing.T) {
	if testing.Short() {
		t.Skip("starts many programs")
	}
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("there is no C compiler here")
	}
	if virtual := match.Machine(context.Background())[0]; !virtual.Has {
		t.Skip(virtual.What)
	}
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "bell.c"), []byte(bell), 0o600))
	out, err := exec.Command("gcc", "-O1", "-pthread", "-o", filepath.Join(folder, "bell"), filepath.Join(folder, "bell.c")).CombinedOutput()
	require.NoError(t, err, string(out))
	p, err := plan.Parse(filepath.Join(folder, "plan.yaml"), []byte(`
title: bell
duration: 3s
game: {name: bell}
build:
  interleave: drawn
  server: {run: "./bell {port}", trace: none, ready: {log: open}}
  client: {run: ./bell, trace: none, drive: none, ready: {log: there}}
bots: [{name: fern}]
logs: [{match: nobody woke me, in: server, at-most: 0}]
`))
	require.NoError(t, err)
	for seed := uint64(1); ; seed++ {
		require.Less(t, seed, uint64(60), "some seed shows it")
		p.Seed = seed
		at := filepath.Join(t.TempDir(), "run")
		r, err := match.Run(context.Background(), p, match.Options{Folder: at})
		require.NoError(t, err)
		if len(r.Verdict.Findings) == 0 {
			continue
		}
		recorded, err := run.Open(at)
		require.NoError(t, err)
		recording, err := Load(context.Background(), recorded)
		require.NoError(t, err)
		w, err := recording.Why(context.Background(), &Lab{}, head(t, recording))
		require.NoError(t, err)
		require.NotNil(t, w.Order, w.Proved)
		assert.LessOrEqual(t, w.Order.Draw, w.Order.Of)
		assert.Regexp(t, `^at [\d.]+ s (the )?server`, w.Order.What)
		assert.Contains(t, w.Proved, "With the usual one it is gone. It hangs on choice ")
		assert.Empty(t, w.Packets)
		return
	}
}
