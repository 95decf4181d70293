package hub

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/cluster"
)

func TestAHubThatOthersCanReachNeedsKeys(t *testing.T) {
	_, err := Start(context.Background(), Options{Listen: "0.0.0.0:0", Folder: t.TempDir()})
	require.ErrorIs(t, err, ErrOpen)
	assert.ErrorContains(t, err, "zwheel hub init")
	for _, listen := range []string{"nonsense", "127.0.0.1:http", "127.0.0.1:99999"} {
		_, err = Start(context.Background(), Options{Listen: listen, Folder: t.TempDir()})
		assert.ErrorIs(t, err, ErrStart, listen)
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	_, err = Start(context.Background(), Options{Listen: taken.Addr().String(), Folder: t.TempDir()})
	assert.ErrorIs(t, err, ErrStart)
}

// locked is a hub with keys.
func locked(t *testing.T) (h *Hub, folder string) {
	t.Helper()
	folder = t.TempDir()
	_, err := Init(folder, []string{"build-7.example"})
	require.NoError(t, err)
	h, err = Start(context.Background(), Options{Listen: "127.0.0.1:0", Folder: folder})
	require.NoError(t, err)
	t.Cleanup(h.Stop)
	return h, folder
}

func TestKeysAreMadeOnce(t *testing.T) {
	folder := t.TempDir()
	public, err := Init(folder, []string{"192.0.2.7"})
	require.NoError(t, err)
	for _, role := range Roles {
		assert.True(t, nkeys.IsValidPublicUserKey(public[role]))
		info, err := os.Stat(KeyFile(folder, role))
		require.NoError(t, err)
		if os.PathSeparator == '/' {
			assert.Zero(t, info.Mode()&0o077, "nobody else reads it")
		}
	}
	_, err = Init(folder, nil)
	assert.ErrorIs(t, err, ErrThere)
	require.NoError(t, os.WriteFile(filepath.Join(folder, publicKeys), []byte(`{"public":{"ask":"x"}}`), 0o600))
	_, err = Start(context.Background(), Options{Listen: "127.0.0.1:0", Folder: folder})
	assert.ErrorContains(t, err, "there is no key to ask")
}

func TestNobodyComesInWithoutAKey(t *testing.T) {
	h, folder := locked(t)
	assert.Contains(t, h.URL(), "tls://")
	_, err := cluster.Dial(context.Background(), cluster.Address{URL: h.URL(), CA: CAFile(folder)}, "ask")
	assert.ErrorIs(t, err, cluster.ErrUnreachable)
	_, err = cluster.Dial(context.Background(), cluster.Address{URL: h.URL(), Key: KeyFile(folder, Ask)}, "ask")
	assert.ErrorIs(t, err, cluster.ErrUnreachable, "its certificate is nobody's that this machine knows")
	_, other := locked(t)
	_, err = cluster.Dial(context.Background(), cluster.Address{URL: h.URL(), CA: CAFile(folder), Key: KeyFile(other, Ask)}, "ask")
	assert.ErrorIs(t, err, cluster.ErrUnreachable)
	_, err = cluster.Dial(context.Background(), cluster.Address{URL: h.URL(), CA: CAFile(folder), Key: CAFile(folder)}, "ask")
	assert.ErrorContains(t, err, "no key of zwheel hub init")
	_, err = cluster.Dial(context.Background(), cluster.Address{URL: h.URL(), CA: KeyFile(folder, Ask), Key: KeyFile(folder, Ask)}, "ask")
	assert.ErrorContains(t, err, "there is no certificate in it")
}

// What a key does not allow does not happen: who looks changes nothing, who works asks for nothing, and who asks makes up no
// results.
func TestEachKeyAllowsWhatItIsFor(t *testing.T) {
	h, folder := locked(t)
	ctx := context.Background()
	for _, c := range []struct {
		role    Role
		subject string
		may     bool
	}{
		{Ask, "zw.work.v_any.night", true},
		{Ask, "zw.result.night.k-1", false},
		{Ask, "$KV.zwheel_campaigns.to.night", true},
		{Ask, "$KV.zwheel_workers.w1", false},
		{Work, "zw.work.v_any.night", false},
		{Work, "zw.result.night.k-2", true},
		{Work, "$KV.zwheel_campaigns.to.night", false},
		{Work, "$KV.zwheel_plans.aa", false},
		{Work, "$O.zwheel_builds.M.x", false},
		{Work, "zw.run.night.aa.0", true},
		{Work, "zw.run.night.aa.0", false}, // it is there
		{Work, "zw.result.night.k-2", false},
		{Work, "$O.zwheel_sealed.M.x", false},
		{Work, "$O.zwheel_sealed.C.x", false},
		{Ask, "zw.run.night.bb.0", false},
		{Ask, "$O.zwheel_sealed.M.x", false},
		{Look, "$KV.zwheel_workers.w1", false},
		{Look, "zw.run.night.bb.0", false},
		{Look, "zw.alarm.night", false},
		{Look, "$KV.zwheel_plans.aa", false},
		{Look, "$O.zwheel_builds.M.x", false},
		{Work, "zw.alarm.night", true},
		{Work, "$KV.zwheel_workers.w1", true},
		{Ask, "zw.alarm.night", true},
		{Ask, "$KV.zwheel_plans.aa", true},
		{Ask, "$O.zwheel_builds.M.x", true},
		{Look, "zw.work.v_any.night", false},
		{Look, "zw.result.night.k-3", false},
		{Look, "$KV.zwheel_campaigns.to.night", false},
	} {
		js := connect(t, h, folder, c.role)
		_, err := js.Publish(ctx, c.subject, []byte("{}"))
		if c.may {
			assert.NoError(t, err, "%s says %s", c.role, c.subject)
		} else {
			assert.Error(t, err, "%s says %s", c.role, c.subject)
		}
	}
	for _, role := range Roles {
		js := connect(t, h, folder, role)
		assert.Error(t, js.DeleteStream(ctx, "ZWHEEL_RESULTS"), role)
		_, err := js.CreateStream(ctx, jetstream.StreamConfig{Name: "MINE", Subjects: []string{"mine"}})
		assert.Error(t, err, role)
		for subject, stream := range streamOf {
			s, err := js.Stream(ctx, stream)
			require.NoError(t, err, "%s: %s", role, stream)
			_, err = s.GetLastMsgForSubject(ctx, subject)
			assert.NoError(t, err, "%s reads %s", role, subject)
		}
		for _, stream := range []string{"ZWHEEL_RESULTS", "ZWHEEL_RUNS", "OBJ_zwheel_sealed", "ZWHEEL_ALARMS"} {
			s, err := js.Stream(ctx, stream)
			if err == nil {
				assert.Error(t, s.Purge(ctx), "%s empties %s", role, stream)
				assert.Error(t, s.DeleteMsg(ctx, 1), "%s deletes of %s", role, stream)
			}
		}
	}
}

// streamOf is where the broker keeps what is said.
var streamOf = map[string]string{"zw.result.night.k-2": "ZWHEEL_RESULTS", "zw.run.night.aa.0": "ZWHEEL_RUNS", "zw.alarm.night": "ZWHEEL_ALARMS", "$KV.zwheel_campaigns.to.night": "KV_zwheel_campaigns",
	"$KV.zwheel_workers.w1": "KV_zwheel_workers", "$KV.zwheel_plans.aa": "KV_zwheel_plans", "$O.zwheel_builds.M.x": "OBJ_zwheel_builds"}

func connect(t *testing.T, h *Hub, folder string, role Role) jetstream.JetStream {
	t.Helper()
	option, err := nats.NkeyOptionFromSeed(KeyFile(folder, role))
	require.NoError(t, err)
	conn, err := nats.Connect(h.URL(), option, nats.RootCAs(CAFile(folder)), nats.CustomInboxPrefix("_zw_"+string(role)), nats.Timeout(nats.DefaultTimeout))
	require.NoError(t, err)
	t.Cleanup(conn.Close)
	js, err := jetstream.New(conn, jetstream.WithDefaultTimeout(nats.DefaultTimeout/4))
	require.NoError(t, err)
	return js
}
