package cluster

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/pack"
	"zitherwheel/internal/verdict/judge"
)

func key(t *testing.T) (nkeys.KeyPair, string) {
	t.Helper()
	pair, err := nkeys.CreateUser()
	require.NoError(t, err)
	public, err := pair.PublicKey()
	require.NoError(t, err)
	return pair, public
}

// Work is taken from keys that are trusted alone, and only as they signed it.
func TestWorkIsTakenFromThoseWhoAreTrusted(t *testing.T) {
	sum := sumOf([]byte("plan"))
	ours, public := key(t)
	theirs, other := key(t)
	m, err := (&Link{signer: ours}).sign("s", &batch{Campaign: "night", Plan: sum, Seeds: []uint64{1}, Slots: 1})
	require.NoError(t, err)
	forged, err := (&Link{signer: theirs}).sign("s", &batch{Campaign: "night", Plan: sum, Seeds: []uint64{1}, Slots: 1})
	require.NoError(t, err)
	unsigned, err := (&Link{}).sign("s", &batch{Campaign: "night", Plan: sum, Seeds: []uint64{1}, Slots: 1})
	require.NoError(t, err)
	claimed := nats.Header{byHeader: []string{public}, signHeader: forged.Header[signHeader]}
	for _, c := range []struct {
		name    string
		text    []byte
		header  nats.Header
		trusted []string
		want    bool
	}{
		{"by a key that is trusted", m.Data, m.Header, []string{other, public}, true},
		{"by one that is not", forged.Data, forged.Header, []string{public}, false},
		{"by nobody", unsigned.Data, unsigned.Header, []string{public}, false},
		{"by somebody who claims to be trusted", forged.Data, claimed, []string{public}, false},
		{"changed on its way", []byte(strings.Replace(string(m.Data), `"seeds":[1]`, `"seeds":[2]`, 1)), m.Header, []string{public}, false},
		{"with no sign that could be one", m.Data, nats.Header{byHeader: []string{public}, signHeader: []string{"?"}}, []string{public}, false},
		{"by anybody, where nobody is named", unsigned.Data, unsigned.Header, nil, true},
	} {
		_, err := opened(c.text, c.header, c.trusted)
		if c.want {
			assert.NoError(t, err, c.name)
		} else {
			assert.ErrorIs(t, err, errUntrusted, c.name)
		}
	}
}

// What comes from outside names no path, and asks for no more than it may.
func TestWorkThatMakesNoSenseIsRefused(t *testing.T) {
	sum := sumOf([]byte("plan"))
	for _, c := range []struct {
		name string
		b    batch
	}{
		{"a campaign that is a path", batch{Campaign: "../night", Plan: sum, Seeds: []uint64{1}}},
		{"a campaign of several words", batch{Campaign: "a.b", Plan: sum, Seeds: []uint64{1}}},
		{"a plan that is a path", batch{Campaign: "night", Plan: "../../plan", Seeds: []uint64{1}}},
		{"a build that is a path", batch{Campaign: "night", Plan: sum, Seeds: []uint64{1}, Build: &pack.Content{Sum: "../" + sum}}},
		{"a sum in other letters", batch{Campaign: "night", Plan: strings.ToUpper(sum), Seeds: []uint64{1}}},
		{"no seed", batch{Campaign: "night", Plan: sum}},
		{"too many", batch{Campaign: "night", Plan: sum, Seeds: make([]uint64, mostSeeds+1)}},
		{"several to be recorded", batch{Campaign: "night", Plan: sum, Seeds: []uint64{1, 2}, Record: true}},
	} {
		m, err := (&Link{}).sign("s", &c.b)
		require.NoError(t, err)
		_, err = opened(m.Data, m.Header, nil)
		assert.Error(t, err, c.name)
	}
	_, err := opened([]byte("no JSON"), nil, nil)
	assert.Error(t, err)
}

// Credentials of a team's own broker sign what is asked for like a key of the hub.
func TestCredentialsSign(t *testing.T) {
	pair, public := key(t)
	seed, err := pair.Seed()
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "team.creds")
	text := "-----BEGIN NATS USER JWT-----\neyJ0eXAiOiJKV1QifQ.e30.c2ln\n------END NATS USER JWT------\n\n-----BEGIN USER NKEY SEED-----\n" + string(seed) + "\n------END USER NKEY SEED------\n"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	l := &Link{address: Address{URL: "nats://127.0.0.1:4222", Key: path}}
	_, err = l.options("ask")
	require.NoError(t, err)
	m, err := l.sign("s", &batch{Campaign: "night", Plan: sumOf(nil), Seeds: []uint64{1}})
	require.NoError(t, err)
	_, err = opened(m.Data, m.Header, []string{public})
	assert.NoError(t, err)
}

func TestNames(t *testing.T) {
	for name, valid := range map[string]bool{"night-7": true, "": false, "a b": false, "a.b": false, "..": false, "a/b": false, "*": false, ">": false, strings.Repeat("a", 81): false} {
		assert.Equal(t, valid, ValidName(name), name)
	}
	assert.Equal(t, "hunt-four-dogs-lost-goodbye-31", NameOf("hunt-four dogs, lost-goodbye-31"))
	assert.True(t, ValidName(NameOf(strings.Repeat("a b", 60))))
}

// A worker is a stranger until what it stores fits the schema.
func TestAResultIsReadByItsSchema(t *testing.T) {
	good := Result{Match: played.Match{Seed: 5, Verdict: "out of sync", Found: []played.Found{{Signature: "ghost: boat (other player's view)", Kind: judge.Ghost, View: "fern", Entity: "boat/1"}},
		Measures: map[string]float64{"age-p95-ms": 3}}}
	with := func(change func(r *Result)) string {
		r := good
		r.Match.Found = slices.Clone(good.Match.Found)
		change(&r)
		text, err := json.Marshal(r)
		require.NoError(t, err)
		return string(text)
	}
	r, err := readResult([]byte(with(func(*Result) {})), 5)
	require.NoError(t, err)
	assert.Equal(t, &good, r)
	for name, text := range map[string]string{
		"no JSON":                         "{",
		"of another seed":                 with(func(r *Result) { r.Match.Seed = 6 }),
		"with something more":             `{"match":{"seed":5},"shell":"rm"}`,
		"a verdict of its own":            with(func(r *Result) { r.Match.Verdict = "splendid" }),
		"a kind that leads elsewhere":     with(func(r *Result) { r.Match.Found[0].Kind = "../../../home/x" }),
		"a kind that nobody knows":        with(func(r *Result) { r.Match.Found[0].Kind = "gost" }),
		"a signature of two lines":        with(func(r *Result) { r.Match.Found[0].Signature = "ghost\nIN SYNC" }),
		"a view that steers the terminal": with(func(r *Result) { r.Match.Found[0].View = "\x1b[2J" }),
		"a very long name":                with(func(r *Result) { r.Match.Found[0].Entity = strings.Repeat("a", 1<<16) }),
		"very many findings":              with(func(r *Result) { r.Match.Found = make([]played.Found, 1<<14) }),
		"a measure that is a path":        with(func(r *Result) { r.Match.Measures = map[string]float64{"../x": 1} }),
		"a run folder that is a path":     with(func(r *Result) { r.Run = &Archive{Sum: "../../x", Parts: 1} }),
		"a run folder of no end":          with(func(r *Result) { r.Run = &Archive{Sum: sumOf(nil), Parts: 1 << 30} }),
		"shown in two lines":              with(func(r *Result) { r.Tried = &played.Tried{Shown: []played.Shown{{Signature: "a\nb"}}} }),
		"seen by a witness of its own":    with(func(r *Result) { r.Witnessed = &played.Witnessed{Kinds: []judge.Kind{"odd"}} }),
	} {
		_, err := readResult([]byte(text), 5)
		assert.Error(t, err, name)
	}
}
