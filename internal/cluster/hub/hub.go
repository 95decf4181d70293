// Package hub is the broker of campaigns inside this program: a NATS server with JetStream that keeps its data in one
// folder. A team's own servers do as well; then none of this is needed.
//
// On loopback it lets everybody in. On other addresses it starts only with keys and a certificate, see Init.
package hub

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"zitherwheel/internal/cluster"
)

// Options say where a hub listens and keeps its data.
type Options struct {
	Listen string // HOST:PORT; port 0 takes a free one
	Folder string
	Disk   int64 // bytes that its data may take; 0 is three quarters of what is free

	Tell  func(string)  // hears what it cannot do; may be nil
	Quiet time.Duration // for which nobody must have asked for a campaign until its results are packed; 0 is ten minutes

	Keep time.Duration // what campaigns leave is kept for so long; 0 is cluster.KeptFor
}

// Hub is a broker that runs.
type Hub struct {
	server *server.Server
	scheme string
	conn   *nats.Conn // of the hub itself
	tidy   func()     // ends what is done beside
}

// The errors of a hub that does not start.
var (
	ErrOpen  = errors.New("a hub that others can reach needs keys")
	ErrStart = errors.New("the hub cannot be started")
)

// Start starts a hub.
func Start(ctx context.Context, o Options) (*Hub, error) {
	host, port, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return nil, fmt.Errorf("%w: --listen %q: write HOST:PORT", ErrStart, o.Listen)
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, fmt.Errorf("%w: --listen %q: %q is no port", ErrStart, o.Listen, port)
	}
	settings := &server.Options{ServerName: "zwheel", Host: host, Port: int(number), JetStream: true, StoreDir: filepath.Join(o.Folder, "data"),
		NoSigs: true, NoLog: true, MaxPayload: 8 << 20, SyncInterval: time.Second, WriteDeadline: 20 * time.Second}
	if number == 0 {
		settings.Port = server.RANDOM_PORT
	}
	h := &Hub{scheme: "nats"}
	keys, err := readKeys(o.Folder)
	switch {
	case errors.Is(err, os.ErrNotExist) && !cluster.Local(o.Listen):
		return nil, fmt.Errorf("%w: %s is not on this machine alone; zwheel hub init --folder %s --host NAME makes them", ErrOpen, o.Listen, o.Folder)
	case errors.Is(err, os.ErrNotExist):
	case err != nil:
		return nil, err
	}
	inside, err := nkeys.CreateUser()
	if err != nil {
		return nil, err
	}
	if keys != nil {
		if err := h.lock(settings, o.Folder, keys, inside); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(settings.StoreDir, 0o700); err != nil {
		return nil, err
	}
	if h.server, err = server.NewServer(settings); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrStart, err)
	}
	if taken := free(host, int(number)); taken != nil {
		return nil, fmt.Errorf("%w: %w", ErrStart, taken)
	}
	h.server.Start()
	if !h.server.ReadyForConnections(20 * time.Second) {
		h.Stop()
		return nil, fmt.Errorf("%w on %s within 20 s", ErrStart, o.Listen)
	}
	if err := h.limit(o.Disk); err != nil {
		h.Stop()
		return nil, fmt.Errorf("%w: %w", ErrStart, err)
	}
	js, err := h.prepare(ctx, cmp.Or(o.Keep, cluster.KeptFor), keys != nil, inside)
	if err != nil {
		h.Stop()
		return nil, fmt.Errorf("%w: %w", ErrStart, err)
	}
	beside, end := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan struct{})
	h.tidy = func() { end(); <-ended }
	go func() {
		defer close(ended)
		seal(beside, js, cmp.Or(o.Quiet, quiet), o.Tell)
	}()
	return h, nil
}

// quiet is for how long nobody must have asked for a campaign until its results are packed.
const quiet = 10 * time.Minute

// seal packs results of campaigns that are over.
func seal(ctx context.Context, js jetstream.JetStream, quiet time.Duration, tell func(string)) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(quiet / 4):
			if err := cluster.Seal(ctx, js, quiet); err != nil && ctx.Err() == nil && tell != nil {
				tell(err.Error())
			}
		}
	}
}

// free reports what is wrong with a port, which the server would end the program for.
func free(host string, port int) error {
	l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err != nil {
		return err
	}
	return l.Close()
}

// lock lets in whoever has one of the keys alone, over TLS.
func (h *Hub) lock(settings *server.Options, folder string, keys *keys, inside nkeys.KeyPair) error {
	certificate, err := tls.LoadX509KeyPair(filepath.Join(folder, serverCertificate), filepath.Join(folder, serverKey))
	if err != nil {
		return fmt.Errorf("%w: its certificate: %w", ErrStart, err)
	}
	settings.TLS, settings.TLSTimeout = true, 5
	settings.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	own, err := inside.PublicKey()
	if err != nil {
		return err
	}
	settings.Nkeys = []*server.NkeyUser{{Nkey: own}}
	for _, role := range Roles {
		settings.Nkeys = append(settings.Nkeys, &server.NkeyUser{Nkey: keys.Public[role], Permissions: permissions(role)})
	}
	h.scheme = "tls"
	return nil
}

// limit has the broker refuse what there is no room for: by itself it counts what is reserved, and not what is kept.
func (h *Hub) limit(most int64) error {
	if most == 0 {
		most = h.server.JetStreamConfig().MaxStore / 10 * 9 // all of it cannot be had
	}
	return h.server.GlobalAccount().UpdateJetStreamLimits(map[string]server.JetStreamAccountLimits{
		"": {MaxMemory: -1, MaxStore: most, MaxStreams: -1, MaxConsumers: -1, MaxAckPending: -1, MemoryMaxStreamBytes: -1, StoreMaxStreamBytes: -1}})
}

// prepare makes what campaigns need, with the rights of the hub itself.
func (h *Hub) prepare(ctx context.Context, keep time.Duration, locked bool, inside nkeys.KeyPair) (jetstream.JetStream, error) {
	options := []nats.Option{nats.InProcessServer(h.server)}
	if locked {
		public, err := inside.PublicKey()
		if err != nil {
			return nil, err
		}
		options = append(options, nats.Nkey(public, inside.Sign), nats.Secure(&tls.Config{InsecureSkipVerify: true})) // within this process
	}
	var err error
	if h.conn, err = nats.Connect("", options...); err != nil {
		return nil, err
	}
	js, err := jetstream.New(h.conn)
	if err != nil {
		return nil, err
	}
	return js, cluster.Prepare(ctx, js, keep, true)
}

// URL is where workers and askers reach it: if it listens on all addresses, by this machine's name.
func (h *Hub) URL() string {
	at := h.server.Addr().String()
	if host, port, err := net.SplitHostPort(at); err == nil {
		if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
			if name, err := os.Hostname(); err == nil {
				at = net.JoinHostPort(name, port)
			}
		}
	}
	return h.scheme + "://" + at
}

// Standing is what a hub has to do.
type Standing struct {
	Connections int
	Messages    uint64 // that are kept
	Bytes       uint64 // of disk that is used
}

// Standing says so.
func (h *Hub) Standing() (s Standing) {
	s.Connections = h.server.NumClients()
	if j, err := h.server.Jsz(nil); err == nil {
		s.Messages, s.Bytes = j.Messages, j.Store
	}
	return s
}

// Stop ends it; what was handed to it is kept.
func (h *Hub) Stop() {
	if h.tidy != nil {
		h.tidy()
	}
	if h.conn != nil {
		h.conn.Close()
	}
	h.server.Shutdown()
	h.server.WaitForShutdown()
}
