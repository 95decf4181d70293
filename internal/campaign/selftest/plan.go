package selftest

import (
	"fmt"
	"time"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/rulebook"
)

// Plan is the match of a self-test: four bots, one of whom joins late and one of
// whom leaves and returns, who run about, chase sheep, push gates and take the
// bell from each other. Some faults need more: a full server, a cheat, a
// small reach.
func planOf(fault, link string, seed int) (*plan.Plan, error) {
	game, cheat, faults, first, away := "", "", "", "", ""
	if fault != healthy {
		faults = "faults: [" + fault + "]"
	}
	switch fault {
	case "forgets-what-it-left":
		game = "interest-radius: 28, "
		first = "{do: chase, kind: gate, for: 5s}, "
		away = "{do: go, to: [40, 30]}, {do: idle, for: 1s}, {do: go, to: [-30, -6]}, "
		cheat = "{do: chase, kind: gate, for: 12s}, "
	case "empty-board":
		game = "population: 40, "
	case "shut-door":
		game = "max-players: 3, "
	case "believes-anything":
		cheat = "{do: cheat, sets: [place], to: [20, -20]}, {do: roam, for: 3s}, "
	case "different-endings":
		game = "population: 2, "
	case "two-masters":
		first = "{do: chase, kind: bell, at: 4s, for: 14s}, "
	case "wrong-order":
		for at := 4; at < 18; at++ { // all together, so that several are on the way at once
			first += fmt.Sprintf("{do: press, input: bark, at: %ds}, {do: roam, for: 300ms}, ", at)
		}
	case "loose-sheep":
		game = "rates: {send: 10}, "
	case healthy:
		// Every other healthy match has a cheat, a small reach, few places or slow sending.
		switch seed % 5 {
		case 1:
			game = "interest-radius: 28, "
		case 2:
			cheat = "{do: cheat, sets: [place], to: [20, -20]}, {do: cheat, sets: [stamina, speed]}, {do: roam, for: 3s}, "
		case 3:
			game = "max-players: 3, "
		case 4:
			game = "rates: {send: 8}, "
		}
	}
	p, err := plan.Parse(fault+".yaml", fmt.Appendf(nil, `
title: self-test of %[1]s
duration: 40s
seed: %[2]d
game: {%[3]s%[4]s}
bots:
  - name: fern
    link: %[5]s
    fps: 120
    steps: [{do: join}, %[7]s{do: roam, for: 4s}, {do: chase, kind: gate, for: 6s}, %[6]s{do: chase, kind: bell, for: 5s}, {do: roam}]
  - name: moss
    link: %[5]s
    steps: [{do: join}, %[7]s%[8]s{do: chase, kind: bell, for: 6s}, {do: roam, for: 8s}, {do: chase, kind: gate, for: 6s}, {do: go, to: [-40, 30]}, {do: roam, for: 3s}, {do: go, to: [-22, -6]}, {do: roam}]
  - name: ash
    link: %[5]s
    steps: [{do: join}, %[7]s{do: roam}, {do: leave, at: 20s}, {do: rejoin, at: 25s}, {do: chase, kind: sheep, for: 4s}, {do: roam}]
  - name: oak
    link: %[5]s
    fps: 30
    steps: [{do: join, at: 8s}, {do: chase, kind: sheep, for: 6s}, {do: chase, kind: bell, for: 5s}, {do: roam}]
`, fault, seed, game, faults, link, cheat, first, away))
	if err != nil {
		return nil, err
	}
	if fault == "legal-lag" {
		for i := range p.Rules.Fields {
			if r := &p.Rules.Fields[i]; r.Of != rulebook.Own && !r.TimeDriven {
				r.MaxDelay += 450 * time.Millisecond
			}
		}
	}
	return p, nil
}
