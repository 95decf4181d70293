// Falsefailures measures how often zwheel compare fails a CI on chance: it plays many
// matches of one plan, draws pairs of hunts from them, and counts the pairs in which
// something is called new, more frequent or worse. It prints the table of docs/trust.md:
//
//	go run ./internal/docs/falsefailures
package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"

	"zitherwheel/internal/campaign/compare"
	"zitherwheel/internal/campaign/hunt"
	_ "zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/plan"
)

const (
	pool  = 2000
	pairs = 1000
)

// Rare and frequent faults together, on links good and bad.
const text = `
title: several faults
duration: 8s
game: {faults: [once-unreliable, lost-goodbye, counted-twice]}
draw: {links: [village, hill-farm]}
bots: [{name: fern}, {name: moss, steps: [{do: join}, {do: roam}, {do: leave, at: 5s}]}, {name: oak, steps: [{do: join, at: 1s}, {do: roam}]}]
`

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	p, err := plan.Parse("several.yaml", []byte(text))
	if err != nil {
		return err
	}
	r, err := hunt.Run(context.Background(), hunt.Options{Plan: p, First: 1, Times: pool})
	if err != nil {
		return err
	}
	fmt.Printf("%d matches, %d in sync, %d signatures\n\n", r.Matches, r.InSync, len(r.Signatures))
	fmt.Println("| matches of each hunt | pairs that fail | of | new as such would be failure enough |")
	fmt.Println("|---|---|---|---|")
	random := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{6, 20, 40, 160} {
		failed, naive := 0, 0
		for range pairs {
			order := random.Perm(len(r.Played))
			side := func(at int) *compare.Side {
				s := &compare.Side{What: "hunt", Title: p.Title}
				for i, k := range order[at : at+n] {
					m := r.Played[k]
					m.Seed = uint64(at + i) // different seeds on both sides
					s.Matches = append(s.Matches, m)
				}
				return s
			}
			c := compare.Sides(side(0), side(n), compare.ErrorRate)
			if c.Worse() {
				failed++
			}
			for _, s := range c.Signatures {
				if s.Before.Matches == 0 {
					naive++
					break
				}
			}
		}
		fmt.Printf("| %d | %d | %d | %d |\n", n, failed, pairs, naive)
	}
	return nil
}
