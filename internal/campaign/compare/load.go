package compare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"zitherwheel/internal/atomicfile"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/rulebook"
)

// Playing is what it takes to compare plans: they are played first.
type Playing struct {
	Times    int         // matches of each
	Crew     played.Crew // who plays; nil is this process
	Progress func(hunt.Progress)
	Clock    string // or "" for the plan's own
	Seed     *uint64
	Rules    *rulebook.Rules // for plans without any; nil learns them from the first match
}

// Load makes a side of what a path leads to: a run folder, the folder of a hunt, a
// baseline, or a plan, which is played.
func Load(ctx context.Context, path string, playing Playing) (*Side, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("%s: there is no such run, hunt, baseline or plan", path)
	}
	if !info.IsDir() {
		if filepath.Ext(path) == ".json" {
			return Baseline(path)
		}
		return play(ctx, path, playing)
	}
	if _, err := os.Stat(filepath.Join(path, "matches.jsonl")); err == nil {
		matches, err := hunt.Journal(path)
		if err != nil {
			return nil, err
		}
		p, err := plan.Load(filepath.Join(path, "plan.yaml"))
		if err != nil {
			return nil, err
		}
		return &Side{Version: sideVersion, What: "hunt", Title: p.Title, Matches: matches}, nil
	}
	run, err := run.Open(path)
	if err != nil {
		return nil, err
	}
	m, measures, err := played.Recorded(ctx, run)
	if err != nil {
		return nil, err
	}
	return &Side{Version: sideVersion, What: "run", Title: run.About.Title, Matches: []played.Match{m}, Views: measures.ByView()}, nil
}

func play(ctx context.Context, path string, playing Playing) (*Side, error) {
	p, err := plan.Load(path)
	if err != nil {
		return nil, err
	}
	p.Build.TakeIn(os.LookupEnv)
	if playing.Clock != "" {
		p.Clock = playing.Clock
	}
	first := p.Seed
	if playing.Seed != nil {
		first = *playing.Seed
	}
	r, err := hunt.Run(ctx, hunt.Options{Plan: p, First: first, Times: playing.Times, Crew: playing.Crew, Rules: playing.Rules, Progress: playing.Progress})
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	s := &Side{Version: sideVersion, What: "plan", Title: p.Title, Matches: r.Played}
	if r.Rules != nil {
		text, err := plan.WriteRules(*r.Rules)
		if err != nil {
			return nil, err
		}
		s.Learned = string(text)
	}
	return s, nil
}

// Rules are those that were learned for a side whose plan has none: the other is judged by the same. Nil is that
// there are none.
func (s *Side) Rules() (*rulebook.Rules, error) {
	if s.Learned == "" {
		return nil, nil
	}
	rules, err := plan.ParseRules(s.Title, []byte(s.Learned))
	return &rules, err
}

// Baseline reads a side that was kept.
func Baseline(path string) (*Side, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s := &Side{}
	if err := json.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("%s: not a baseline: %w", path, err)
	}
	switch {
	case s.Version != sideVersion:
		return nil, fmt.Errorf("%s: not a baseline of version %d; compare keeps one with --baseline", path, sideVersion)
	case len(s.Matches) == 0:
		return nil, fmt.Errorf("%s: %w", path, errEmpty)
	}
	return s, nil
}

var errEmpty = errors.New("there is no match in it")

// Keep writes a side as a baseline.
func (s *Side) Keep(path string) error { return atomicfile.JSON(path, s) }
