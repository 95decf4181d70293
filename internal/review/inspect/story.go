package inspect

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// Chapter is one line of a story.
type Chapter struct {
	At   judge.Seconds `json:"t_s"`
	Who  string        `json:"who"`  // a view, or its link
	What string        `json:"what"` // state, input, event, mark, member, packet or log
	Text string        `json:"text"`
}

// Story tells what both sides of a finding said and did around a moment, in the order
// of time: states of its entity, inputs, events, marks, joins and leaves, packets that
// were lost or late on the view's link or not taken in, with their cargo, and logs.
func Story(ctx context.Context, run *run.Run, cargo *feed.Cargo, f *judge.Finding, reference string, from, until time.Duration) ([]Chapter, error) {
	var list []Chapter
	names := trace.AnyNames()
	entity := names.Entity(f.Entity)
	sides := []string{reference}
	if !slices.Contains(run.About.Views, reference) { // peers are held against each other
		sides = slices.Clone(run.About.Views)
	}
	if !slices.Contains(sides, f.View) {
		sides = append(sides, f.View)
	}
	for _, view := range sides {
		if !slices.Contains(run.About.Views, view) {
			continue
		}
		add := func(r *trace.Record, what, format string, args ...any) {
			list = append(list, Chapter{judge.Seconds(r.T), view, what, fmt.Sprintf(format, args...)})
		}
		last := map[trace.Field]trace.Value{}
		there := false
		read, err := linesOf(ctx, run.ViewPath(view), from-2*time.Second, until)
		if err != nil {
			return nil, err
		}
		read.each(names, func(r *trace.Record) {
			told := r.T >= from
			var changes []string
			has := false
			for _, c := range r.State {
				if c.Entity != entity {
					continue
				}
				has = true
				if v, known := last[c.Field]; c.Field != trace.Exists && (!known || v != c.Value) {
					last[c.Field] = c.Value
					changes = append(changes, names.FieldName(c.Field)+" "+names.Format(c.Value))
				}
			}
			gone := slices.Contains(r.Despawned, entity) || r.Full && !has
			if told && len(changes) > 0 {
				add(r, "state", "%s: %s", f.Entity, strings.Join(changes, ", "))
			}
			if gone && there && told {
				add(r, "state", "%s is gone", f.Entity)
			}
			if gone {
				clear(last)
			}
			there = (there || has) && !gone
			if !told {
				return
			}
			switch {
			case r.Joined != "":
				add(r, "member", "%s joined", r.Joined)
			case r.Left != "":
				add(r, "member", "%s left", r.Left)
			case r.Refused != "":
				add(r, "member", "%s was refused", r.Refused)
			}
			if r.Input != "" && view == f.View {
				add(r, "input", "%s (%d)", r.Input, r.Seq)
			}
			about := strings.TrimSpace(strings.Join([]string{r.Entity, r.By, r.ID}, " "))
			if r.Event != "" {
				add(r, "event", "%s %s", r.Event, about)
			}
			if r.Checkpoint != "" && r.Checkpoint != "sent" && r.Checkpoint != trace.LoadMark {
				add(r, "checkpoint", "%s %s", r.Checkpoint, about)
			}
		})
		chapters, err := logged(run, view, from, until)
		if err != nil {
			return nil, err
		}
		list = append(list, chapters...)
	}
	packets, err := wired(ctx, run, cargo, f.View, from, until)
	if err != nil {
		return nil, err
	}
	list = append(list, packets...)
	slices.SortStableFunc(list, func(a, b Chapter) int { return int(a.At - b.At) })
	return list, nil
}

func logged(run *run.Run, view string, from, until time.Duration) (list []Chapter, err error) {
	err = run.Log(view, func(at time.Duration, text string) {
		if at >= from && at <= until {
			list = append(list, Chapter{judge.Seconds(at), view, "log", text})
		}
	})
	return list, err
}

// wired tells the packets of a view's link that were lost or not taken in, or took half as long again
// as others.
func wired(ctx context.Context, folder *run.Run, cargo *feed.Cargo, view string, from, until time.Duration) (list []Chapter, err error) {
	file, err := trace.OpenFrom(folder.PacketsPath(), from-2*time.Second, run.SentAt)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	defer file.Close()
	var usual [2]time.Duration
	reader := run.NewPacketReader(file)
	reader.From = from - 2*time.Second // to know what is usual
	left := cargo.NotTakenIn(view)
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		name, p, err := reader.Next()
		if err != nil || p.Sent > until {
			return list, nil
		}
		if name != view {
			continue
		}
		add := func(format string, args ...any) {
			if p.Sent < from {
				return
			}
			text := fmt.Sprintf("%s %d, %d bytes: ", p.Direction, p.Number, p.Size) + fmt.Sprintf(format, args...)
			if said := cargo.Of(view, p.Direction, p.Number); said != "" {
				text += "; it carried " + said
			}
			list = append(list, Chapter{judge.Seconds(p.Sent), "link of " + view, "packet", text})
		}
		if p.Copies == 0 {
			add("%s", lossText(p.Dropped))
			continue
		}
		took, usual := p.Delay(), &usual[p.Direction]
		if slices.Contains(left, p) {
			add("arrived after %d ms, not taken in", took.Milliseconds())
		} else if *usual > 0 && took > *usual*3/2+20*time.Millisecond {
			add("late, %d ms on the way, usually %d", took.Milliseconds(), usual.Milliseconds())
		}
		if *usual == 0 {
			*usual = took
		}
		*usual += (took - *usual) / 16
	}
}

func lossText(r link.Reason) string {
	if r == link.LostInRow {
		return "lost, like the one before it"
	}
	return strings.ReplaceAll(r.String(), "-", " ")
}
