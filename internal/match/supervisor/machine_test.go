//go:build linux && amd64

package supervisor

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match/process"
)

const addresses = `
#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
int main(int n, char **a) {
	int here;
	printf("%p %p %p %p\n", (void *)&here, malloc(10), mmap(0, 4096, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0), (void *)printf);
	return 0;
}`

// spoken is what two programs of that kind say on the virtual clock.
func spoken(t *testing.T, seed uint64, env []string, run ...string) (lines []string) {
	alone(t, seed, func(s *stage) {
		for _, name := range []string{"fern", "moss"} {
			_, err := s.Start(process.Spec{Name: name, Run: run, Folder: t.TempDir(), Env: env}, func(l process.Line) { lines = append(lines, string(l.Text)) }, func(*Program) {})
			require.NoError(t, err)
		}
		s.run(time.Second)
	})
	return lines
}

func TestMemoryLiesWhereSeedAndProcessSay(t *testing.T) {
	run := compiled(t, addresses)
	one := spoken(t, 1, nil, run...)
	require.Len(t, one, 2)
	assert.Equal(t, one, spoken(t, 1, nil, run...), "the same seed")
	assert.Equal(t, one, spoken(t, 1, []string{"LONG=" + strings.Repeat("x", 3000)}, run...), "a longer environment")
	two := spoken(t, 2, nil, run...)
	for i := range 4 {
		where := func(line string) string { return strings.Fields(line)[i] }
		assert.NotEqual(t, where(one[0]), where(one[1]), "two processes, address %d", i)
		assert.NotEqual(t, where(one[0]), where(two[0]), "another seed, address %d", i)
	}
}

func TestTheMachineThatProgramsReadIsMadeUp(t *testing.T) {
	run := script(t, "python3", ".py", `
import os, resource, time
def say(*what): print(*what, flush=True)
for name in ("uptime", "loadavg", "sys/kernel/random/boot_id", "sys/kernel/random/uuid", "sys/kernel/random/uuid"):
    say(open("/proc/" + name).read().strip())
say(open("/proc/stat").readline().strip())
say(open("/proc/meminfo").readline().strip(), os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") >> 20, os.cpu_count())
say(open("/dev/urandom", "rb").read(8).hex(), len(open("/dev/random", "rb", buffering=0).read(100)))
f = open("/dev/urandom", "rb")
say(sum(len(f.read(100000)) for i in range(5)))
say("%.3f" % time.clock_gettime(time.CLOCK_BOOTTIME), os.times().elapsed, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
say(os.umask(0), resource.getrlimit(resource.RLIMIT_NOFILE)[0], resource.getrlimit(resource.RLIMIT_CORE), resource.getrlimit(resource.RLIMIT_STACK)[0])
say(len(open("/proc/self/status").read()) > 0)
`)
	alone(t, 1, func(s *stage) { // it tells of what it cannot help reading
		s.start("fern", run...)
		s.run(time.Second)
		var what []string
		for _, r := range s.Report().Reads {
			what = append(what, r.Program+" "+r.What)
		}
		assert.Equal(t, []string{"fern read /proc/self/status"}, what)
	})
	one, again, other := spoken(t, 1, nil, run...), spoken(t, 1, nil, run...), spoken(t, 2, nil, run...)
	assert.Equal(t, one, again)
	require.Len(t, one, 24)
	all := strings.Join(one, "\n")
	words := strings.Fields(all)
	assert.Equal(t, "1000.00", words[0])
	uuids := map[string]int{}
	for _, w := range words {
		if strings.Count(w, "-") == 4 {
			uuids[w]++
			assert.NotContains(t, strings.Join(other, "\n"), w)
		}
	}
	assert.Len(t, uuids, 5, "one boot, and a new one each time: %v", uuids)
	assert.Equal(t, 2, strings.Count(all, "0.00 0.00 0.00 1/1 1"))
	assert.Contains(t, all, "cpu  0 0 0 100000 0 0 0 0 0 0")
	assert.Contains(t, all, "kB 8192 1")
	assert.Contains(t, all, " 100\n")
	assert.Contains(t, all, "\n500000\n")
	assert.Contains(t, all, "1000.000 1000.0 65536")
	assert.Contains(t, all, "18 4096 (0, 0) 8388608")
}
