package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/ending"
)

// lessonLinks are the links on which the matches of a plan are played to learn from: its own, a
// clean one, a bad one, and its own with another seed.
var lessonLinks = []string{"", "same-room", "hill-farm", ""}

// playLessons plays the match of a plan on each of them, into folders that are to be removed when they were
// learned from. Rules of the plan are left out: they are what is to be learned.
func playLessons(c *cobra.Command, p *plan.Plan) (list []lessonFolder, remove func(), err error) {
	within, err := os.MkdirTemp("", "zwheel-lessons-")
	if err != nil {
		return nil, nil, failed(err)
	}
	remove = func() { os.RemoveAll(within) }
	for i, name := range lessonLinks {
		lesson := *p
		lesson.Seed += uint64(i)
		lesson.Rules.Fields, lesson.Rules.Events, lesson.Rules.Invariants = nil, nil, nil
		on := "its own links"
		if name != "" {
			on = name
			lesson.Bots = slices.Clone(p.Bots)
			for i := range lesson.Bots {
				lesson.Bots[i].Link = name
			}
		}
		folder := filepath.Join(within, strconv.Itoa(i))
		fmt.Fprintf(c.ErrOrStderr(), "match %d of %d: seed %d, on %s\n", i+1, len(lessonLinks), lesson.Seed, on)
		r, err := play(c, &lesson, folder, wallOptions(), "  ")
		switch {
		case err != nil:
			remove()
			return nil, nil, err
		case r.Ending.How == ending.Interrupted:
			remove()
			return nil, nil, quiet(exitInterrupted)
		case r.Ending.How == ending.Failed:
			remove()
			return nil, nil, failed(fmt.Errorf("seed %d on %s could not be played: %s", lesson.Seed, on, r.Ending.Why))
		}
		list = append(list, lessonFolder{fmt.Sprintf("seed %d, %s", lesson.Seed, on), folder})
	}
	return list, remove, nil
}

// isPlan reports whether a path is that of a plan, and not of a run folder.
func isPlan(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}
