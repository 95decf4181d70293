//go:build linux || darwin

package match_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

// spoilOne makes the client of the bot fern go wrong, and no other.
func spoilOne(p *plan.Plan, what, mark string) {
	spoil(p, "client", what+" in fern", mark)
	p.Build.Client.KeepRunning = false
	p.Build.Client.Env["WHO"] = "{name}"
}

// broken plays a match in which something breaks, and asks that zwheel check says the
// same of its folder.
func broken(t *testing.T, p *plan.Plan) *match.Result {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "run")
	r, err := match.Run(context.Background(), p, match.Options{Folder: folder, Guard: []string{"guard"}})
	require.NoError(t, err)
	run, err := run.Open(folder)
	require.NoError(t, err)
	assert.Equal(t, r.Ending, run.About.Ending)
	again, err := feed.Judge(context.Background(), feed.Run(run, p))
	require.NoError(t, err)
	text, err := feed.EncodeVerdict(again.Verdict)
	require.NoError(t, err)
	assert.Equal(t, string(r.Findings), string(text))
	return r
}

func crashes(v *judge.Verdict) (list []*judge.Finding) {
	for _, f := range v.Findings {
		if f.Kind == judge.Crashed {
			list = append(list, f)
		}
	}
	return list
}

const longer = `
title: real
duration: 6s
clock: wall
seed: 4
bots: [{name: fern, link: village}, {name: moss, link: village}]
`

func TestAClientThatCrashesIsAFindingAndTheOthersPlayOn(t *testing.T) {
	p := parse(t, longer)
	spoilOne(p, "crash later", "client-crash")
	r := broken(t, p)
	assert.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
	found := crashes(r.Verdict)
	require.Len(t, found, 1)
	f := found[0]
	assert.Equal(t, "fern", f.View)
	assert.Contains(t, f.Why, "fern's client ended by itself (exit status 9)")
	assert.Equal(t, "crashed: client, exit status 9: index # out of range", f.Signature)
	assert.Contains(t, strings.Join(f.Evidence.Log, "\n"), "index 17 out of range")
	assert.NotEmpty(t, f.Evidence.Packets, "what went over the wire just before")
	assert.NotEmpty(t, f.Evidence.Inputs)
	for _, v := range r.Verdict.Views {
		if v.Name == "moss" {
			assert.Greater(t, time.Duration(v.Judged), 4*time.Second)
		}
	}
}

func TestAServerThatCrashesIsAFindingAndEndsTheMatch(t *testing.T) {
	p := parse(t, longer)
	spoil(p, "server", "crash later", "server-crash")
	r := broken(t, p)
	assert.Equal(t, ending.Failed, r.Ending.How)
	assert.Equal(t, "the server ended by itself (exit status 9)", r.Ending.Why)
	require.Len(t, crashes(r.Verdict), 1)
	f := crashes(r.Verdict)[0]
	assert.Equal(t, "crashed: server, exit status 9: index # out of range", f.Signature)
	assert.NotEmpty(t, f.Evidence.Packets)
	assert.Equal(t, judge.OutOfSync, r.Verdict.Outcome)
	assert.Less(t, r.Played, 5*time.Second)
}

func TestAServerThatIsRestartedGoesOn(t *testing.T) {
	notSlowed(t)
	p := parse(t, longer)
	spoil(p, "server", "crash once", "server-restart")
	p.Build.Server.Env["ONCE"] = filepath.Join(t.TempDir(), "once")
	p.Build.Server.Restart = 200 * time.Millisecond
	r := broken(t, p)
	assert.Equal(t, ending.Complete, r.Ending.How, r.Ending.Why)
	require.Len(t, crashes(r.Verdict), 1)
	assert.False(t, crashes(r.Verdict)[0].Open)
	assert.Greater(t, r.Played, 5*time.Second)
}

// Whoever is stopped says nothing more, and what others show meanwhile is held against
// nobody.
func TestAServerThatHangsIsNoPassAndBlamesNobody(t *testing.T) {
	p := parse(t, longer)
	spoil(p, "server", "stop later", "server-stops")
	r := broken(t, p)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Empty(t, whys(r.Verdict))
	b := r.Ending.BreakOf(ending.Silent, "server")
	require.NotNil(t, b)
	assert.Contains(t, b.How, "its process is stopped")
	assert.Less(t, time.Duration(r.Verdict.To), 4*time.Second, "nothing is judged from then on")
	assert.Contains(t, r.Verdict.NotWell(), "server fell silent at")
}

func TestAClientThatHangsIsNamed(t *testing.T) {
	notSlowed(t)
	p := parse(t, longer)
	spoilOne(p, "stop later", "client-stops")
	r := broken(t, p)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Empty(t, whys(r.Verdict))
	require.NotNil(t, r.Ending.BreakOf(ending.Silent, "fern"))
}

func TestAServerWithoutATraceIsNoDesync(t *testing.T) {
	p := parse(t, longer)
	spoil(p, "server", "mute", "server-mute")
	p.Build.Server.Ready = plan.Ready{After: 300 * time.Millisecond, Within: 2 * time.Second}
	folder := filepath.Join(t.TempDir(), "run")
	r, err := match.Run(context.Background(), p, match.Options{Folder: folder, Guard: []string{"guard"}})
	require.NoError(t, err)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Empty(t, whys(r.Verdict))
	assert.Contains(t, r.Ending.Why, "the server told nothing in its trace: no trace line has come, only log text")
}

// The trace's connection closes while the client plays on: that is no frozen game.
func TestATraceThatBreaksOffIsNoFrozenGame(t *testing.T) {
	for _, c := range []struct {
		what string
		back bool
	}{{"over a socket that breaks", false}, {"over a second socket", true}} {
		t.Run(c.what, func(t *testing.T) {
			p := parse(t, longer)
			spoilOne(p, c.what, "trace-"+strings.ReplaceAll(c.what, " ", "-"))
			p.Build.Client.Trace, p.Build.Client.Drive = plan.SocketTrace, plan.SocketDrive
			r := broken(t, p)
			assert.Empty(t, whys(r.Verdict))
			b := r.Ending.BreakOf(ending.TraceBroken, "fern")
			if c.back {
				assert.Nil(t, b, "a second connection beside the first is read too")
				agreed(t, r)
				return
			}
			require.NotNil(t, b)
			assert.Contains(t, b.How, "its connection was closed, while the program goes on")
			assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
		})
	}
}

// One that is opened anew goes on being judged, from its next full snapshot on.
func TestATraceThatComesBackIsJudgedAgain(t *testing.T) {
	notSlowed(t)
	p := parse(t, strings.Replace(longer, "6s", "8s", 1))
	spoilOne(p, "over a socket that comes back", "trace-comes-back")
	p.Build.Client.Trace, p.Build.Client.Drive = plan.SocketTrace, plan.SocketDrive
	r := broken(t, p)
	assert.Empty(t, whys(r.Verdict))
	b := r.Ending.BreakOf(ending.TraceBroken, "fern")
	require.NotNil(t, b)
	assert.Greater(t, b.Back, b.At)
	agreed(t, r)
	for _, v := range r.Verdict.Views {
		if v.Name == "fern" {
			assert.Greater(t, time.Duration(v.Judged), 3*time.Second, "before and after")
			assert.Less(t, time.Duration(v.Judged), 7*time.Second, "but not while it was away")
		}
	}
}

// stopSelf stops this process as a debugger or a frozen machine would.
func stopSelf() { _ = syscall.Kill(os.Getpid(), syscall.SIGSTOP) }

// agreed expects that a match was in sync, if this machine kept up with it.
func agreed(t *testing.T, r *match.Result) {
	t.Helper()
	if len(r.Verdict.Aside) > 0 {
		t.Log("the machine stood still: ", r.Verdict.NotWell())
		return
	}
	assert.Equal(t, judge.InSync, r.Verdict.Outcome, r.Verdict.NotWell())
}

// whys are what a verdict's findings say.
func whys(v *judge.Verdict) (list []string) {
	for _, f := range v.Findings {
		list = append(list, fmt.Sprintf("%s of %s at %s: %s", f.Signature, f.Entity, f.BeganAt, f.Why))
	}
	return list
}

func TestMemoryIsBoundedOnTheWallClockToo(t *testing.T) {
	notSlowed(t)
	p := parse(t, longer)
	p.Build = p.ToBringUp()
	p.Build.MemoryMB = 1
	// It may end so soon that there is nothing to judge, which the verdict then says.
	r, err := match.Run(context.Background(), p, match.Options{Folder: filepath.Join(t.TempDir(), "run"), Guard: []string{"guard"}})
	require.NoError(t, err)
	assert.Equal(t, ending.Failed, r.Ending.How)
	assert.Equal(t, judge.Inconclusive, r.Verdict.Outcome)
	assert.Contains(t, r.Ending.Why, "MB of memory, and the plan allows 1 (build: memory-mb)")
	assert.Less(t, r.Played, p.Duration)
}
