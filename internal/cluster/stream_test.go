package cluster

import (
	"bytes"
	"context"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pair are both ends of a stream.
func pair(t *testing.T, signer, trusted nkeys.KeyPair) (a, b *stream, conn *nats.Conn) {
	t.Helper()
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, NoSigs: true, NoLog: true})
	require.NoError(t, err)
	s.Start()
	t.Cleanup(s.Shutdown)
	require.True(t, s.ReadyForConnections(10*time.Second))
	dial := func() *nats.Conn {
		c, err := nats.Connect(s.ClientURL(), nats.NoEcho())
		require.NoError(t, err)
		t.Cleanup(c.Close)
		return c
	}
	one, other := dial(), dial()
	a, err = newStream(one, "x.from", "x.to", signer, nil)
	require.NoError(t, err)
	b, err = newStream(other, "x.to", "x.from", nil, trusted)
	require.NoError(t, err)
	return a, b, one
}

func TestAStreamCarriesBytesInOrder(t *testing.T) {
	a, b, _ := pair(t, nil, nil)
	sent := bytes.Repeat([]byte("0123456789abcdef"), 100_000) // several messages
	go func() {
		a.Write(sent)
		a.Close()
	}()
	got, err := io.ReadAll(b)
	require.NoError(t, err)
	assert.Equal(t, len(sent), len(got))
	assert.True(t, bytes.Equal(sent, got))
	_, err = b.Write([]byte("late"))
	assert.Error(t, err, "the other side has gone")
	assert.NoError(t, b.Close())
	_, err = a.Read(make([]byte, 1))
	assert.True(t, errors.Is(err, io.ErrClosedPipe))
}

func TestAStreamThatLosesAMessageEnds(t *testing.T) {
	a, b, conn := pair(t, nil, nil)
	_, err := a.Write([]byte("one"))
	require.NoError(t, err)
	a.sent++ // as if the second had been lost
	_, err = a.Write([]byte("three"))
	require.NoError(t, err)
	require.NoError(t, conn.FlushWithContext(withTimeout(t)))
	got, err := io.ReadAll(b)
	assert.Equal(t, "one", string(got))
	assert.ErrorContains(t, err, "a message was lost on the way")
}

// What a worker is told over a stream is signed, message by message: who sits at the hub can say nothing there.
func TestAStreamTakesWhatIsSignedAlone(t *testing.T) {
	ours, public := key(t)
	theirs, _ := key(t)
	trusted, err := nkeys.FromPublicKey(public)
	require.NoError(t, err)
	for _, c := range []struct {
		name   string
		signer nkeys.KeyPair
		say    func(*stream)
		want   string
		err    error
	}{
		{"signed", ours, func(s *stream) { s.Write([]byte("one")); s.Close() }, "one", nil},
		{"by somebody else", theirs, func(s *stream) { s.Write([]byte("one")) }, "", errUntrusted},
		{"not at all", nil, func(s *stream) { s.Write([]byte("one")) }, "", errUntrusted},
		{"of another stream", ours, func(s *stream) {
			to := s.to
			s.to = "y.to"
			m := s.signed([]byte("one"))
			s.to = to
			s.conn.Publish(to, m)
		}, "", errUntrusted},
	} {
		a, b, _ := pair(t, c.signer, trusted)
		go c.say(a)
		got, err := io.ReadAll(b)
		assert.Equal(t, c.want, string(got), c.name)
		assert.ErrorIs(t, err, c.err, c.name)
	}
}

func withTimeout(t *testing.T) context.Context {
	ctx, end := context.WithTimeout(context.Background(), 10*time.Second)
	t.Cleanup(end)
	return ctx
}
