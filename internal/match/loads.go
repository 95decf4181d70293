package match

import (
	"fmt"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/trace"
)

// loads is what the processes of a match use of the machine.
type loads struct {
	loaded time.Duration // when it was read last
	waited time.Duration // when it was, how long they had to wait for a processor
}

// running are the processes of those who run, by their number.
func (m *buildMatch) running() (pids []int) {
	for _, p := range m.participants {
		if p.running() && p.hand == nil && p.machine == nil { // a stand-in tells nothing of the client, and nobody here of another machine
			pids = append(pids, p.process.PID())
		}
	}
	return pids
}

// tooLarge ends the match if a program uses more memory than the plan allows, before the machine
// runs out of it.
func (m *buildMatch) tooLarge(loads map[int]process.Load) {
	most := m.build.MemoryMB
	if most == 0 {
		return
	}
	for _, p := range m.participants {
		if p.process != nil && p.machine == nil {
			p.tooLarge(loads[p.process.PID()], most)
		}
	}
}

func (p *participant) tooLarge(load process.Load, most int) {
	if load.Resident > uint64(most)*1e6 {
		p.match.fail(p, fmt.Sprintf("%s uses %d MB of memory, and the plan allows %d (build: memory-mb)", p.name, load.Resident/1e6, most))
	}
}

func (m *buildMatch) takeLoads(loads map[int]process.Load) {
	m.tooLarge(loads)
	for _, p := range m.participants {
		if p.process == nil || p.machine != nil {
			continue
		}
		if load, ok := loads[p.process.PID()]; ok {
			p.takeLoad(load)
		}
	}
}

// takeThere takes in what a client on another machine uses of that.
func (p *participant) takeThere(load process.Load) {
	if !p.running() {
		return
	}
	if most := p.match.build.MemoryMB; most > 0 {
		p.tooLarge(load, most)
	}
	p.takeLoad(load)
}

func (p *participant) takeLoad(load process.Load) {
	if load.Stopped && !p.facts.stopped {
		p.match.tell("the process of %s is stopped", p.name)
	}
	p.facts.stopped = load.Stopped
	if !p.facts.loading { // the first reading of a process has no CPU
		p.facts.loading = true
		return
	}
	p.record(&trace.Record{T: p.match.now(), Checkpoint: trace.LoadMark, ID: "process",
		Data: fmt.Sprintf(`{"cpu":%.3f,"resident":%d,"threads":%d,"files":%d}`, load.CPU, load.Resident, load.Threads, load.Files)})
}
