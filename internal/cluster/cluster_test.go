package cluster_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/cluster/hub"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"

	_ "zitherwheel/internal/demo/hillfold"
)

// fake plays nothing: a match is what its function says.
type fake func(p *plan.Plan) (played.Match, error)

func (f fake) AtOnce(bool) int { return 4 }
func (f fake) Play(ctx context.Context, p *plan.Plan) (played.Match, error) {
	m, err := f(p)
	if m.Seed == 0 {
		m.Seed = p.Seed
	}
	return m, errors.Join(err, ctx.Err())
}

func (f fake) Try(ctx context.Context, v played.Variant, nth int) (played.Tried, error) {
	_, err := f.Play(ctx, v.Plan)
	return played.Tried{Shown: []played.Shown{{Signature: fmt.Sprintf("%d of %d moments until %v, %d given up, %d down", nth, len(v.Script["fern"]), v.Until, len(v.Plan.Links[0].Up.Given), len(v.Plan.Links[0].Down.Given)), Began: v.Script["fern"][1].At}}}, err
}

func (f fake) Witness(ctx context.Context, p *plan.Plan) (played.Witnessed, error) {
	_, err := f.Play(ctx, p)
	return played.Witnessed{Compared: int(p.Seed)}, err
}

func (f fake) Record(ctx context.Context, p *plan.Plan, folder string) (played.Match, error) {
	text, err := p.YAML()
	if err != nil {
		return played.Match{}, err
	}
	out, err := run.Create(folder, run.About{Title: p.Title, Seed: p.Seed, Views: []string{"server"}}, text, trace.NewNames())
	if err != nil {
		return played.Match{}, err
	}
	if err := errors.Join(out.Log(0, 0, fmt.Sprintf("seed %d", p.Seed)), out.Finish(ending.Ending{How: ending.Complete}, nil, nil)); err != nil {
		return played.Match{}, err
	}
	return f.Play(ctx, p)
}

// tampering is a worker that changes what it has recorded.
type tampering struct{ fake }

func (w tampering) Record(ctx context.Context, p *plan.Plan, folder string) (played.Match, error) {
	m, err := w.fake.Record(ctx, p, folder)
	return m, errors.Join(err, os.WriteFile(filepath.Join(folder, "logs", "server.log"), []byte("0.000000 seed 6\n"), 0o600))
}

// inSync is a match as its seed has it.
func inSync(p *plan.Plan) (played.Match, error) {
	return played.Match{Verdict: "in sync", Measures: map[string]float64{"age": float64(p.Seed) / 7}}, nil
}

// house is a hub with what is joined to it.
type house struct {
	t   *testing.T
	ctx context.Context
	hub *hub.Hub
	url string
}

func newHouse(t *testing.T, change ...func(*hub.Options)) *house {
	t.Helper()
	o := hub.Options{Listen: "127.0.0.1:0", Folder: t.TempDir()}
	for _, f := range change {
		f(&o)
	}
	h, err := hub.Start(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(h.Stop)
	ctx, end := context.WithTimeout(context.Background(), 2*time.Minute)
	t.Cleanup(end)
	return &house{t, ctx, h, h.URL()}
}

func (h *house) dial(as string) *cluster.Link {
	h.t.Helper()
	l, err := cluster.Dial(h.ctx, cluster.Address{URL: h.url}, as)
	require.NoError(h.t, err)
	h.t.Cleanup(l.Close)
	return l
}

// worker starts one; what is returned tells it to end and waits for that.
func (h *house) worker(name string, crew played.Crew, change ...func(*cluster.Worker)) (end func()) {
	h.t.Helper()
	w := &cluster.Worker{Name: name, Folder: h.t.TempDir(), Slots: 2, Crew: crew, Longest: time.Minute, Drain: 10 * time.Second}
	for _, f := range change {
		f(w)
	}
	ctx, cancel := context.WithCancel(h.ctx)
	ended := make(chan error, 1)
	link := h.dial("work " + name)
	go func() { ended <- w.Run(ctx, link) }()
	once := sync.OnceFunc(func() { cancel(); assert.NoError(h.t, <-ended) })
	h.t.Cleanup(once)
	return once
}

func (h *house) crew(asked cluster.Asked) *cluster.Crew {
	h.t.Helper()
	if asked.What == "" {
		asked.What, asked.Plan = "hunt", "one"
	}
	c, err := h.dial("ask").Crew(h.ctx, asked)
	require.NoError(h.t, err)
	return c
}

func parse(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plan.Parse("plan.yaml", []byte(text))
	require.NoError(t, err)
	return p
}

const short = "title: short\nduration: 5s\nbots: [{name: fern}]\n"

// all has a campaign play seeds 0 to n-1, and returns what came of each.
func all(t *testing.T, c *cluster.Crew, p *plan.Plan, n int) []played.Match {
	t.Helper()
	list := make([]played.Match, n)
	err := campaign.EachWithin(c.Context(), func() int { return c.AtOnce(false) }, campaign.Numbers(n), func(i int) error {
		one := *p
		one.Seed = uint64(i)
		var err error
		list[i], err = c.Play(c.Context(), &one)
		return err
	})
	require.NoError(t, err)
	return list
}

func TestEachSeedIsPlayedAndComesBack(t *testing.T) {
	h := newHouse(t)
	var plays atomic.Int64
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) { plays.Add(1); return inSync(p) }))
	h.worker("w2", fake(func(p *plan.Plan) (played.Match, error) { plays.Add(1); return inSync(p) }))
	c := h.crew(cluster.Asked{Campaign: "first"})
	list := all(t, c, parse(t, short), 300)
	for i, m := range list {
		assert.EqualValues(t, i, m.Seed)
		assert.InDelta(t, float64(i)/7, m.Measures["age"], 0, "every number comes back as it was")
	}
	assert.EqualValues(t, 300, plays.Load())
	c.Close(h.ctx, true)
	s := c.Summary()
	assert.Equal(t, 300, s.Matches)
	assert.Equal(t, 300, s.By["w1"]+s.By["w2"])
	assert.Equal(t, cluster.Done, s.State)

	again := h.crew(cluster.Asked{Campaign: "first", Resume: true})
	assert.Equal(t, list, all(t, again, parse(t, short), 300))
	assert.EqualValues(t, 300, plays.Load(), "what is stored is not played again")
	again.Close(h.ctx, true)
}

func TestAMatchThatIsAskedForTwiceIsPlayedOnce(t *testing.T) {
	h := newHouse(t)
	var plays atomic.Int64
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) { plays.Add(1); return inSync(p) }))
	c := h.crew(cluster.Asked{Campaign: "twice"})
	defer c.Close(h.ctx, true)
	p := parse(t, short)
	first, err := c.Play(h.ctx, p)
	require.NoError(t, err)
	second, err := c.Play(h.ctx, p)
	require.NoError(t, err)
	assert.Equal(t, first, second)
	assert.EqualValues(t, 1, plays.Load())
}

func TestWhatIsRecordedComesBack(t *testing.T) {
	for name, crew := range map[string]played.Crew{"as it was": fake(inSync), "or not at all": tampering{inSync}} {
		t.Run(name, func(t *testing.T) {
			h := newHouse(t)
			h.worker("w1", crew)
			c := h.crew(cluster.Asked{Campaign: "recorded", Sign: func(text []byte) string { return fmt.Sprint(len(text)) }})
			defer c.Close(h.ctx, true)
			p := parse(t, short)
			p.Seed = 5
			folder := filepath.Join(t.TempDir(), "run")
			_, err := c.Record(h.ctx, p, folder)
			if name != "as it was" {
				assert.ErrorContains(t, err, "logs/server.log was changed after it had been recorded")
				return
			}
			require.NoError(t, err)
			text, err := os.ReadFile(filepath.Join(folder, "logs", "server.log"))
			require.NoError(t, err)
			assert.Equal(t, "0.000000 seed 5\n", string(text))
			r, err := run.Open(folder)
			require.NoError(t, err)
			assert.Empty(t, r.About.Damage)
			assert.True(t, r.SignedBy(func(text []byte, mark string) bool { return mark == fmt.Sprint(len(text)) }), "by whoever asked for it")
		})
	}
}

// hungry records without end.
type hungry struct{ fake }

func (h hungry) Record(ctx context.Context, p *plan.Plan, folder string) (played.Match, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return played.Match{}, err
	}
	if err := os.WriteFile(filepath.Join(folder, "packets"), make([]byte, 3<<20), 0o644); err != nil {
		return played.Match{}, err
	}
	<-ctx.Done()
	return played.Match{Seed: p.Seed, Verdict: played.Failed, Why: "interrupted"}, nil
}

// A match that fills the disk is ended, whether its run folder is wanted or not.
func TestAMatchThatFillsTheDiskIsEnded(t *testing.T) {
	h := newHouse(t)
	h.worker("w1", hungry{fake(inSync)}, func(w *cluster.Worker) { w.Disk, w.Virtual = 1<<20, true })
	c := h.crew(cluster.Asked{Campaign: "disk"})
	defer c.Close(h.ctx, true)
	_, err := c.Record(h.ctx, parse(t, short), filepath.Join(t.TempDir(), "run"))
	assert.ErrorContains(t, err, "its run folder has grown larger than a match may have: 1 MB")
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "game"), []byte("x"), 0o755))
	built := parse(t, "title: built\nduration: 5s\nbots: [{name: fern}]\ngame: {name: pond}\nbuild: {folder: "+folder+", ports: {game: udp}, server: {run: ./game}, client: {run: ./game}}\nwatch: [{entities: \"*/*\", fields: x}]\n")
	_, err = c.Play(h.ctx, built)
	assert.ErrorContains(t, err, "its run folder has grown larger than a match may have: 1 MB")
}

// A worker that never answers is as one that was killed: the broker hands its work on.
func TestWorkOfAWorkerThatLeavesIsHandedOn(t *testing.T) {
	h := newHouse(t)
	holds, free := make(chan struct{}, 100), make(chan struct{})
	end := h.worker("slow", fake(func(p *plan.Plan) (played.Match, error) {
		holds <- struct{}{}
		<-free
		return inSync(p)
	}), func(w *cluster.Worker) { w.Drain = 0 })
	c := h.crew(cluster.Asked{Campaign: "left"})
	defer c.Close(h.ctx, true)
	go func() {
		<-holds
		h.worker("w2", fake(inSync))
		go end() // it hands back what it has not begun, and what it was cut off in
		time.Sleep(200 * time.Millisecond)
		close(free)
	}()
	list := all(t, c, parse(t, short), 40)
	for i, m := range list {
		assert.EqualValues(t, i, m.Seed)
		assert.Equal(t, "in sync", m.Verdict)
	}
}

// Of two results of one match the first counts; that they differ is told, with both.
func TestTwoResultsThatDifferRaiseAnAlarm(t *testing.T) {
	h := newHouse(t)
	var told sync.Map
	tell := func(text string) { told.Store(text, true) }
	began, free := make(chan struct{}, 1), make(chan struct{})
	var first atomic.Bool
	play := func(age float64) fake {
		return func(*plan.Plan) (played.Match, error) {
			if first.CompareAndSwap(false, true) { // it is so slow that the campaign is asked for anew meanwhile
				began <- struct{}{}
				<-free
				return played.Match{Verdict: "in sync", Measures: map[string]float64{"age": 99}}, nil
			}
			return played.Match{Verdict: "in sync", Measures: map[string]float64{"age": age}}, nil
		}
	}
	h.worker("w1", play(1))
	p := parse(t, short)
	p.Seed = 3
	before := h.crew(cluster.Asked{Campaign: "alarm"})
	ctx, cut := context.WithCancel(h.ctx)
	gone := make(chan struct{})
	go func() { before.Play(ctx, p); close(gone) }()
	<-began
	cut()
	<-gone
	before.Close(h.ctx, false)

	c := h.crew(cluster.Asked{Campaign: "alarm", Resume: true, Tell: tell})
	m, err := c.Play(h.ctx, p)
	require.NoError(t, err)
	assert.InDelta(t, 1, m.Measures["age"], 0)
	close(free)
	require.Eventually(t, func() bool {
		list, err := h.dial("look").Alarms(h.ctx, "alarm")
		return err == nil && len(list) == 1 && strings.Contains(string(list[0].Second), "99") && strings.Contains(string(list[0].First), `"age":1`)
	}, 30*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		said := false
		told.Range(func(text, _ any) bool {
			said = said || strings.Contains(text.(string), "ALARM")
			return true
		})
		return said
	}, 30*time.Second, 50*time.Millisecond)
	c.Close(h.ctx, true)
	assert.Equal(t, 1, c.Summary().Alarms)
}

// What fails on one worker alone is that worker's: its result does not count, and in the end it gets no more.
func TestASickWorkerIsPutAside(t *testing.T) {
	h := newHouse(t)
	h.worker("sick", fake(func(p *plan.Plan) (played.Match, error) {
		return played.Match{Verdict: played.Failed, Why: "no disk"}, nil
	}))
	h.worker("well", fake(func(p *plan.Plan) (played.Match, error) {
		time.Sleep(2 * time.Millisecond)
		return inSync(p)
	}))
	require.Eventually(t, func() bool { list, err := h.dial("look").Workers(h.ctx); return err == nil && len(list) == 2 }, 20*time.Second, 20*time.Millisecond)
	c := h.crew(cluster.Asked{Campaign: "sick"})
	time.Sleep(1500 * time.Millisecond) // until it knows both
	for _, m := range all(t, c, parse(t, short), 60) {
		assert.Equal(t, "in sync", m.Verdict)
	}
	c.Close(h.ctx, true)
	assert.Equal(t, []string{"sick"}, c.Summary().Aside)
	assert.Zero(t, c.Summary().Failed)
}

// A worker on which everything takes far longer gets no more, and is named.
func TestASlowWorkerIsPutAside(t *testing.T) {
	h := newHouse(t)
	for name, takes := range map[string]time.Duration{"slow": 120 * time.Millisecond, "usual": 2 * time.Millisecond} {
		h.worker(name, fake(func(p *plan.Plan) (played.Match, error) {
			time.Sleep(takes)
			return inSync(p)
		}))
	}
	require.Eventually(t, func() bool { list, err := h.dial("look").Workers(h.ctx); return err == nil && len(list) == 2 }, 20*time.Second, 20*time.Millisecond)
	c := h.crew(cluster.Asked{Campaign: "slow"})
	for i, m := range all(t, c, parse(t, short), 600) {
		assert.EqualValues(t, i, m.Seed)
	}
	c.Close(h.ctx, true)
	assert.Equal(t, []string{"slow"}, c.Summary().Aside)
	assert.Less(t, c.Summary().By["slow"], 300)
}

func TestWhatFailsEverywhereHasFailed(t *testing.T) {
	h := newHouse(t)
	for _, name := range []string{"w1", "w2"} {
		h.worker(name, fake(func(p *plan.Plan) (played.Match, error) {
			return played.Match{Verdict: played.Failed, Why: "it never listens"}, nil
		}))
	}
	c := h.crew(cluster.Asked{Campaign: "fails"})
	time.Sleep(1500 * time.Millisecond)
	for _, m := range all(t, c, parse(t, short), 3) {
		assert.Equal(t, "it never listens", m.Why)
	}
	c.Close(h.ctx, true)
	assert.Empty(t, c.Summary().Aside)
	assert.Equal(t, 3, c.Summary().Failed)
}

func TestACampaignDoesWhatItIsTold(t *testing.T) {
	h := newHouse(t)
	var plays atomic.Int64
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) {
		plays.Add(1)
		time.Sleep(5 * time.Millisecond)
		return inSync(p)
	}))
	c := h.crew(cluster.Asked{Campaign: "told"})
	look := h.dial("ask other")
	ended := make(chan error, 1)
	go func() {
		ended <- campaign.EachWithin(c.Context(), func() int { return c.AtOnce(false) }, campaign.Numbers(1_000_000), func(i int) error {
			p := *parse(t, short)
			p.Seed = uint64(i)
			_, err := c.Play(c.Context(), &p)
			return err
		})
	}()
	require.Eventually(t, func() bool { return plays.Load() > 20 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, look.Order(h.ctx, "told", cluster.Paused))
	state := func() cluster.State { is, _ := look.Campaign(h.ctx, "told"); return is.State }
	require.Eventually(t, func() bool { return state() == cluster.Paused }, 10*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool { // after a while nothing more is played
		before := plays.Load()
		time.Sleep(700 * time.Millisecond)
		return plays.Load() == before
	}, 30*time.Second, 10*time.Millisecond)
	paused := plays.Load()
	require.NoError(t, look.Order(h.ctx, "told", cluster.Running))
	require.Eventually(t, func() bool { return plays.Load() > paused+20 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, look.Order(h.ctx, "told", cluster.Cancelled))
	<-c.Context().Done()
	assert.ErrorIs(t, context.Cause(c.Context()), cluster.ErrCancelled)
	<-ended
	c.Close(h.ctx, false)
	assert.Equal(t, cluster.Cancelled, state())
	assert.ErrorIs(t, look.Order(h.ctx, "nobody", cluster.Paused), cluster.ErrNoCampaign)
}

func TestCampaignsOfOneNameAreTold(t *testing.T) {
	h := newHouse(t)
	c := h.crew(cluster.Asked{Campaign: "night", What: "hunt", Plan: "one"})
	_, err := h.dial("ask").Crew(h.ctx, cluster.Asked{Campaign: "night", What: "hunt", Plan: "one"})
	assert.ErrorIs(t, err, cluster.ErrTaken)
	_, err = h.dial("ask").Crew(h.ctx, cluster.Asked{Campaign: "night", What: "hunt", Plan: "one", Resume: true})
	assert.ErrorIs(t, err, cluster.ErrTaken, "somebody asks for it just now")
	_, err = h.dial("ask").Crew(h.ctx, cluster.Asked{Campaign: "night", What: "sweep", Plan: "two", Resume: true})
	assert.ErrorIs(t, err, cluster.ErrOther)
	c.Close(h.ctx, false)
	_, err = h.dial("ask").Crew(h.ctx, cluster.Asked{Campaign: "bad name", What: "hunt"})
	assert.ErrorIs(t, err, cluster.ErrOther)
	h.crew(cluster.Asked{Campaign: "night", What: "hunt", Plan: "two"}).Close(h.ctx, false) // of one that was asked for nothing nothing is left
}

func TestWhatNobodyCanPlayIsTold(t *testing.T) {
	for _, c := range []struct {
		name, plan string
		change     func(*cluster.Worker)
		says       string
	}{
		{"no worker", short, nil, "no worker is there"},
		{"too few slots", "title: wall\nclock: wall\nduration: 5s\nbots: [{name: fern}, {name: moss}, {name: oak}]\n", func(*cluster.Worker) {}, "has 2 slots, and a match on the wall clock with 3 players takes 3"},
		{"another system", "title: far\nclock: wall\nduration: 5s\ngame: {name: pond}\nbuild: {folder: FOLDER, needs: {system: plan9}, server: {run: ./a}, client: {run: ./a}}\nwatch: [{entities: '*/*', fields: existence}]\nbots: [{name: fern}]\n",
			func(*cluster.Worker) {}, "and the plan needs plan9-amd64"},
		{"no runtime", "title: without\nclock: wall\nduration: 5s\ngame: {name: pond}\nbuild: {folder: FOLDER, server: {run: nowhere-to-be-found x}, client: {run: ./a}}\nwatch: [{entities: '*/*', fields: existence}]\nbots: [{name: fern}]\n",
			func(*cluster.Worker) {}, "nowhere-to-be-found"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			if c.change != nil {
				h.worker("w1", fake(inSync), c.change)
			}
			folder := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte("#!/bin/sh\n"), 0o755))
			told := make(chan string, 100)
			crew := h.crew(cluster.Asked{Campaign: "none", Patience: 3 * time.Second, Tell: func(text string) { told <- text }})
			defer crew.Close(h.ctx, false)
			ctx, end := context.WithCancel(h.ctx)
			defer end()
			go crew.Play(ctx, parse(t, strings.ReplaceAll(c.plan, "FOLDER", folder)))
			for {
				select {
				case text := <-told:
					if strings.Contains(text, c.says) {
						<-crew.Context().Done()
						assert.ErrorIs(t, context.Cause(crew.Context()), cluster.ErrNobody)
						return
					}
				case <-time.After(40 * time.Second):
					require.Fail(t, "it was not told")
				}
			}
		})
	}
}

func TestBuildsTravelByTheirContent(t *testing.T) {
	h := newHouse(t)
	seen := make(chan string, 10)
	look := fake(func(p *plan.Plan) (played.Match, error) {
		text, err := os.ReadFile(filepath.Join(p.Build.Folder, "a"))
		seen <- string(text) + fmt.Sprint(p.Build.MemoryMB)
		return played.Match{Verdict: "in sync"}, err
	})
	h.worker("w1", look, func(w *cluster.Worker) { w.MemoryMB = 321 })
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte("#!/bin/sh\n# the first"), 0o755))
	text := "title: build\nclock: wall\nduration: 5s\ngame: {name: pond}\nbuild: {folder: " + folder + ", server: {run: ./a}, client: {run: ./a}}\nwatch: [{entities: '*/*', fields: existence}]\nbots: [{name: fern}]\n"
	for i, content := range []string{"#!/bin/sh\n# the first", "#!/bin/sh\n# the second"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte(content), 0o755))
		c := h.crew(cluster.Asked{Campaign: fmt.Sprintf("build-%d", i)})
		_, err := c.Play(h.ctx, parse(t, text))
		require.NoError(t, err)
		assert.Equal(t, content+"321", <-seen)
		assert.Positive(t, c.Summary().Bytes)
		c.Close(h.ctx, true)
	}
}

// A comparison plays one plan with two builds in one campaign: each match is of the build that it was asked for with.
func TestMatchesOfTwoBuildsAreNotMixed(t *testing.T) {
	h := newHouse(t)
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) {
		text, err := os.ReadFile(filepath.Join(p.Build.Folder, "a"))
		return played.Match{Seed: p.Seed, Verdict: string(text[11:])}, err
	}))
	c := h.crew(cluster.Asked{Campaign: "two"})
	for _, verdict := range []string{"in sync", "out of sync"} {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte("#!/bin/sh\n#"+verdict), 0o755))
		for seed := range uint64(4) {
			p := parse(t, "title: build\nclock: wall\nduration: 5s\ngame: {name: pond}\nbuild: {folder: "+folder+", server: {run: ./a}, client: {run: ./a}}\nwatch: [{entities: '*/*', fields: existence}]\nbots: [{name: fern}]\n")
			p.Seed = seed + 1
			m, err := c.Play(h.ctx, p)
			require.NoError(t, err)
			assert.Equal(t, verdict, m.Verdict)
		}
	}
	c.Close(h.ctx, true)
}

// What does not fit the schema is nobody's result: another worker plays the match, and that one gets nothing more.
func TestAWorkerThatMakesUpResultsIsPutAside(t *testing.T) {
	h := newHouse(t)
	h.worker("bad", fake(func(p *plan.Plan) (played.Match, error) {
		return played.Match{Verdict: "out of sync", Found: []played.Found{{Kind: "../../../outside", Signature: "\x1b[2Jghost\nIN SYNC"}}}, nil
	}))
	h.worker("good", fake(inSync))
	require.Eventually(t, func() bool { list, err := h.dial("look").Workers(h.ctx); return err == nil && len(list) == 2 }, 20*time.Second, 20*time.Millisecond)
	folder := filepath.Join(t.TempDir(), "hunt")
	c := h.crew(cluster.Asked{Campaign: "night", What: "hunt"})
	r, err := hunt.Run(h.ctx, hunt.Options{Plan: parse(t, short), Folder: folder, First: 1, Times: 40, Crew: c})
	require.NoError(t, err)
	c.Close(h.ctx, true)
	assert.Equal(t, 40, r.InSync)
	assert.Empty(t, r.Signatures)
	assert.Equal(t, []string{"bad"}, c.Summary().Aside)
	entries, err := os.ReadDir(filepath.Dir(folder))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing lies outside of the hunt")
}

// A worker whose results are well-formed and made up is found where another plays the same match.
func TestAShareOfMatchesIsPlayedByTwo(t *testing.T) {
	for name, liar := range map[string]bool{"who agree": false, "who do not": true} {
		t.Run(name, func(t *testing.T) {
			h := newHouse(t)
			h.worker("one", fake(inSync))
			h.worker("two", fake(func(p *plan.Plan) (played.Match, error) {
				m, err := inSync(p)
				if liar {
					m.Measures = map[string]float64{"age": 0}
				}
				return m, err
			}))
			require.Eventually(t, func() bool { list, err := h.dial("look").Workers(h.ctx); return err == nil && len(list) == 2 }, 20*time.Second, 20*time.Millisecond)
			c := h.crew(cluster.Asked{Campaign: "night", What: "hunt", CheckOneIn: 5})
			all(t, c, parse(t, short), 60)
			c.Close(h.ctx, true)
			assert.Positive(t, c.Summary().Checked)
			assert.Equal(t, 60, c.Summary().Matches, "what is played twice counts once")
			look := h.dial("look")
			require.Eventually(t, func() bool {
				alarms, err := look.Alarms(h.ctx, "night")
				return err == nil && (len(alarms) > 0) == liar
			}, 10*time.Second, 50*time.Millisecond)
		})
	}
}

func TestTwoWorkersOfOneNameAreTold(t *testing.T) {
	h := newHouse(t)
	h.worker("w1", fake(inSync))
	require.Eventually(t, func() bool { list, err := h.dial("look").Workers(h.ctx); return err == nil && len(list) == 1 }, 20*time.Second, 20*time.Millisecond)
	err := (&cluster.Worker{Name: "w1", Folder: t.TempDir(), Slots: 1}).Run(h.ctx, h.dial("work"))
	assert.ErrorIs(t, err, cluster.ErrNameTaken)
}

func TestWhatIsNoBrokerIsTold(t *testing.T) {
	for _, c := range []struct {
		url  string
		want error
	}{{"nats://127.0.0.1:1", cluster.ErrUnreachable}, {"http://127.0.0.1:4222", cluster.ErrUnreachable}, {"127.0.0.1:4222", cluster.ErrUnreachable}, {"", cluster.ErrUnreachable}} {
		_, err := cluster.Dial(context.Background(), cluster.Address{URL: c.url}, "ask")
		assert.ErrorIs(t, err, c.want, c.url)
	}
	for address, local := range map[string]bool{"nats://127.0.0.1:4222": true, "nats://localhost:1": true, "tls://[::1]:4222": true, "127.0.0.1:7": true, "0.0.0.0:4222": false, "nats://build-7.example:4222": false, ":4222": false} {
		assert.Equal(t, local, cluster.Local(address), address)
	}
}

// A variant travels with all that is otherwise in it, each time that it is played.
func TestVariantsTravel(t *testing.T) {
	h := newHouse(t)
	var plays atomic.Int64
	h.worker("w1", fake(func(p *plan.Plan) (played.Match, error) { plays.Add(1); return inSync(p) }))
	c := h.crew(cluster.Asked{Campaign: "variants"})
	defer c.Close(h.ctx, true)
	p := parse(t, "title: v\nduration: 5s\nlinks: {bad: {loss: 4%}}\nbots: [{name: fern, link: bad}]\n")
	p.Links[0].Down.Given = make([]link.Given, 5000)
	v := played.Variant{Plan: p, Until: 3 * time.Second, Script: map[string][]bot.Moment{"fern": {{Action: bot.Action{Join: true}}, {At: 1234567, Action: bot.Action{Turn: 0.1, Held: []string{"run"}}}}}}
	for nth, times := range []int{2, 1} {
		for range times {
			tried, err := c.Try(h.ctx, v, nth)
			require.NoError(t, err)
			require.Len(t, tried.Shown, 1)
			assert.Equal(t, fmt.Sprintf("%d of 2 moments until 3s, 0 given up, 5000 down", nth), tried.Shown[0].Signature)
			assert.EqualValues(t, 1234567, tried.Shown[0].Began)
		}
	}
	assert.EqualValues(t, 2, plays.Load(), "the same one is played once")
	assert.Len(t, p.Links[0].Down.Given, 5000, "what was asked for is left as it was")
}

func TestAResultIsWhatItWas(t *testing.T) {
	r := cluster.Result{Match: played.Match{Seed: 1<<64 - 1, Verdict: "out of sync", Measures: map[string]float64{"a": 0.1 + 0.2}, Players: []played.Player{{Name: "fern", Loss: 1.0 / 3}}}}
	text, err := json.Marshal(r)
	require.NoError(t, err)
	var back cluster.Result
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, r, back)
}
