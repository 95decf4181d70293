package process

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"time"
)

// Waits tells how long processes had to wait for a processor. The zero value is ready. It is
// safe for concurrent use.
//
// It reads the second number of /proc/PID/task/TID/schedstat: the time that a thread was
// ready to run and did not (Documentation/scheduler/sched-stats.rst of Linux). On other
// systems nobody had to wait.
type Waits struct {
	mu    sync.Mutex
	tasks map[string]time.Duration // by path, at the last reading
	read  time.Time                // when that was
}

// Read returns for each of the processes how long since the reading before one of its threads
// had to wait, the one that had to most, and how long ago that reading was. Of a thread that is new
// nothing is told.
func (w *Waits) Read(pids []int) (waits map[int]time.Duration, since time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	before := w.read
	w.read = time.Now()
	now := map[string]time.Duration{}
	waits = map[int]time.Duration{}
	for _, pid := range pids {
		folder := "/proc/" + strconv.Itoa(pid) + "/task"
		entries, err := os.ReadDir(folder)
		if err != nil {
			continue // it has ended, or this is another system
		}
		for _, e := range entries {
			path := folder + "/" + e.Name() + "/schedstat"
			text, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			fields := bytes.Fields(text)
			if len(fields) < 2 {
				continue
			}
			ns, err := strconv.ParseInt(string(fields[1]), 10, 64)
			if err != nil {
				continue
			}
			now[path] = time.Duration(ns)
			if then, known := w.tasks[path]; known {
				waits[pid] = max(waits[pid], now[path]-then)
			}
		}
	}
	w.tasks = now
	return waits, w.read.Sub(before)
}
