package far

import (
	"fmt"
	"slices"

	"zitherwheel/internal/match/process"
)

// Program is a program there.
type Program struct {
	machine *Machine
	number  int
	say     func(process.Line)
	use     func(process.Load)
	exited  chan struct{}

	toConnect, connected bool // for its trace

	over, asked, failed bool
	gone                bool // with its machine
	how                 string
}

// Start starts a program there that tells its trace at a place that was found before. What it says goes to say, one line at
// a time, and what it uses of the machine to use, every second.
func (m *Machine) Start(spec process.Spec, trace Trace, say func(process.Line), use func(process.Load)) (*Program, error) {
	m.lock.Lock()
	p := &Program{machine: m, number: len(m.programs) + 1, say: say, use: use, exited: make(chan struct{}), toConnect: trace.Socket}
	m.programs[p.number] = p
	m.lock.Unlock()
	err := m.order(order{Start: &startOrder{p.number, spec.Name, spec.Run, spec.Env, trace, spec.DriveInput, spec.DriveSocket, spec.Signal, spec.StopWithin}})
	if err != nil {
		return nil, m.err()
	}
	n, err := m.answer()
	if err != nil {
		return nil, err
	}
	if n.Started.Error != "" {
		return nil, fmt.Errorf("on %s: %s", m.Name, n.Started.Error)
	}
	return p, nil
}

// PID is 0: it is no process of this machine.
func (p *Program) PID() int { return 0 }

// Running reports whether it has not ended.
func (p *Program) Running() bool {
	p.machine.lock.Lock()
	defer p.machine.lock.Unlock()
	return !p.over
}

// Connected reports whether something came over its connection for its trace, where it is to make one.
func (p *Program) Connected() bool {
	p.machine.lock.Lock()
	defer p.machine.lock.Unlock()
	return p.connected || !p.toConnect
}

// Exited is closed when it has ended.
func (p *Program) Exited() <-chan struct{} { return p.exited }

// Exit says how it ended, and whether it was asked to.
func (p *Program) Exit() (how string, asked bool) {
	p.machine.lock.Lock()
	defer p.machine.lock.Unlock()
	return p.how, p.asked
}

// Failed reports whether it ended badly.
func (p *Program) Failed() bool {
	p.machine.lock.Lock()
	defer p.machine.lock.Unlock()
	return p.failed
}

// Gone reports whether it ended with its machine, and nobody knows how.
func (p *Program) Gone() bool {
	p.machine.lock.Lock()
	defer p.machine.lock.Unlock()
	return p.gone
}

// Say hands it a control line.
func (p *Program) Say(line []byte) bool {
	return p.Running() && p.machine.order(order{Say: &sayOrder{p.number, slices.Clone(line)}}) == nil
}

// Stop asks it to end, and waits for that.
func (p *Program) Stop() {
	if !p.Running() || p.machine.order(order{Stop: p.number}) != nil {
		return
	}
	select {
	case <-p.exited:
	case <-p.machine.lost:
	}
}
