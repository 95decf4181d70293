//go:build linux

package match_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// The rows of docs/trust.md: whatever becomes of a client or the server, it says so, and is no pass where somebody was
// not compared to the end.
func TestHowAViewEndsIsPartOfTheVerdict(t *testing.T) {
	notSlowed(t)
	rows := map[string]row{
		"nothing happens":                    {"", judge.InSync, ""},
		"a client leaves and says so":        {"elm:departs", judge.InSync, "elm left at "},
		"a client quits in mid-match":        {"elm:quits", judge.Inconclusive, "elm ended by itself at "},
		"a client ends with an error":        {"elm:fails", judge.OutOfSync, "elm's client ended by itself (exit status 3)"},
		"a client is killed":                 {"elm:killed", judge.OutOfSync, "elm's client ended by itself (signal: killed)"},
		"a client falls silent":              {"elm:silent", judge.Inconclusive, "elm fell silent at "},
		"the trace of a client is cut off":   {"elm:cut", judge.Inconclusive, "the trace of elm broke off at "},
		"a client is refused":                {"elm:refused", judge.InSync, "elm was refused"},
		"everybody is refused":               {"elm:refused fir:refused", judge.NothingCompared, "elm was refused"},
		"a client does not use its link":     {"elm:bypass", judge.Inconclusive, "elm's packets did not go over its link: 0 up and 0 down"},
		"nobody uses a link":                 {"elm:bypass fir:bypass", judge.Inconclusive, "fir's packets did not go over its link"},
		"the server quits":                   {"server:quits", judge.OutOfSync, "the server ended by itself (exit status 0)"},
		"the server ends with an error":      {"server:fails", judge.OutOfSync, "the server ended by itself (exit status 3)"},
		"the server is killed":               {"server:killed", judge.OutOfSync, "the server ended by itself (signal: killed)"},
		"the server falls silent":            {"server:silent", judge.Inconclusive, "server fell silent at "},
		"the trace of the server is cut off": {"server:cut", judge.Inconclusive, "the trace of server broke off at "},
	}
	for _, clock := range []string{plan.Virtual, plan.Wall} {
		if clock == plan.Virtual && !match.Machine(context.Background())[0].Has {
			continue
		}
		ends := map[string]*ended{}
		var matches errgroup.Group
		matches.SetLimit(map[string]int{plan.Virtual: 1, plan.Wall: 8}[clock]) // on the wall clock they mostly wait
		for name, c := range rows {
			p := pebblesPlan(t, c.peculiar, "[{name: elm}, {name: fir}]", "any")
			p.Clock, p.Duration = clock, 7*time.Second
			p.Build.Env["PEBBLES_NOTE"] = filepath.Join(t.TempDir(), "note")
			e := &ended{plan: p, folder: filepath.Join(t.TempDir(), "run")}
			ends[name] = e
			matches.Go(func() error {
				e.result, e.err = match.Run(context.Background(), p, match.Options{Folder: e.folder, Guard: []string{"guard"}})
				return nil
			})
		}
		require.NoError(t, matches.Wait())
		for name, e := range ends {
			t.Run(name+", on the "+clock+" clock", func(t *testing.T) { e.is(t, rows[name]) })
		}
	}
}

// ended is a match in which somebody ended.
type ended struct {
	plan   *plan.Plan
	folder string
	result *match.Result
	err    error
}

// row is what it is to say.
type row struct {
	peculiar string
	outcome  judge.Outcome
	says     string // among what the verdict says
}

func (e *ended) is(t *testing.T, c row) {
	r := e.result
	require.NoError(t, e.err)
	if len(r.Verdict.Aside) > 0 {
		t.Skip("the machine stood still: ", r.Verdict.NotWell())
	}
	said := r.Verdict.Ending.Sentences(time.Duration(r.Verdict.To))
	for _, w := range r.Verdict.Warnings {
		said = append(said, w.Text)
	}
	said = append(said, whys(r.Verdict)...)
	assert.Equal(t, c.outcome, r.Verdict.Outcome, "%q", said)
	if c.says == "" {
		assert.Empty(t, said)
	} else {
		assert.Contains(t, strings.Join(said, "\n"), c.says)
	}
	recorded, err := run.Open(e.folder)
	require.NoError(t, err)
	again, err := feed.Judge(context.Background(), feed.Run(recorded, e.plan))
	require.NoError(t, err)
	text, err := feed.EncodeVerdict(again.Verdict)
	require.NoError(t, err)
	assert.Equal(t, string(r.Findings), string(text), "zwheel check says the same")
}
