package replay

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// carried says what packets carry, as far as the programs of their match said it.
func carried(list []Culprit, by *feed.Cargo) {
	for i := range list {
		p := &list[i]
		for _, d := range []link.Direction{link.Up, link.Down} {
			if said := by.Of(p.Link, d, p.Packet); d.String() == p.Direction && said != "" {
				p.Carries = said
			}
		}
	}
}

// describe finds out what packets carry in a match, where that can be known and is not yet.
func (c *inquiry) describe(ctx context.Context, list []Culprit, in played.Variant) error {
	if c.Plan.Clock == plan.Wall || !slices.ContainsFunc(list, func(p Culprit) bool { return p.Carries == "" }) {
		return nil
	}
	options := match.Options{Silent: true, Packet: func(p match.Packet) {
		for i := range list {
			if q := &list[i]; q.Link == p.Link && q.Direction == p.Direction.String() && q.Packet == p.Number && q.Carries == "" && p.Describe != nil {
				q.Carries = p.Describe()
			}
		}
	}}
	if !c.Plan.ByPrograms() {
		_, err := c.lab.play(ctx, in, options)
		return err
	}
	folder, err := os.MkdirTemp("", "zwheel-why-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	options.Silent, options.Folder = false, filepath.Join(folder, "run")
	if _, err := c.lab.play(ctx, in, options); err != nil {
		return err
	}
	again, err := run.Open(options.Folder)
	if err != nil {
		return err
	}
	then, err := feed.Carried(ctx, again, c.Plan)
	if err == nil {
		carried(list, then)
	}
	return err
}

// appears says what whoever was to get the packets says first that is not in the recording, when
// they are delivered: of a build whose protocol nobody knows, that is what they carried. On the virtual
// clock nothing else differs until then. It is "" where that cannot be told.
func (c *inquiry) appears(ctx context.Context, set []int) (string, error) {
	if c.Plan.Clock == plan.Wall || !c.Plan.ByPrograms() || c.Plan.Untraced() {
		return "", nil
	}
	folder, err := os.MkdirTemp("", "zwheel-why-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "run")
	if _, err := c.lab.play(ctx, c.world(func(i int) bool { return !slices.Contains(set, i) }), match.Options{Folder: path}); err != nil {
		return "", err
	}
	again, err := run.Open(path)
	if err != nil {
		return "", err
	}
	view := c.suspects[set[0]].Link
	if c.suspects[set[0]].Direction == link.Up {
		view = rulebook.Server
	}
	now, then, err := firstThatDiffers(again.ViewPath(view), c.Run.ViewPath(view))
	if err != nil || now == nil {
		return "", err
	}
	return view + " " + saidInstead(now, then), nil
}

// firstThatDiffers are the first lines that differ in two traces, beside those about packets; nil if there
// are none in the first.
func firstThatDiffers(a, b string) (lineA, lineB []byte, err error) {
	fileA, err := trace.Open(a)
	if err != nil {
		return nil, nil, err
	}
	defer fileA.Close()
	fileB, err := trace.Open(b)
	if err != nil {
		return nil, nil, err
	}
	defer fileB.Close()
	readA, readB := bufio.NewReaderSize(fileA, 256<<10), bufio.NewReaderSize(fileB, 256<<10)
	for {
		lineA, errA := nextLine(readA)
		lineB, _ := nextLine(readB) // it may be the shorter one
		switch {
		case errA != nil:
			return nil, nil, nil
		case !bytes.Equal(lineA, lineB):
			return lineA, lineB, nil
		}
	}
}

// nextLine is the next line that is not about a packet.
func nextLine(lines *bufio.Reader) ([]byte, error) {
	for {
		line, err := lines.ReadBytes('\n')
		if bytes.Contains(line, []byte(`,"sent":"`)) || bytes.Contains(line, []byte(`,"got":"`)) {
			if r := recordOf(line, trace.AnyNames()); r.Sent != "" || r.Got != "" { // and not the data of an event
				continue
			}
		}
		return line, err
	}
}

// recordOf is what a line tells: nothing, if it cannot be read.
func recordOf(line []byte, names *trace.Names) (r trace.Record) {
	_ = trace.NewReader(bytes.NewReader(line), names).Next(&r)
	return r
}

// mostInstead is how many values are told that differ.
const mostInstead = 3

// saidInstead says what a line tells that another does not.
func saidInstead(now, then []byte) string {
	names := trace.NewNames()
	a, b := recordOf(now, names), recordOf(then, names)
	text := fmt.Sprintf("at %.3f s", a.T.Seconds())
	if a.Event != "" {
		return fmt.Sprintf("tells %s %s, and in the recording %s", strings.TrimSpace("event "+a.Event+" "+a.ID), text, otherwise(&b))
	}
	type place struct {
		entity trace.Entity
		field  trace.Field
	}
	was := map[place]trace.Value{}
	there := map[trace.Entity]bool{}
	for _, ch := range b.State {
		was[place{ch.Entity, ch.Field}], there[ch.Entity] = ch.Value, true
	}
	var parts []string
	told := map[trace.Entity]bool{}
	for _, ch := range a.State {
		before, known := was[place{ch.Entity, ch.Field}]
		switch id := names.EntityID(ch.Entity); {
		case told[ch.Entity]:
		case !there[ch.Entity]:
			told[ch.Entity] = true
			parts = append(parts, id)
		case ch.Field != trace.Exists && (!known || before != ch.Value):
			value := fmt.Sprintf("%s %s %s", id, names.FieldName(ch.Field), names.Format(ch.Value))
			if known {
				value += " and not " + names.Format(before)
			}
			parts = append(parts, value)
		}
	}
	for _, e := range a.Despawned {
		parts = append(parts, names.EntityID(e)+" gone")
	}
	if len(parts) == 0 {
		return fmt.Sprintf("says %s %s, and in the recording %s", shortLine(now), text, otherwise(&b))
	}
	if more := len(parts) - mostInstead; more > 0 {
		parts = append(parts[:mostInstead], fmt.Sprintf("%d more", more))
	}
	return fmt.Sprintf("shows %s %s", and(parts), text)
}

// otherwise is what a record was in the recording.
func otherwise(r *trace.Record) string {
	if r.Event != "" {
		return "tells event " + r.Event + " next"
	}
	return "does not"
}
