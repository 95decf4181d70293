package inspect

import (
	"cmp"
	"context"
	"io"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// told tells a Live all that a run recorded, in order of time, up to a moment.
func told(t *testing.T, run *run.Run, l *Live, until time.Duration) {
	t.Helper()
	var all []heard
	for view, name := range run.About.Views {
		file, err := trace.Open(run.ViewPath(name))
		require.NoError(t, err)
		reader := trace.NewReader(file, l.names)
		for {
			r := &trace.Record{}
			if err := reader.Next(r); err == io.EOF {
				break
			} else {
				require.NoError(t, err)
			}
			all = append(all, heard{at: r.T, view: view, record: r})
		}
		require.NoError(t, file.Close())
	}
	all = append(all, packetsOf(t, run)...)
	slices.SortStableFunc(all, func(a, b heard) int { return cmp.Compare(a.at, b.at) })
	l.Lock()
	defer l.Unlock()
	for _, h := range all {
		switch {
		case h.at > until:
		case h.record != nil:
			l.Record(h.view, h.record)
		default:
			l.Packet(h.view, h.packet)
		}
	}
}

func packetsOf(t *testing.T, r *run.Run) (list []heard) {
	t.Helper()
	file, err := trace.Open(r.PacketsPath())
	require.NoError(t, err)
	defer file.Close()
	reader := run.NewPacketReader(file)
	for {
		name, p, err := reader.Next()
		if err != nil {
			return list
		}
		list = append(list, heard{at: p.Sent, view: slices.Index(r.About.Views, name), packet: link.Packet(p)})
	}
}

func newTold(run *run.Run) *Live {
	return NewLive(LiveTraces{Names: trace.NewNames(), Views: run.About.Views, Rules: rules, Setting: feed.Setting{}, Outcomes: true})
}

// Whoever looks at a match while it goes on sees what the run folder shows of it afterwards, also of
// what was said so long ago that only what came of it is kept.
func TestLookingLiveShowsWhatLookingAfterwardsDoes(t *testing.T) {
	run := recorded(t)
	v := verdictOf(t, run, "")
	for _, kept := range []time.Duration{Kept, 2 * time.Second} {
		l := newTold(run)
		l.kept = kept
		told(t, run, l, time.Minute)
		for _, entity := range []string{"dog/oak", "count/er"} {
			for _, at := range []time.Duration{5 * time.Second, 7510 * ms, 8 * time.Second} {
				if at < l.began {
					continue
				}
				w, err := Open(context.Background(), run, rules, v, entity, at, at)
				require.NoError(t, err)
				want, got := w.At(at), l.Ask(Query{Entities: []string{entity}, At: &at}).Sheets[0]
				require.Len(t, got.Rows, len(want.Rows))
				for i := range want.Rows {
					for k := range want.Rows[i].Cells {
						a, b := want.Rows[i].Cells[k], got.Rows[i].Cells[k]
						assert.Equal(t, [2]any{a.Value, a.Mark}, [2]any{b.Value, b.Mark}, "%s %s in %s at %v, %v kept", entity, want.Rows[i].Field, want.Views[k], at, kept)
					}
				}
			}
		}
		assert.Equal(t, kept < 8*time.Second, l.began > 0)
	}
}

func TestTheListOfEntitiesTellsWhichDiffer(t *testing.T) {
	run := recorded(t)
	l := newTold(run)
	l.Alert(judge.Alert{At: 4 * time.Second, Began: 3 * time.Second, Kind: judge.Frozen, View: "moss", Entity: "dog/oak"})
	told(t, run, l, 8*time.Second)
	m := l.Ask(Query{})
	require.Len(t, m.Entities, 2)
	assert.Equal(t, Listed{"count/er", 3, []string{}}, m.Entities[0])
	assert.Equal(t, Listed{"dog/oak", 3, []string{"moss"}}, m.Entities[1])
	assert.Equal(t, "dog/oak", m.Found[0].Entity)
	assert.Positive(t, m.Behind)
	assert.Empty(t, m.Ended)
	assert.Len(t, l.Ask(Query{Filter: "dog/*"}).Entities, 1)
	assert.Len(t, l.Ask(Query{Filter: "er"}).Entities, 1)
	assert.Empty(t, l.Ask(Query{Filter: "["}).Entities)
	l.End("complete")
	far := time.Hour
	m = l.Ask(Query{At: &far, Entities: []string{"no/such"}})
	assert.Equal(t, m.Now, m.At)
	assert.Equal(t, "complete", m.Ended)
	assert.Equal(t, "absent", m.Sheets[0].Rows[0].Cells[0].Value)
}
