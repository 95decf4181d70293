package process

import (
	"slices"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// Load is what a process and all that it started use of the machine.
type Load struct {
	CPU      float64 // cores, on average since the reading before
	Resident uint64  // bytes of memory
	Threads  int
	Files    int // open files; 0 where that cannot be told
	Stopped  bool
}

// Meter reads the load of processes. The zero value is ready. It is safe for
// concurrent use.
type Meter struct {
	mu   sync.Mutex
	last map[int]reading
}

type reading struct {
	at  time.Time
	cpu float64 // seconds
}

// Read returns the load of each of the processes that still runs. The first
// reading of a process has no CPU.
func (m *Meter) Read(pids []int) map[int]Load {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.last == nil {
		m.last = map[int]reading{}
	}
	children := childrenOf()
	loads := map[int]Load{}
	for _, pid := range pids {
		var load Load
		cpu, alive, now := 0.0, false, time.Now()
		for _, member := range family(pid, children) {
			p := process.Process{Pid: int32(member)}
			times, err := p.Times()
			if err != nil {
				continue // it has ended
			}
			alive = true
			cpu += times.User + times.System
			if memory, err := p.MemoryInfo(); err == nil {
				load.Resident += memory.RSS
			}
			if n, err := p.NumThreads(); err == nil {
				load.Threads += int(n)
			}
			if n, err := p.NumFDs(); err == nil {
				load.Files += int(n)
			}
		}
		load.Stopped = Stopped(pid)
		if !alive {
			delete(m.last, pid)
			continue
		}
		if before, ok := m.last[pid]; ok && now.After(before.at) {
			load.CPU = max(0, cpu-before.cpu) / now.Sub(before.at).Seconds()
		}
		m.last[pid] = reading{now, cpu}
		loads[pid] = load
	}
	return loads
}

// Stopped reports whether a process stands still because somebody stopped it, where that
// can be told.
func Stopped(pid int) bool {
	p := process.Process{Pid: int32(pid)}
	status, err := p.Status()
	return err == nil && slices.Contains(status, process.Stop)
}

func childrenOf() map[int][]int {
	children := map[int][]int{}
	pids, err := process.Pids()
	if err != nil {
		return children // then each stands for itself
	}
	for _, pid := range pids {
		p := process.Process{Pid: pid}
		if parent, err := p.Ppid(); err == nil {
			children[int(parent)] = append(children[int(parent)], int(pid))
		}
	}
	return children
}

// family is a process and all that descend from it.
func family(pid int, children map[int][]int) []int {
	members := []int{pid}
	for i := 0; i < len(members); i++ {
		members = append(members, children[members[i]]...)
	}
	return members
}
