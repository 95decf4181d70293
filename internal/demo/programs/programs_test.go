package programs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/trace"
)

// shared is a buffer that may be looked into while it is written.
type shared struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func (s *shared) has(text string) func() bool {
	return func() bool { return strings.Contains(s.String(), text) }
}

var config = hillfold.Config{Rates: hillfold.DefaultRates, Sheep: 3, Round: time.Hour}

// serve runs a server until the test has ended.
func serve(t *testing.T, config hillfold.Config) (at *net.UDPAddr, said, log *shared, control io.Writer, ended chan error) {
	t.Helper()
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	at = conn.LocalAddr().(*net.UDPAddr)
	in, out := io.Pipe()
	said, log, ended = &shared{}, &shared{}, make(chan error, 1)
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go func() { ended <- Serve(ctx, conn, config, 1, Streams{Control: in, Trace: said, Log: log}) }()
	return at, said, log, out, ended
}

// join runs a client that joins.
func join(t *testing.T, at *net.UDPAddr, name string) (said, log *shared, control io.Writer, ended chan error) {
	t.Helper()
	in, out := io.Pipe()
	said, log, ended = &shared{}, &shared{}, make(chan error, 1)
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go func() { ended <- Play(ctx, at, name, config, 1, Streams{Control: in, Trace: said, Log: log}) }()
	tell(t, out, `{"do":"hello","driving":1}`, `{"do":"join"}`)
	return said, log, out, ended
}

func tell(t *testing.T, control io.Writer, lines ...string) {
	t.Helper()
	for _, l := range lines {
		_, err := fmt.Fprintln(control, l)
		require.NoError(t, err)
	}
}

func eventually(t *testing.T, what func() bool) {
	t.Helper()
	require.Eventually(t, what, 10*time.Second, 5*time.Millisecond)
}

func TestAClientPlaysAndLeaves(t *testing.T) {
	at, server, serverLog, serverControl, served := serve(t, config)
	said, log, control, played := join(t, at, "fern")
	eventually(t, said.has(`"joined":"fern"`))
	eventually(t, server.has(`"entity":"dog/fern","joined":"fern"`))
	tell(t, control, `{"do":"input","seq":1,"move":1,"run":true}`, `{"do":"press","seq":2,"input":"bark"}`, "nonsense", `{"do":"dance"}`)
	eventually(t, server.has(`"event":"bark"`))
	eventually(t, said.has(`"gait":"run"`))
	eventually(t, said.has(`"ping":`))
	eventually(t, log.has("no control line"))
	eventually(t, log.has(`a control line says "dance", which this client cannot do`))
	tell(t, control, `{"do":"set","what":"place","to":[5,6]}`, `{"do":"set","what":"stamina"}`, `{"do":"leave"}`)
	eventually(t, said.has(`"left":"fern"`))
	eventually(t, server.has(`"left":"fern"`))
	tell(t, control, `{"do":"join"}`)
	eventually(t, func() bool { return strings.Count(said.String(), `"joined":"fern"`) == 2 })
	tell(t, control, `{"do":"stop"}`)
	require.NoError(t, <-played)
	eventually(t, func() bool { return strings.Count(server.String(), `"left":"fern"`) == 2 }) // it says goodbye
	tell(t, serverControl, `{"do":"stop"}`)
	require.NoError(t, <-served)
	assert.Contains(t, serverLog.String(), "told to stop")

	for _, s := range []*shared{server, said} {
		r, rec := trace.NewReader(strings.NewReader(s.String()), trace.NewNames()), trace.Record{}
		for r.Next(&rec) == nil {
		}
		flaws := r.Flaws()
		assert.Zero(t, flaws.Malformed+flaws.LogText+flaws.Backward)
		assert.Greater(t, flaws.Lines, 10)
	}
}

func TestAClientThatIsRefusedSaysSo(t *testing.T) {
	full := config
	full.Places = 1
	at, server, _, _, _ := serve(t, full)
	first, _, _, _ := join(t, at, "fern")
	eventually(t, first.has(`"joined":"fern"`))
	_, log, _, _ := join(t, at, "moss")
	eventually(t, log.has("refused: the server has no place left"))
	assert.Contains(t, server.String(), `"refused":"moss"`)
}

func TestAServerThatIsNotThereYetIsWaitedFor(t *testing.T) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	at := conn.LocalAddr().(*net.UDPAddr)
	conn.Close()
	said, _, _, _ := join(t, at, "fern")
	time.Sleep(100 * time.Millisecond)
	conn, err = net.ListenUDP("udp", at)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go Serve(ctx, conn, config, 1, Streams{Trace: io.Discard, Log: io.Discard})
	eventually(t, said.has(`"joined":"fern"`))
}

// broken is a stream that nobody reads any more.
type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, errors.New("nobody reads") }

func TestAProgramWhoseTraceNobodyReadsEnds(t *testing.T) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	err = Serve(context.Background(), conn, config, 1, Streams{Trace: broken{}, Log: io.Discard})
	assert.ErrorContains(t, err, "writing the trace: nobody reads")
}
