package replay

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
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
	"zitherwheel/internal/verdict/judge"
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

// appears says what whoever was to get the packets tells first, of what the finding is about, that is not in the
// recording, when they are delivered: of a build whose protocol nobody knows, that is what they carried. It is ""
// where that cannot be told.
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
	now, then, err := firstThatDiffers(again.ViewPath(view), c.Run.ViewPath(view), c.target.concerns())
	if err != nil || now == nil {
		return "", err
	}
	return view + " " + saidInstead(now, then), nil
}

// concern is what of a trace a finding is about; the zero value is all of it.
type concern struct {
	entity string
	fields []string // of it; nil is all
	event  string
}

func (t Target) concerns() (c concern) {
	c.entity = t.Entity
	switch of := judge.ParseSubject(t.Subject); of.About {
	case judge.AboutEvent:
		c.event = of.Name
	case judge.AboutFields:
		if of.Name != rulebook.Existence {
			c.fields = strings.Split(of.Name, ", ")
		}
	}
	return c
}

// of leaves of a record what the concern is about, and reports whether anything is left.
func (c concern) of(r *trace.Record, names *trace.Names) bool {
	if c.entity == "" && c.event == "" {
		return true
	}
	if c.event != "" || r.Event != "" {
		return r.Event == c.event || c.event == "" && r.Entity == c.entity
	}
	entity := names.Entity(c.entity)
	r.State = slices.DeleteFunc(r.State, func(ch trace.Change) bool {
		return ch.Entity != entity || ch.Field != trace.Exists && c.fields != nil && !slices.Contains(c.fields, names.FieldName(ch.Field))
	})
	r.Despawned = slices.DeleteFunc(r.Despawned, func(e trace.Entity) bool { return e != entity })
	r.Received, r.Predicted = nil, nil
	return len(r.State)+len(r.Despawned) > 0
}

// firstThatDiffers are the first lines about a concern that tell something else in two traces, but for when they do,
// and beside those about packets; nil if there are none in the first.
func firstThatDiffers(a, b string, about concern) (lineA, lineB []byte, err error) {
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
	readA, readB := newTelling(fileA, about), newTelling(fileB, about)
	for {
		lineA, errA := readA.next()
		lineB, _ := readB.next() // it may be the shorter one
		_, saidA, _ := bytes.Cut(lineA, []byte(","))
		_, saidB, _ := bytes.Cut(lineB, []byte(","))
		switch {
		case errA != nil:
			return nil, nil, nil
		case !bytes.Equal(saidA, saidB):
			return lineA, lineB, nil
		}
	}
}

// telling reads the lines of a trace about a concern.
type telling struct {
	about concern
	names *trace.Names
	lines *trace.Reader
}

func newTelling(file io.Reader, about concern) *telling {
	names := trace.AnyNames()
	return &telling{about, names, trace.NewReader(file, names)}
}

// next is the next line that tells something of the concern and is not about a packet, with no more in it.
func (t *telling) next() ([]byte, error) {
	for {
		var r trace.Record
		if err := t.lines.Next(&r); err != nil {
			return nil, err
		}
		if r.Sent != "" || r.Got != "" || !t.about.of(&r, t.names) {
			continue
		}
		var line bytes.Buffer
		w := trace.NewWriter(&line, t.names)
		if err := errors.Join(w.Write(&r), w.Flush()); err != nil {
			return nil, err
		}
		return line.Bytes(), nil
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
		case !there[ch.Entity] && (len(b.State) > 0 || len(a.State) > mostInstead): // all of it is new
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
