package cluster

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// stream is a connection of two over the broker: bytes each way, in order. What is lost on the way ends it, and so does what is
// not signed as it must be.
type stream struct {
	conn     *nats.Conn
	from, to string
	sub      *nats.Subscription
	signer   nkeys.KeyPair // of what is said; nil does not sign
	trusted  nkeys.KeyPair // by which what comes is signed; nil asks for no sign

	send sync.Mutex
	sent uint64

	lock   sync.Mutex
	more   *sync.Cond
	buffer []byte
	came   uint64
	err    error
}

const (
	mostChunk  = 256 << 10 // bytes of one message
	signLength = 64        // of an Ed25519 signature
)

// newStream listens on one subject and says on another.
func newStream(conn *nats.Conn, from, to string, signer, trusted nkeys.KeyPair) (*stream, error) {
	s := &stream{conn: conn, from: from, to: to, signer: signer, trusted: trusted}
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

// hear takes in a message: its number and what it carries, and before that, if it is signed, the sign of that and of the subject. One
// that carries nothing ends the stream.
func (s *stream) hear(m *nats.Msg) {
	data := m.Data
	forged := false
	if s.trusted != nil {
		if forged = len(data) < signLength || s.trusted.Verify(append([]byte(s.from), data[signLength:]...), data[:signLength]) != nil; !forged {
			data = data[signLength:]
		}
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	defer s.more.Broadcast()
	switch {
	case s.err != nil:
	case forged:
		s.err = fmt.Errorf("a message is refused: %w", errUntrusted)
	case len(data) < 8 || binary.BigEndian.Uint64(data) != s.came+1:
		s.err = errors.New("a message was lost on the way")
	case len(data) == 8:
		s.err = io.EOF
	default:
		s.came++
		s.buffer = append(s.buffer, data[8:]...)
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
	data := append(binary.BigEndian.AppendUint64(nil, s.sent), part...)
	if s.signer != nil {
		data = s.signed(data)
	}
	return s.conn.Publish(s.to, data)
}

// signed puts the sign of a message before it.
func (s *stream) signed(data []byte) []byte {
	sign, err := s.signer.Sign(append([]byte(s.to), data...))
	if err != nil {
		return data // which the other side refuses
	}
	return append(sign, data...)
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
