package compare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"zitherwheel/hunt"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/stage"
	"zitherwheel/wholefile"
)

// Playing is what it takes to compare plans: they are played first.
type Playing struct {
	Times    int // matches of each
	Wall     stage.Options
	Progress func(hunt.Progress)
	Clock    string // or "" for the plan's own
	Seed     *uint64
}

// Load makes a side of what a path leads to: a run folder, the folder of a hunt, a
// yardstick, or a plan, which is played.
func Load(ctx context.Context, path string, playing Playing) (*Side, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("%s: there is no such run, hunt, yardstick or plan", path)
	}
	if !info.IsDir() {
		if filepath.Ext(path) == ".json" {
			return Yardstick(path)
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
		return &Side{Version: SideVersion, What: "hunt", Title: p.Title, Matches: matches}, nil
	}
	run, err := runfolder.Open(path)
	if err != nil {
		return nil, err
	}
	m, measures, err := hunt.Recorded(ctx, run)
	if err != nil {
		return nil, err
	}
	return &Side{Version: SideVersion, What: "run", Title: run.About.Title, Matches: []hunt.Match{m}, Views: measures.ByView()}, nil
}

func play(ctx context.Context, path string, playing Playing) (*Side, error) {
	p, err := plan.Load(path)
	if err != nil {
		return nil, err
	}
	if playing.Clock != "" {
		p.Clock = playing.Clock
	}
	first := p.Seed
	if playing.Seed != nil {
		first = *playing.Seed
	}
	r, err := hunt.Run(ctx, hunt.Options{Plan: p, First: first, Times: playing.Times, Wall: playing.Wall, Progress: playing.Progress})
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	return &Side{Version: SideVersion, What: "plan", Title: p.Title, Matches: r.Played}, nil
}

// Yardstick reads a side that was kept.
func Yardstick(path string) (*Side, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s := &Side{}
	if err := json.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("%s: not a yardstick: %w", path, err)
	}
	switch {
	case s.Version != SideVersion:
		return nil, fmt.Errorf("%s: not a yardstick of version %d; compare keeps one with --baseline", path, SideVersion)
	case len(s.Matches) == 0:
		return nil, fmt.Errorf("%s: %w", path, errEmpty)
	}
	return s, nil
}

var errEmpty = errors.New("there is no match in it")

// Keep writes a side as a yardstick.
func (s *Side) Keep(path string) error { return wholefile.JSON(path, s) }
