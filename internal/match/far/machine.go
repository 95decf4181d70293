package far

import (
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"sync"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/network/relay"
)

// Machine is another machine, as the one sees it that plays the match. Its methods are safe for concurrent use.
type Machine struct {
	Name string

	conn io.ReadWriteCloser
	lost chan struct{} // closed when the connection has ended

	send sync.Mutex
	out  *gob.Encoder

	lock     sync.Mutex
	why      error // it was lost
	asked    map[int64]time.Time
	clock    clock
	heard    time.Time
	answers  chan news // of what is asked for and answered
	programs map[int]*Program
	packets  []relay.Packet
	stats    Stats
	zero     time.Time // from when times of packets count, by the other clock
	zeroHere time.Time // the same by this one
	began    time.Time
}

// ErrLost is the error of a machine that is no longer there.
var ErrLost = errors.New("the machine was lost")

// NewMachine begins to talk to a host. It returns when its clock is known well enough to begin with.
func NewMachine(name string, conn io.ReadWriteCloser) (*Machine, error) {
	m := &Machine{Name: name, conn: conn, lost: make(chan struct{}), out: gob.NewEncoder(conn), asked: map[int64]time.Time{}, answers: make(chan news, 16),
		programs: map[int]*Program{}, began: time.Now(), heard: time.Now()}
	go m.listen()
	enough := make(chan struct{})
	go m.ask(enough)
	select {
	case <-enough:
		return m, nil
	case <-m.lost:
		return nil, m.err()
	}
}

func (m *Machine) err() error {
	m.lock.Lock()
	defer m.lock.Unlock()
	return fmt.Errorf("%s: %w: %w", m.Name, ErrLost, m.why)
}

// Err is nil as long as the machine is there.
func (m *Machine) Err() error {
	select {
	case <-m.lost:
		return m.err()
	default:
		return nil
	}
}

// Close ends all that runs there.
func (m *Machine) Close() error {
	m.order(order{End: true})
	return m.conn.Close()
}

func (m *Machine) order(o order) error {
	m.send.Lock()
	defer m.send.Unlock()
	return m.out.Encode(o)
}

// ask asks for the other clock, often at first.
func (m *Machine) ask(enough chan<- struct{}) {
	for n := int64(1); ; n++ {
		m.lock.Lock()
		m.asked[n] = time.Now()
		silent := time.Since(m.heard) > silentFor
		m.lock.Unlock()
		if silent {
			m.lose(fmt.Errorf("nothing was heard of it for %v", silentFor))
			return
		}
		if err := m.order(order{Ask: n}); err != nil {
			m.lose(err)
			return
		}
		wait := askLater
		switch {
		case n < askOften:
			wait = askSoon
		case n == askOften:
			wait = 4 * askSoon
		case n == askOften+1:
			close(enough)
		}
		select {
		case <-m.lost:
			return
		case <-time.After(wait):
		}
	}
}

func (m *Machine) lose(why error) {
	m.lock.Lock()
	if m.why != nil {
		m.lock.Unlock()
		return
	}
	m.why = why
	var running []*Program
	for _, p := range m.programs {
		if !p.over {
			p.over, p.how, p.gone = true, "its machine, "+m.Name+", was lost: "+why.Error(), true
			running = append(running, p)
		}
	}
	m.lock.Unlock()
	close(m.lost)
	m.conn.Close()
	for _, p := range running {
		close(p.exited)
	}
}

func (m *Machine) listen() {
	in := gob.NewDecoder(m.conn)
	for {
		var n news
		if err := in.Decode(&n); err != nil {
			m.lose(err)
			return
		}
		m.hear(n)
	}
}

func (m *Machine) hear(n news) {
	now := time.Now()
	m.lock.Lock()
	m.heard = now
	switch {
	case n.Answer != nil:
		if sent, ok := m.asked[n.Answer.Ask]; ok {
			delete(m.asked, n.Answer.Ask)
			m.clock.add(sent.Sub(m.began), now.Sub(m.began), time.Unix(0, n.Answer.At).Sub(m.began))
		}
	case n.Packets != nil:
		for i := range n.Packets {
			m.here(&n.Packets[i])
		}
		m.packets = append(m.packets, n.Packets...)
	case n.Stats != nil:
		m.stats = *n.Stats
	case n.Path != nil, n.Started != nil:
		m.lock.Unlock()
		m.answers <- n
		return
	case n.Line != nil:
		if p := m.programs[n.Line.Program]; p != nil {
			l := n.Line.Line
			l.At = m.toHere(l.At)
			p.connected = p.connected || l.Source == process.Socket
			m.lock.Unlock()
			p.say(l)
			return
		}
	case n.Loads != nil:
		used := map[*Program]process.Load{}
		for number, load := range n.Loads {
			if p := m.programs[number]; p != nil {
				used[p] = load
			}
		}
		m.lock.Unlock()
		for p, load := range used {
			p.use(load)
		}
		return
	case n.Ended != nil:
		if p := m.programs[n.Ended.Program]; p != nil && !p.over {
			p.over, p.how, p.asked, p.failed = true, n.Ended.How, n.Ended.Asked, n.Ended.Failed
			m.lock.Unlock()
			close(p.exited)
			return
		}
	}
	m.lock.Unlock()
}

// toHere is a time of the other clock by this one. The caller holds the lock.
func (m *Machine) toHere(t time.Time) time.Time {
	return m.began.Add(m.clock.here(t.Sub(m.began)))
}

// here brings the times of a packet to this clock. The caller holds the lock.
func (m *Machine) here(p *relay.Packet) {
	for _, t := range []*time.Duration{&p.Sent, &p.Arrives[0], &p.Arrives[1]} {
		if *t != 0 {
			*t = m.toHere(m.zero.Add(*t)).Sub(m.zeroHere).Round(time.Microsecond)
		}
	}
}

// Carry has packets relayed there, with times that count from zero.
func (m *Machine) Carry(zero time.Time) error {
	m.lock.Lock()
	m.zeroHere, m.zero = zero, m.began.Add(m.clock.there(zero.Sub(m.began)))
	at := m.zero.UnixNano()
	m.lock.Unlock()
	return m.order(order{Zero: at})
}

// Add makes a way to the server, and returns where its client finds it on that machine.
func (m *Machine) Add(p Path) (netip.AddrPort, error) {
	at, err := m.at(order{Path: &p})
	if err != nil {
		return netip.AddrPort{}, err
	}
	return netip.ParseAddrPort(at)
}

// Place finds where a program can tell its trace lines.
func (m *Machine) Place(t Trace) (Trace, error) {
	var err error
	if t.Socket || t.File != "" {
		t.At, err = m.at(order{Trace: &t})
	}
	return t, err
}

// at orders what has an address or a path there.
func (m *Machine) at(o order) (string, error) {
	if err := m.order(o); err != nil {
		return "", m.err()
	}
	n, err := m.answer()
	if err == nil && n.Path.Error != "" {
		err = fmt.Errorf("%s: %s", m.Name, n.Path.Error)
	}
	if err != nil {
		return "", err
	}
	return n.Path.At, nil
}

func (m *Machine) answer() (news, error) {
	select {
	case n := <-m.answers:
		return n, nil
	case <-m.lost:
		return news{}, m.err()
	case <-time.After(2 * silentFor):
		return news{}, fmt.Errorf("%s does not answer", m.Name)
	}
}

// Move gives the client of a path another port; Reset cuts its connections.
func (m *Machine) Move(path int) error { return m.order(order{Move: path + 1}) }

// Reset cuts the connections of a path.
func (m *Machine) Reset(path int) { m.order(order{Reset: path + 1}) }

// Take are the packets of which it was told since it was asked last, with the numbers of their paths there.
func (m *Machine) Take(list []relay.Packet) []relay.Packet {
	m.lock.Lock()
	defer m.lock.Unlock()
	list = append(list, m.packets...)
	m.packets = m.packets[:0]
	return list
}

// Stats are those of the relay there.
func (m *Machine) Stats() Stats {
	m.lock.Lock()
	defer m.lock.Unlock()
	return m.stats
}

// Clock is how the other clock relates to this one, and how certain that is.
func (m *Machine) Clock() Clock {
	m.lock.Lock()
	defer m.lock.Unlock()
	return m.clock.summary()
}
