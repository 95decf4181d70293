package cluster

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/nats-io/nats.go"
)

// stream is a connection of two over the broker: bytes each way, in order. What is lost on the way ends it.
type stream struct {
	conn *nats.Conn
	to   string
	sub  *nats.Subscription

	send sync.Mutex
	sent uint64

	lock   sync.Mutex
	more   *sync.Cond
	buffer []byte
	came   uint64
	err    error
}

const mostChunk = 256 << 10 // bytes of one message

// newStream listens on one subject and says on another.
func newStream(conn *nats.Conn, from, to string) (*stream, error) {
	s := &stream{conn: conn, to: to}
	s.more = sync.NewCond(&s.lock)
	sub, err := conn.Subscribe(from, s.hear)
	if err != nil {
		return nil, err
	}
	if err := sub.SetPendingLimits(1<<20, 512<<20); err != nil {
		return nil, err
	}
	s.sub = sub
	return s, conn.Flush() // from here on nothing is missed
}

// hear takes in a message: its number and what it carries. One that carries nothing ends the stream.
func (s *stream) hear(m *nats.Msg) {
	s.lock.Lock()
	defer s.lock.Unlock()
	defer s.more.Broadcast()
	switch {
	case s.err != nil:
	case len(m.Data) < 8 || binary.BigEndian.Uint64(m.Data) != s.came+1:
		s.err = errors.New("a message was lost on the way")
	case len(m.Data) == 8:
		s.err = io.EOF
	default:
		s.came++
		s.buffer = append(s.buffer, m.Data[8:]...)
	}
}

func (s *stream) Read(p []byte) (int, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	for len(s.buffer) == 0 && s.err == nil {
		s.more.Wait()
	}
	if len(s.buffer) == 0 {
		return 0, s.err
	}
	n := copy(p, s.buffer)
	if s.buffer = s.buffer[n:]; len(s.buffer) == 0 {
		s.buffer = nil
	}
	return n, nil
}

func (s *stream) Write(p []byte) (n int, err error) {
	s.send.Lock()
	defer s.send.Unlock()
	for len(p) > 0 {
		s.lock.Lock()
		over := s.err
		s.lock.Unlock()
		if over != nil {
			return n, fmt.Errorf("the connection has ended: %w", over)
		}
		part := p[:min(len(p), mostChunk)]
		if err := s.say(part); err != nil {
			return n, err
		}
		n, p = n+len(part), p[len(part):]
	}
	return n, nil
}

// say sends one message. The caller holds the lock to send.
func (s *stream) say(part []byte) error {
	s.sent++
	return s.conn.Publish(s.to, append(binary.BigEndian.AppendUint64(nil, s.sent), part...))
}

// Close ends it, on both sides.
func (s *stream) Close() error {
	s.lock.Lock()
	over := s.err != nil
	if !over {
		s.err = io.ErrClosedPipe
	}
	s.lock.Unlock()
	s.more.Broadcast()
	if over && !errors.Is(s.err, io.ErrClosedPipe) {
		return s.sub.Unsubscribe()
	}
	s.send.Lock()
	defer s.send.Unlock()
	return errors.Join(s.say(nil), s.conn.Flush(), s.sub.Unsubscribe())
}
