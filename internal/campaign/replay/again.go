package replay

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/metrics"
)

// Followed says how far a match that was played again followed the recording. Its JSON
// is that of zwheel replay --json.
type Followed struct {
	Clock   string   `json:"clock"`
	Replay  string   `json:"replay"` // its run folder
	Same    bool     `json:"same"`   // virtual: every line is; wall: the same signatures were found
	Files   int      `json:"files"`
	Lines   int      `json:"lines"` // that were compared on the virtual clock
	Differs string   `json:"differs,omitempty"`
	Reads   []string `json:"reads,omitempty"`  // where it differs, what programs read that is not the same each time
	Inside  string   `json:"inside,omitempty"` // of programs on the virtual clock: "same" if they also woke and waited in the same order, or "differs"

	// On the wall clock.
	Ways []WayFollowed `json:"ways,omitempty"`
	Gone []string      `json:"gone,omitempty"` // signatures that were not found again
	New  []string      `json:"new,omitempty"`
	Kept []string      `json:"kept,omitempty"`
}

// WayFollowed is how far one direction of a link followed.
type WayFollowed struct {
	Link         string  `json:"link"`
	Direction    string  `json:"direction"`
	Recorded     int     `json:"recorded"`          // packets
	Played       int     `json:"played"`            // packets
	Like         int     `json:"like"`              // of these, that one of the recording is like; the others had their outcomes drawn
	SameSize     int     `json:"same_size"`         // of these, with the same size
	Apart        float64 `json:"apart_ms"`          // median difference of their sending times
	ApartP95     float64 `json:"apart_p95_ms"`      //
	LikeOutcomes int     `json:"outcomes_as_given"` // packets that fared as recorded
}

// Again plays the match again into a folder: on the virtual clock from its plan and
// seed, on the wall clock with the recorded inputs and outcomes.
func (r *Recording) Again(ctx context.Context, l *Lab, folder string, options match.Options) (*Followed, *match.Result, error) {
	options.Folder = folder
	v := played.Variant{Plan: r.Plan}
	if r.Plan.Clock == plan.Wall {
		v = r.Same()
	} else {
		if r.unruled != nil {
			v.Plan, options.Rules = r.unruled, &r.Plan.Rules
		}
		options.StopAtFirst = r.Run.About.How == ending.Stopped
	}
	result, err := l.play(ctx, v, options)
	if err != nil {
		return nil, result, err
	}
	f := &Followed{Clock: r.Plan.Clock, Replay: folder}
	if r.Plan.Clock == plan.Wall {
		err = r.followedByWall(ctx, f, folder)
	} else {
		err = r.compareLines(f, folder)
	}
	return f, result, err
}

// compareLines compares all files of two run folders line by line. What a run left that
// did not come to its end has to be the beginning of the other.
func (r *Recording) compareLines(f *Followed, folder string) error {
	again, err := run.Open(folder)
	if err != nil {
		return err
	}
	how := r.Run.About.How
	cut := how == ending.Running || how == ending.Interrupted || how == ending.Failed
	type pair struct{ name, a, b string }
	pairs := []pair{{"packets", r.Run.PacketsPath(), again.PacketsPath()}}
	for _, view := range r.Run.About.Views {
		pairs = append(pairs, pair{"what " + view + " said", r.Run.ViewPath(view), again.ViewPath(view)},
			pair{"the log of " + view, filepath.Join(r.Run.Path, "logs", view+".log"), filepath.Join(folder, "logs", view+".log")})
	}
	if !cut {
		pairs = append(pairs, pair{"findings.json", r.Run.FindingsPath(), again.FindingsPath()})
		if !r.Plan.ByPrograms() { // of programs, measures tell also what nobody sees
			pairs = append(pairs, pair{"measures.json", filepath.Join(r.Run.Path, "measures.json"), filepath.Join(folder, "measures.json")})
		}
	}
	f.Inside = inside(r.Run, again)
	defer func() {
		if !f.Same {
			f.Reads = reads(r.Run, again)
		}
	}()
	f.Same = true
	for _, p := range pairs {
		lines, differs, err := sameLines(p.a, p.b, cut)
		if err != nil {
			return err
		}
		f.Files, f.Lines = f.Files+1, f.Lines+lines
		if differs != "" && f.Same {
			f.Same, f.Differs = false, p.name+" "+differs
		}
	}
	return nil
}

// inside says whether programs on the virtual clock woke and waited in the same order, or "" if
// there were none.
func inside(a, b *run.Run) string {
	var first, second metrics.Timing
	if !a.Timing(&first) || !b.Timing(&second) || first.Supervised == nil || second.Supervised == nil {
		return ""
	}
	if first.Supervised.Internal == second.Supervised.Internal {
		return "same"
	}
	return "differs"
}

// reads are what programs read of the real machine in either of two plays, the latest first.
func reads(runs ...*run.Run) (list []string) {
	var all []metrics.Read
	for _, one := range runs {
		var t metrics.Timing
		if one.Timing(&t) && t.Supervised != nil {
			all = append(all, t.Supervised.Reads...)
		}
	}
	slices.SortStableFunc(all, func(a, b metrics.Read) int { return cmp.Compare(b.At, a.At) })
	for _, r := range all {
		if text := r.Program + " " + r.What; !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	return list
}

// sameLines compares two files, seeing through their packing, and says where they
// differ.
func sameLines(a, b string, beginning bool) (lines int, differs string, err error) {
	fileA, errA := trace.Open(a)
	fileB, errB := trace.Open(b)
	for _, file := range []io.Closer{fileA, fileB} {
		if file != nil {
			defer file.Close()
		}
	}
	switch {
	case errors.Is(errA, fs.ErrNotExist) && (errB == nil || errors.Is(errB, fs.ErrNotExist)):
		return 0, "", nil // it is derived from the others and may be missing in a recording
	case errA != nil || errB != nil:
		return 0, "", errors.Join(errA, errB)
	}
	readA, readB := bufio.NewReaderSize(fileA, 256<<10), bufio.NewReaderSize(fileB, 256<<10)
	for {
		lineA, errA := readA.ReadBytes('\n')
		lineB, errB := readB.ReadBytes('\n')
		if errA != nil && !errors.Is(errA, io.EOF) {
			return lines, "", fmt.Errorf("%s: %w", a, errA)
		}
		if errB != nil && !errors.Is(errB, io.EOF) {
			return lines, "", fmt.Errorf("%s: %w", b, errB)
		}
		if beginning && errA != nil { // the last line may be torn
			return lines, "", nil
		}
		if !bytes.Equal(lineA, lineB) {
			return lines, fmt.Sprintf("differs from line %d on: recorded %s, now %s", lines+1, shortLine(lineA), shortLine(lineB)), nil
		}
		if errA != nil && errB != nil {
			return lines, "", nil
		}
		lines++
	}
}

func shortLine(line []byte) string {
	text := strings.TrimSpace(string(line))
	switch {
	case text == "":
		return "nothing more"
	case len(text) > 100:
		return text[:100] + " ..."
	}
	return text
}

// followedByWall says how far a match on the wall clock followed.
func (r *Recording) followedByWall(ctx context.Context, f *Followed, folder string) error {
	run, err := run.Open(folder)
	if err != nil {
		return err
	}
	said, err := feed.Recorded(ctx, run, r.Plan)
	if err != nil {
		return err
	}
	again := &Recording{Run: run, Plan: r.Plan, Verdict: said.Verdict, Outcomes: map[Way][]link.Outcome{}}
	if err := again.readOutcomes(); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, way := range ways(r.Plan) {
		f.Ways = append(f.Ways, followed(way, r.Outcomes[way], again.Outcomes[way]))
	}
	before, after := signatures(r), signatures(again)
	for _, s := range before {
		if slices.Contains(after, s) {
			f.Kept = append(f.Kept, s)
		} else {
			f.Gone = append(f.Gone, s)
		}
	}
	for _, s := range after {
		if !slices.Contains(before, s) {
			f.New = append(f.New, s)
		}
	}
	f.Same = f.Gone == nil && f.New == nil
	return nil
}

func signatures(r *Recording) (list []string) {
	if r.Verdict == nil {
		return nil
	}
	for _, f := range r.Verdict.Findings {
		if !slices.Contains(list, f.Signature) {
			list = append(list, f.Signature)
		}
	}
	return list
}

// followed compares the packets of one direction with the recording.
func followed(way Way, recorded, played []link.Outcome) WayFollowed {
	w := WayFollowed{Link: way.Link, Direction: way.Direction.String(), Recorded: len(recorded), Played: len(played)}
	var apart []time.Duration
	known := make([]link.Recorded, len(recorded))
	for i, f := range recorded {
		known[i] = link.Recorded{Sent: f.Sent, Size: f.Size}
	}
	like := link.NewLikeness(known, true)
	for _, b := range played {
		i, ok := like.Of(b.Sent, b.Size)
		if !ok {
			continue
		}
		a := recorded[i]
		w.Like++
		if a.Size == b.Size {
			w.SameSize++
		}
		given, is := a.Given(), b.Given()
		given.Number = is.Number
		if given == is {
			w.LikeOutcomes++
		}
		apart = append(apart, (a.Sent - b.Sent).Abs())
	}
	if apart != nil {
		slices.Sort(apart)
		w.Apart, w.ApartP95 = apart[len(apart)/2].Seconds()*1e3, apart[len(apart)*95/100].Seconds()*1e3
	}
	return w
}
