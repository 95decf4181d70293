// Command huntingtable makes the table in docs/hunting.md: for injected faults of the demo
// game it hunts, asks why, shrinks, and compares with the game without the fault.
//
//	go run ./internal/docs/huntingtable
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/replay"
	_ "zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// match is the plan of all rows: four dogs on a bad link, one that joins late, one that
// leaves and returns, and one whose client runs at another rate.
const match = `
title: %[1]s
duration: 40s
game: {faults: [%[1]s]}
links:
  hill: {latency: 80ms, jitter: 25ms, loss: 4%%, burst: 3}
bots:
  - {name: fern, link: hill}
  - {name: moss, link: hill, fps: 30}
  - name: oak
    link: hill
    steps: [{do: join, at: 8s}, {do: chase, kind: bell, for: 6s}, {do: chase, kind: sheep, for: 6s}, {do: roam}]
  - name: ash
    link: hill
    steps: [{do: join}, {do: chase, kind: sheep, for: 10s}, {do: rejoin, at: 20s}, {do: roam}]
`

// faults are those of the table: rare ones first, of which some hang on a packet.
var faults = []string{"lost-goodbye", "once-unreliable", "flip-not-value", "wrong-order", "two-masters", "empty-board", "different-endings", "counted-twice",
	"late-and-blind", "half-a-trip", "frame-paced", "twin-on-return"}

const (
	hunted   = 160  // matches of a hunt
	many     = 320  // from which the true rate is told, with other seeds
	manyFrom = 5000 // their first seed
)

func main() {
	dir, err := os.MkdirTemp("", "huntingtable-")
	if err == nil {
		defer os.RemoveAll(dir)
		err = table(context.Background(), dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "huntingtable:", err)
		os.Exit(1)
	}
}

func table(ctx context.Context, dir string) error {
	fmt.Printf("| fault | found, of %d | true rate, of %d others | why | matches | smallest plan | matches | with the fault off |\n", hunted, many)
	fmt.Println("|---|---|---|---|---|---|---|---|")
	for _, fault := range faults {
		began := time.Now()
		row, err := rowOf(ctx, fault, filepath.Join(dir, fault))
		if err != nil {
			return fmt.Errorf("%s: %w", fault, err)
		}
		fmt.Println("| " + strings.Join(row, " | ") + " |")
		fmt.Fprintf(os.Stderr, "%s: %.1f s\n", fault, time.Since(began).Seconds())
	}
	return nil
}

func rowOf(ctx context.Context, fault, dir string) ([]string, error) {
	p, err := plan.Parse(fault+".yaml", fmt.Appendf(nil, match, fault))
	if err != nil {
		return nil, err
	}
	found, err := hunt.Run(ctx, hunt.Options{Plan: p, Folder: dir, First: 1, Times: hunted})
	if err != nil {
		return nil, err
	}
	if len(found.Signatures) == 0 {
		return []string{fault, "not found", "", "", "", "", "", ""}, nil
	}
	s := found.Signatures[0]
	others, err := hunt.Run(ctx, hunt.Options{Plan: p, First: manyFrom, Times: many})
	if err != nil {
		return nil, err
	}
	true_ := 0
	for _, m := range others.Played {
		if slices.ContainsFunc(m.Found, func(f played.Found) bool { return f.Signature == s.Signature }) {
			true_++
		}
	}
	run, err := run.Open(s.Example.Folder)
	if err != nil {
		return nil, err
	}
	recording, err := replay.Load(ctx, run)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(recording.Verdict.Findings, func(f *judge.Finding) bool { return f.Signature == s.Signature })
	w, err := recording.Why(ctx, &replay.Lab{}, recording.Verdict.Findings[i])
	if err != nil {
		return nil, err
	}
	small, err := recording.Shrink(ctx, &replay.Lab{}, recording.Verdict.Findings[i], 300)
	if err != nil {
		return nil, err
	}
	gone, err := withoutTheFault(ctx, p, found, dir, s.Signature)
	if err != nil {
		return nil, err
	}
	return []string{
		fault,
		fmt.Sprintf("%s: %.1f%% (%.1f to %.1f)", s.Signature, 100*s.Share, 100*s.Low, 100*s.High),
		fmt.Sprintf("%.1f%%", 100*float64(true_)/many),
		reason(w), fmt.Sprint(w.Replays),
		fmt.Sprintf("%s, %.1f s, %s", count(small.After.Bots, "bot"), time.Duration(small.After.Length).Seconds(), count(small.After.Outcomes, "odd packet")), fmt.Sprint(small.Replays),
		gone,
	}, nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// reason is what was proved, for a cell.
func reason(w *replay.Why) string {
	switch {
	case w.Without > 0:
		return fmt.Sprintf("no packet: %d of %d matches in which every packet was delivered show it too. %s", w.Without, w.WithoutOf, w.Proved[strings.Index(w.Proved, "In the one of"):])
	case len(w.Packets) > 0:
		return strings.ReplaceAll(w.Packets[0].String(), "|", "/") + " " + w.Packets[0].Outcome
	}
	_, rest, _ := strings.Cut(w.Proved, "all the same, and ")
	return "no packet: " + rest
}

// withoutTheFault hunts with the same seeds in the game without the fault.
func withoutTheFault(ctx context.Context, p *plan.Plan, found *hunt.Result, dir, signature string) (string, error) {
	fixed, err := p.Vary([]plan.Change{{Path: "game.faults", Value: "[]"}})
	if err != nil {
		return "", err
	}
	after, err := hunt.Run(ctx, hunt.Options{Plan: fixed, First: 1, Times: hunted})
	if err != nil {
		return "", err
	}
	before, err := compare.Load(ctx, dir, compare.Playing{})
	if err != nil {
		return "", err
	}
	r := compare.Sides(before, &compare.Side{What: "hunt", Title: fixed.Title, Matches: after.Played}, compare.ErrorRate)
	for _, s := range r.Signatures {
		if s.Signature == signature {
			text := fmt.Sprintf("%s (p = %s)", s.State, report.PValue(s.P))
			if s.State == compare.PerhapsGone {
				text += fmt.Sprintf("; %d more matches on each side would tell", s.MoreMatches)
			}
			for _, m := range r.Measures {
				if m.Worse {
					text += fmt.Sprintf("; %s is worse: %.4g, was %.4g", m.Name, m.After, m.Before)
				}
			}
			return text, nil
		}
	}
	return "not compared", nil
}
