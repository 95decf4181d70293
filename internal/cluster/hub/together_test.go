package hub

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/plan"
)

// Three servers of a team's own that keep together hold three copies of everything: a campaign goes on when one of them dies.
func TestACampaignOnServersThatKeepTogetherOutlivesOneOfThem(t *testing.T) {
	if testing.Short() {
		t.Skip("three servers take their time to find each other")
	}
	var servers []*server.Server
	var routes []*url.URL
	var listeners []net.Listener
	for range 3 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		listeners = append(listeners, l)
		routes = append(routes, &url.URL{Scheme: "nats", Host: l.Addr().String()})
	}
	var urls []string
	for i, l := range listeners {
		port := l.Addr().(*net.TCPAddr).Port
		require.NoError(t, l.Close())
		s, err := server.NewServer(&server.Options{ServerName: fmt.Sprintf("n%d", i), Host: "127.0.0.1", Port: server.RANDOM_PORT, JetStream: true, StoreDir: t.TempDir(), NoSigs: true, NoLog: true, MaxPayload: 8 << 20,
			Cluster: server.ClusterOpts{Name: "team", Host: "127.0.0.1", Port: port}, Routes: routes})
		require.NoError(t, err)
		s.Start()
		defer s.Shutdown()
		servers = append(servers, s)
	}
	for _, s := range servers {
		require.True(t, s.ReadyForConnections(10*time.Second))
		urls = append(urls, s.ClientURL())
	}
	require.Eventually(t, func() bool {
		return servers[0].JetStreamIsCurrent() && servers[1].JetStreamIsCurrent() && servers[2].JetStreamIsCurrent()
	}, 30*time.Second, 100*time.Millisecond)

	ctx, end := context.WithTimeout(context.Background(), 2*time.Minute)
	defer end()
	dial := func(at, as string) *cluster.Link {
		l, err := cluster.Dial(ctx, cluster.Address{URL: at}, as)
		require.NoError(t, err)
		return l
	}
	asks := dial(urls[0], "ask")
	defer asks.Close()
	works := dial(urls[1], "work w1")
	w := &cluster.Worker{Name: "w1", Folder: t.TempDir(), Slots: 2, Crew: played.Here{}, Longest: time.Minute, Drain: time.Second}
	working, rest := context.WithCancel(ctx)
	rested := make(chan error, 1)
	go func() { rested <- w.Run(working, works) }()
	defer func() { rest(); assert.NoError(t, <-rested); works.Close() }()

	conn, err := nats.Connect(urls[0])
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	for _, name := range []string{"ZWHEEL_WORK", "ZWHEEL_RESULTS", "KV_zwheel_campaigns", "OBJ_zwheel_builds"} {
		s, err := js.Stream(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, 3, s.CachedInfo().Config.Replicas, name)
	}

	c, err := asks.Crew(ctx, cluster.Asked{Campaign: "team", What: "hunt", Plan: "one"})
	require.NoError(t, err)
	defer c.Close(ctx, true)
	p, err := plan.Parse("plan.yaml", []byte("title: team\nduration: 5s\nbots: [{name: fern}]\n"))
	require.NoError(t, err)
	const n = 60
	var texts [n]string
	err = campaign.EachWithin(c.Context(), func() int { return min(4, c.AtOnce(false)) }, campaign.Numbers(n), func(i int) error {
		if i == n/2 {
			servers[2].Shutdown()
		}
		one := *p
		one.Seed = uint64(i)
		m, err := c.Play(c.Context(), &one)
		texts[i] = fmt.Sprint(m.Measures)
		return err
	})
	require.NoError(t, err)
	for i := range texts {
		one := *p
		one.Seed = uint64(i)
		m, err := played.Here{}.Play(ctx, &one)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(m.Measures), texts[i], strings.Join(urls, ","))
	}
}
