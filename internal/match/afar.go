package match

import (
	"fmt"
	"net"
	"net/netip"
	"slices"

	"zitherwheel/internal/match/far"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/network/relay"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
)

// Clients on other machines: their programs and the relays before them are there (package far), and all that the match
// does with them goes through the same stage, wire and participants as with those here.

// machineOf finds a machine once.
func (m *buildMatch) machineOf(name string, options Options) (*far.Machine, error) {
	for _, machine := range m.machines {
		if machine.Name == name {
			return machine, nil
		}
	}
	if options.Machines == nil {
		return nil, fmt.Errorf("bots: on: %s is another machine, and nobody said how it is reached: zwheel run PLAN --on ADDRESS, with zwheel worker --players there", name)
	}
	machine, err := options.Machines(name, m.plan)
	if err != nil {
		return nil, err
	}
	m.machines = append(m.machines, machine)
	return machine, nil
}

// wayThere makes a bot's way to one of the server's ports, on its machine.
func (m *buildMatch) wayThere(b *participant, port int, l link.Pair) error {
	w := &m.wire
	_, number, err := net.SplitHostPort(m.addresses[port])
	if err != nil {
		return err
	}
	at, err := w.carrier.(*carriers).addThere(b.machine, far.Path{Network: m.build.Ports[port].Network, To: net.JoinHostPort(m.build.Address, number),
		Link: b.name, Seed: m.plan.Seed, Up: l.Up, Down: l.Down})
	if err != nil {
		return err
	}
	w.leads(b, at)
	return nil
}

// placeThere finds where its process is to tell its trace lines, on its machine.
func (p *participant) placeThere() (path string, err error) {
	t := far.Trace{}
	switch p.program.Trace {
	case plan.OutputTrace:
	case plan.NoTrace:
		t.None = true
	case plan.SocketTrace:
		t.Socket = true
	default:
		t.File = plan.Fill(p.program.Trace, p.values(""))
	}
	p.there, err = p.machine.Place(t)
	return p.there.At, err
}

// gone reports whether its process ended with its machine.
func (p *participant) gone() bool {
	there, ok := p.process.(*far.Program)
	return ok && there.Gone()
}

// lost takes in that a client's machine is no longer there: that is no mistake of the game.
func (m *buildMatch) lost(p *participant, how string) {
	if !m.began {
		m.fail(p, how)
		return
	}
	if m.ending.BreakOf(ending.MachineLost, p.name) == nil {
		m.broke(ending.MachineLost, p, m.now(), how)
	}
}

// carriers are the relay here and those on other machines, as one. Paths are numbered in the order in which they were added,
// wherever they are.
type carriers struct {
	*relay.Relay
	paths []farPath
	here  []int // paths of the relay here, by its own numbers
	taken []relay.Packet
}

type farPath struct {
	machine *far.Machine // nil is here
	number  int          // there
}

func (c *carriers) Add(p relay.Path) (netip.AddrPort, error) {
	at, err := c.Relay.Add(p)
	if err == nil {
		c.here = append(c.here, len(c.paths))
		c.paths = append(c.paths, farPath{number: len(c.here) - 1})
	}
	return at, err
}

func (c *carriers) addThere(m *far.Machine, p far.Path) (netip.AddrPort, error) {
	at, err := m.Add(p)
	if err == nil {
		number := 0
		for _, other := range c.paths {
			if other.machine == m {
				number++
			}
		}
		c.paths = append(c.paths, farPath{m, number})
	}
	return at, err
}

func (c *carriers) Move(path int) error {
	if p := c.paths[path]; p.machine != nil {
		p.machine.Move(p.number) // of one that is lost, which is told elsewhere, nothing moves
		return nil
	}
	return c.Relay.Move(c.paths[path].number)
}

func (c *carriers) Reset(path int) {
	if p := c.paths[path]; p.machine != nil {
		p.machine.Reset(p.number)
		return
	}
	c.Relay.Reset(c.paths[path].number)
}

// Take are packets of all, in the order of when they were sent as far as is known.
func (c *carriers) Take(list []relay.Packet) []relay.Packet {
	first := len(list)
	list = c.Relay.Take(list)
	for i := first; i < len(list); i++ {
		list[i].Path = c.here[list[i].Path]
	}
	for _, m := range c.machines() {
		c.taken = m.Take(c.taken[:0])
		for _, p := range c.taken {
			p.Path = slices.Index(c.paths, farPath{m, p.Path})
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list[first:], func(a, b relay.Packet) int { return int(a.Sent - b.Sent) })
	return list
}

func (c *carriers) machines() (list []*far.Machine) {
	for _, p := range c.paths {
		if p.machine != nil && !slices.Contains(list, p.machine) {
			list = append(list, p.machine)
		}
	}
	return list
}

// Stats are those of the relay here, with what was refused or dropped elsewhere.
func (c *carriers) Stats() relay.Stats {
	s := c.Relay.Stats()
	for _, m := range c.machines() {
		there := m.Stats()
		s.Refused, s.Unsent, s.Full, s.Untold = s.Refused+there.Refused, s.Unsent+there.Unsent, s.Full+there.Full, s.Untold+there.Untold
	}
	return s
}

// leaveMachines ends all that runs on other machines.
func (m *buildMatch) leaveMachines() {
	for _, machine := range m.machines {
		machine.Close() // that it is gone already is told elsewhere
	}
}
