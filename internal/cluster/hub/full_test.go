package hub

import (
	"context"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/cluster"
	_ "zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/plan"
)

// A broker that keeps nothing is told from one that is not there.
func TestABrokerThatKeepsNothingIsTold(t *testing.T) {
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, NoSigs: true, NoLog: true})
	require.NoError(t, err)
	s.Start()
	defer s.Shutdown()
	require.True(t, s.ReadyForConnections(10*time.Second))
	_, err = cluster.Dial(context.Background(), cluster.Address{URL: s.ClientURL()}, "ask")
	require.ErrorIs(t, err, cluster.ErrUnusable)
	assert.ErrorContains(t, err, "JetStream is not enabled there")
}

// A broker without room says so, to whoever asks, and nothing is lost: with more room the campaign goes on.
func TestAFullBrokerIsTold(t *testing.T) {
	folder := t.TempDir()
	h, err := Start(context.Background(), Options{Listen: "127.0.0.1:0", Folder: folder, Disk: 4096})
	require.NoError(t, err)
	ctx, end := context.WithTimeout(context.Background(), time.Minute)
	defer end()
	ask := func(h *Hub) error {
		l, err := cluster.Dial(ctx, cluster.Address{URL: h.URL()}, "ask")
		require.NoError(t, err)
		defer l.Close()
		c, err := l.Crew(ctx, cluster.Asked{Campaign: "full", What: "hunt", Plan: "one", Resume: true})
		if err != nil {
			return err
		}
		defer c.Close(ctx, false)
		p, err := plan.Parse("plan.yaml", []byte("title: short\nduration: 5s\nbots: [{name: fern}]\n"))
		require.NoError(t, err)
		played := make(chan error, 1)
		limited, stop := context.WithTimeout(c.Context(), 2*time.Second)
		defer stop()
		go func() {
			for seed := uint64(0); limited.Err() == nil; seed++ {
				one := *p
				one.Title, one.Seed = "short"+string(make([]byte, 900)), seed
				if _, err := c.Play(limited, &one); err != nil {
					played <- err
					return
				}
			}
		}()
		<-limited.Done()
		if cause := context.Cause(c.Context()); cause != nil {
			return cause
		}
		return <-played
	}
	assert.ErrorContains(t, ask(h), "the broker has no room left")
	h.Stop()
	h, err = Start(context.Background(), Options{Listen: "127.0.0.1:0", Folder: folder, Disk: 64 << 20})
	require.NoError(t, err)
	defer h.Stop()
	assert.ErrorIs(t, ask(h), context.DeadlineExceeded, "there is room, and no worker")
}
