// Package cluster has the matches of a campaign played by workers on other machines, by way of a message
// broker that keeps what it was handed: NATS with JetStream.
//
// Whoever asks (Crew) hands out seeds of a plan in batches, over a stream from which each message is taken by one worker.
// A worker (Worker) plays them and stores one result for each seed, and only then says that the batch is done; if
// it dies, another gets the batch. The store keeps the first result of a seed and refuses a second, so a match counts
// once whoever dies. Plans and builds travel by the sum of their content.
//
// It knows plans and how to have one played, and nothing of what many matches are played for, nor of how anything is
// shown. The broker itself is in package hub.
package cluster

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"zitherwheel/internal/version"
)

// Names of what the broker keeps. All begin alike, so that they stand apart from a team's other streams.
const (
	workStream   = "ZWHEEL_WORK"
	resultStream = "ZWHEEL_RESULTS"
	alarmStream  = "ZWHEEL_ALARMS"
	campaigns    = "zwheel_campaigns" // key-value: what each campaign is, and is to do
	workers      = "zwheel_workers"   // key-value: who is there
	plans        = "zwheel_plans"     // key-value: plans by their sum
	builds       = "zwheel_builds"    // objects: archives of builds by their sum
	sealedStore  = "zwheel_sealed"    // objects: results of campaigns that are over, which the hub alone writes

	workSubject   = "zw.work."   // class, campaign
	resultSubject = "zw.result." // campaign, key
	alarmSubject  = "zw.alarm."  // campaign
)

// KeptFor is how long results, plans, builds and runs of campaigns are kept, unless a hub is told otherwise.
const KeptFor = 14 * 24 * time.Hour

const (
	ackWait     = 10 * time.Second // after which work whose worker is silent goes to another
	goneAfter   = 8 * time.Second  // without a sign of life
	patience    = 10 * time.Second // for one answer of the broker
	firstTry    = 3 * time.Second  // for a broker that does not listen yet
	reconnect   = 500 * time.Millisecond
	mostMessage = 4 << 20 // bytes
	mostCopies  = 3
)

// Address is where a broker is, and how one gets in.
type Address struct {
	URL string // nats://HOST:PORT or tls://HOST:PORT
	Key string // a file: one of those that zwheel hub init makes, or credentials of a team's own broker; "" is none
	CA  string // a file with the certificate by which the broker is known; "" is those of the system
}

// Link is a connection to a broker.
type Link struct {
	conn    *nats.Conn
	js      jetstream.JetStream
	signer  nkeys.KeyPair // of the key, to sign what is asked for; nil without one
	address Address
	buckets sync.Map // by name: each asks the broker once, which takes longer than a message
}

// bucket is one of the broker's key-value stores.
func (l *Link) bucket(ctx context.Context, name string) (jetstream.KeyValue, error) {
	if kv, ok := l.buckets.Load(name); ok {
		return kv.(jetstream.KeyValue), nil
	}
	kv, err := l.js.KeyValue(ctx, name)
	if err == nil {
		l.buckets.Store(name, kv)
	}
	return kv, err
}

// The errors of a broker that cannot be used.
var (
	ErrUnreachable = errors.New("there is no broker")
	ErrUnusable    = errors.New("the broker cannot be used")
)

// Dial connects, and makes sure that the broker has all that is needed.
func Dial(ctx context.Context, a Address, as string) (*Link, error) {
	l := &Link{address: a}
	options, err := l.options(as)
	if err != nil {
		return nil, err
	}
	for began := time.Now(); ; pause(ctx, reconnect) { // the broker may be starting just now
		if l.conn, err = nats.Connect(a.URL, options...); err == nil || ctx.Err() != nil || time.Since(began) > firstTry || !errors.Is(err, nats.ErrNoServers) {
			break
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w; zwheel hub starts one", ErrUnreachable, a.URL, err)
	}
	if l.js, err = jetstream.New(l.conn, jetstream.WithDefaultTimeout(patience), jetstream.WithPublishAsyncMaxPending(4096)); err != nil {
		l.Close()
		return nil, err
	}
	if err := Prepare(ctx, l.js, KeptFor, false); err != nil {
		l.Close()
		return nil, fmt.Errorf("%w: %s: %w", ErrUnusable, a.URL, err)
	}
	return l, nil
}

// Close ends the connection.
func (l *Link) Close() { l.conn.Close() }

func (l *Link) options(as string) ([]nats.Option, error) {
	at, err := url.Parse(l.address.URL)
	if err != nil || at.Scheme != "nats" && at.Scheme != "tls" || at.Host == "" {
		return nil, fmt.Errorf("%w: %q is no address; write nats://HOST:PORT, or tls://HOST:PORT", ErrUnreachable, l.address.URL)
	}
	options := []nats.Option{nats.Name("zwheel " + as), nats.MaxReconnects(-1), nats.ReconnectWait(reconnect), nats.Timeout(5 * time.Second),
		nats.CustomInboxPrefix("_zw_" + role(as)), nats.NoEcho()}
	if l.address.Key != "" {
		text, err := os.ReadFile(l.address.Key)
		if err != nil {
			return nil, err
		}
		if strings.Contains(string(text), "USER JWT") {
			if l.signer, err = nkeys.ParseDecoratedUserNKey(text); err != nil {
				return nil, fmt.Errorf("%s: its credentials cannot be read: %w", l.address.Key, err)
			}
			options = append(options, nats.UserCredentials(l.address.Key))
		} else {
			l.signer, err = nkeys.FromSeed([]byte(strings.TrimSpace(string(text))))
			if err != nil {
				return nil, fmt.Errorf("%s: no key of zwheel hub init, and no credentials: %w", l.address.Key, err)
			}
			public, err := l.signer.PublicKey()
			if err != nil {
				return nil, err
			}
			options = append(options, nats.Nkey(public, l.signer.Sign))
		}
	}
	if l.address.CA != "" {
		text, err := os.ReadFile(l.address.CA)
		if err != nil {
			return nil, err
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("%s: there is no certificate in it", l.address.CA)
		}
		options = append(options, nats.Secure(&tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}))
	}
	return options, nil
}

// role is the part of a name by which permissions are given: ask, work or look.
func role(as string) string { first, _, _ := strings.Cut(as, " "); return first }

// Local reports whether an address is on this machine alone.
func Local(address string) bool {
	host := address
	if at, err := url.Parse(address); err == nil && at.Host != "" {
		host = at.Hostname()
	} else if h, _, err := net.SplitHostPort(address); err == nil {
		host = h
	}
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// Prepare makes what the broker keeps, where it is not there yet: results, plans, builds and runs for so long. What is
// there is left as it is unless the broker is one's own.
func Prepare(ctx context.Context, js jetstream.JetStream, keep time.Duration, own bool) error {
	if _, err := js.AccountInfo(ctx); err != nil {
		if errors.Is(err, jetstream.ErrJetStreamNotEnabled) || errors.Is(err, jetstream.ErrJetStreamNotEnabledForAccount) || errors.Is(err, nats.ErrNoResponders) {
			return errors.New("it keeps nothing: JetStream is not enabled there")
		}
		return err
	}
	// A hub that is just starting makes it all, this last; nobody else may.
	for began := time.Now(); !own && ctx.Err() == nil && time.Since(began) < firstTry; pause(ctx, reconnect/5) {
		if _, err := js.ObjectStore(ctx, sealedStore); err == nil {
			return nil
		}
	}
	copies := 1
	for _, c := range []jetstream.StreamConfig{
		{Name: workStream, Subjects: []string{workSubject + ">"}, Retention: jetstream.WorkQueuePolicy, Discard: jetstream.DiscardNew, MaxMsgSize: mostMessage},
		{Name: resultStream, Subjects: []string{resultSubject + ">"}, MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
			MaxAge: keep, Duplicates: time.Minute, AllowDirect: true, MaxMsgSize: mostMessage},
		{Name: runStream, Subjects: []string{runSubject + ">"}, MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
			MaxAge: keep, Duplicates: time.Minute, AllowDirect: true, MaxMsgSize: mostMessage, DenyDelete: true, DenyPurge: true},
		{Name: alarmStream, Subjects: []string{alarmSubject + ">"}, MaxAge: keep, MaxMsgs: 10_000},
	} {
		_, err := js.Stream(ctx, c.Name)
		switch {
		case own:
			_, err = js.CreateOrUpdateStream(ctx, c)
		case errors.Is(err, jetstream.ErrStreamNotFound):
			// On servers that keep together one may die; a single one refuses copies.
			for _, c.Replicas = range []int{mostCopies, 1} {
				if _, err = js.CreateStream(ctx, c); err == nil || errors.Is(err, jetstream.ErrStreamNameAlreadyInUse) {
					copies, err = c.Replicas, nil
					break
				}
			}
		}
		if err != nil {
			return fmt.Errorf("the stream %s: %w", c.Name, err)
		}
	}
	for _, c := range []jetstream.KeyValueConfig{
		{Bucket: campaigns, History: 1},
		{Bucket: workers, History: 1, TTL: time.Minute},
		{Bucket: plans, History: 1, TTL: keep, MaxValueSize: mostMessage},
	} {
		_, err := js.KeyValue(ctx, c.Bucket)
		switch {
		case own:
			_, err = js.CreateOrUpdateKeyValue(ctx, c)
		case errors.Is(err, jetstream.ErrBucketNotFound):
			c.Replicas = copies
			if _, err = js.CreateKeyValue(ctx, c); errors.Is(err, jetstream.ErrBucketExists) {
				err = nil
			}
		}
		if err != nil {
			return fmt.Errorf("the bucket %s: %w", c.Bucket, err)
		}
	}
	for _, c := range []jetstream.ObjectStoreConfig{{Bucket: builds, TTL: keep}, {Bucket: sealedStore, TTL: keep}} {
		_, err := js.ObjectStore(ctx, c.Bucket)
		switch {
		case own:
			_, err = js.CreateOrUpdateObjectStore(ctx, c)
		case errors.Is(err, jetstream.ErrBucketNotFound):
			c.Replicas = copies
			if _, err = js.CreateObjectStore(ctx, c); errors.Is(err, jetstream.ErrBucketExists) {
				err = nil
			}
		}
		if err != nil {
			return fmt.Errorf("the store %s: %w", c.Bucket, err)
		}
	}
	return nil
}

// Class is which workers can play: those of the same version of this program, and of the system and processor that a plan
// needs, like linux-amd64, or any.
type Class struct{ Version, Needs string }

// Any is what a plan needs that plays everywhere.
const Any = "any"

var plain = regexp.MustCompile(`[^A-Za-z0-9-]+`)

// token makes a text one word of a subject.
func token(text string) string { return plain.ReplaceAllString(text, "_") }

func (c Class) token() string { return token(c.Version) + "_" + token(c.Needs) }

// own is the version that both sides must have.
func own() string { return version.String() }

// ValidName reports whether a campaign or a worker may be called so.
func ValidName(name string) bool {
	return name != "" && len(name) <= 80 && token(name) == name && filepath.IsLocal(name)
}

// NameOf makes a name of a text.
func NameOf(text string) string {
	name := strings.Trim(plain.ReplaceAllString(text, "-"), "-")
	return name[:min(len(name), 80)]
}
