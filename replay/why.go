package replay

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/plan"
	"zitherwheel/stage"
)

// Why is what was proved of a finding by playing its match again. Its JSON is that of
// zwheel why --json.
type Why struct {
	Finding   string     `json:"finding"` // its id
	Signature string     `json:"signature"`
	View      string     `json:"view"`
	Entity    string     `json:"entity"`
	Began     float64    `json:"began_s"`
	Packets   []Culprit  `json:"packets"`    // the smallest set that makes the difference; empty if no packet does
	Gone      bool       `json:"gone"`       // with these delivered, and all others as they were, the finding is gone
	There     bool       `json:"there"`      // with these as they were, and all others delivered, it is there
	Suspects  int        `json:"suspects"`   // packets that were lost, late, doubled or damaged until then
	Also      [][]string `json:"also_alone"` // other sets that each make the finding too
	Needs     []Need     `json:"needs"`      // what else was tried, where no packet matters
	Replays   int        `json:"replays"`
	Of        int        `json:"runs_each,omitempty"` // on the wall clock: how often each variant was played
	Needed    int        `json:"needed,omitempty"`    // and in how many of them it had to show
	Proved    string     `json:"proved"`              // in one sentence
	Unproved  []string   `json:"not_proved"`
}

// Culprit is a packet that makes the difference.
type Culprit struct {
	Packet    uint64  `json:"packet"`
	Link      string  `json:"link"`
	Direction string  `json:"direction"`
	Sent      float64 `json:"sent_s"`
	Bytes     int     `json:"bytes"`
	Fate      string  `json:"fate"`              // what became of it
	Carries   string  `json:"carries,omitempty"` // where that is known
}

func (c Culprit) String() string {
	text := fmt.Sprintf("packet %d %s %s", c.Packet, c.Direction, map[string]string{"up": "from", "down": "to"}[c.Direction]) + " " + c.Link
	if c.Carries != "" {
		return text + fmt.Sprintf(" (%s, %.3f s)", c.Carries, c.Sent)
	}
	return text + fmt.Sprintf(" (%d bytes, %.3f s)", c.Bytes, c.Sent)
}

// Need is something other than packets that was changed.
type Need struct {
	What  string `json:"what"`  // what was changed
	There bool   `json:"there"` // the finding is there all the same
}

// ErrNotThere is the error of a finding that does not come again even when its match
// is played as it was recorded.
var ErrNotThere = errors.New("the finding does not come again when the match is played as it was recorded")

const (
	findingNear = 2 * time.Second // a finding that begins so near counts as the same one
	mostAlso    = 3               // other causes that are looked for
	aftermath   = time.Second     // played on after a finding has become certain
	lateBy      = 10 * time.Millisecond
)

// Why proves which packets a finding hangs on, or that it hangs on none.
func (r *Recording) Why(ctx context.Context, l *Lab, f *judge.Finding) (*Why, error) {
	c := &inquiry{Recording: r, lab: l, target: Target{f.Signature, f.View, f.Entity, time.Duration(f.BeganAt), findingNear}}
	w := &Why{Finding: f.ID, Signature: f.Signature, View: f.View, Entity: f.Entity, Began: time.Duration(f.BeganAt).Seconds(), Packets: []Culprit{}, Needs: []Need{}, Unproved: []string{}}
	if r.Plan.Clock == plan.Wall {
		w.Of, w.Needed = max(1, l.Runs), max(1, l.Needed)
	}
	err := c.run(ctx, w, f)
	w.Replays = l.Replays()
	return w, err
}

// inquiry is the search for the packets.
type inquiry struct {
	*Recording
	lab    *Lab
	target Target
	until  time.Duration
	usual  map[Way]time.Duration
}

// suspect is a packet that fared other than most.
type suspect struct {
	Way
	fate link.Fate
}

func (c *inquiry) run(ctx context.Context, w *Why, f *judge.Finding) error {
	if err := c.horizon(ctx, f); err != nil {
		return err
	}
	c.usual = map[Way]time.Duration{}
	for way, fates := range c.Fates {
		c.usual[way] = usual(fates)
	}
	// First those that were lost, doubled or damaged; then those that were late too.
	for _, late := range []bool{false, true} {
		suspects := c.suspects(late, f)
		w.Suspects = len(suspects)
		if len(suspects) == 0 {
			continue
		}
		there, err := c.lab.shows(ctx, c.world(suspects, nil), c.target)
		if err != nil {
			return err
		}
		if there {
			continue // it takes none of them
		}
		return c.packets(ctx, w, suspects)
	}
	return c.otherwise(ctx, w)
}

// horizon finds until when the match must be played for the finding to show.
func (c *inquiry) horizon(ctx context.Context, f *judge.Finding) error {
	var certain time.Duration
	whole := c.Same()
	result, err := c.lab.play(ctx, whole, stage.Options{Alert: func(a judge.Alert) {
		if certain == 0 && a.View == f.View && a.Entity == f.Entity && a.Fields == f.Fields && a.Began >= c.target.Began-findingNear && a.Began <= c.target.Began+findingNear {
			certain = a.At
		}
	}})
	if err != nil {
		return err
	}
	there := c.target.In(result.Verdict) != nil
	if c.Plan.Clock == plan.Wall { // nobody alerts there, and once is not enough
		certain = time.Duration(f.BeganAt) + 2*time.Second
		if !there && c.lab.Runs > 1 {
			if there, err = c.lab.shows(ctx, whole, c.target); err != nil {
				return err
			}
		}
	}
	if !there {
		return ErrNotThere
	}
	if certain == 0 || certain+aftermath >= c.Plan.Length {
		return nil
	}
	short := whole
	short.Until = certain + aftermath
	if there, err = c.lab.shows(ctx, short, c.target); there { // its kind may show only later
		c.until = short.Until
	}
	return err
}

// suspects lists the packets that fared other than most: lost, doubled, damaged, sent
// again, and if asked for late ones; first those on the link of the finding's view
// that were sent shortly before it began, the latest first.
func (c *inquiry) suspects(late bool, f *judge.Finding) (list []suspect) {
	until := c.until
	if until == 0 {
		until = c.Plan.Length
	}
	for _, way := range ways(c.Plan) {
		for _, fate := range c.Fates[way] {
			odd := fate.Copies != 1 || fate.Flipped > 0 || fate.Resent > 0
			if !odd && late {
				delay := fate.Arrives[0] - fate.Sent
				odd = delay > c.usual[way]+lateBy || delay < c.usual[way]-lateBy
			}
			if odd && fate.Sent < until {
				list = append(list, suspect{way, fate})
			}
		}
	}
	began := time.Duration(f.BeganAt)
	distance := func(s suspect) time.Duration {
		d := (began - s.fate.Sent).Abs()
		if s.Link != f.View {
			d += time.Hour
		}
		return d
	}
	slices.SortStableFunc(list, func(a, b suspect) int { return int(min(1, max(-1, distance(a)-distance(b)))) })
	return list
}

// world is the recorded match in which of the suspects only some fare as they did; the
// others are delivered after the usual time. Packets beyond those that were recorded
// are too.
func (c *inquiry) world(suspects []suspect, kept []int) Variant {
	type key struct {
		Way
		number uint64
	}
	healed := map[key]bool{}
	for _, s := range suspects {
		healed[key{s.Way, s.fate.Number}] = true
	}
	for _, i := range kept {
		delete(healed, key{suspects[i].Way, suspects[i].fate.Number})
	}
	fates := c.fates()
	for way, list := range fates {
		for i := range list {
			if healed[key{way, list[i].Number}] {
				list[i] = link.Given{Number: list[i].Number, Copies: 1, Delay: [2]time.Duration{c.usual[way]}}
			}
		}
	}
	v := Variant{Plan: c.given(fates), Script: c.Script, Until: c.until}
	for _, way := range ways(c.Plan) {
		course := courseOf(v.Plan, way)
		course.Quality, course.Changes, course.Outages = link.Quality{Latency: c.usual[way]}, nil, nil
	}
	return v
}

// packets finds the smallest set of suspects that makes the finding, and whether it is
// gone without them.
func (c *inquiry) packets(ctx context.Context, w *Why, suspects []suspect) error {
	c.lab.tell("without what the links did to %d packets it is gone; looking for those that matter", len(suspects))
	set, err := c.smallest(ctx, suspects)
	if err != nil {
		return err
	}
	if set == nil {
		w.Unproved = append(w.Unproved, "the packets that fared badly do not make the finding when all others are delivered after the usual time, so it hangs on their exact times too")
		w.Proved = fmt.Sprintf("With all %d packets that fared badly delivered after the usual time the finding is gone; which of them matter could not be told.", len(suspects))
		return nil
	}
	w.There = true
	if w.Packets, err = c.culprits(ctx, suspects, set); err != nil {
		return err
	}
	// Without them, and all others as they were, it should be gone. If it is not,
	// something else makes it too.
	left := suspects
	for healed := slices.Clone(set); ; {
		if w.Gone, err = c.lab.shows(ctx, c.world(pick(suspects, healed), nil), c.target); err != nil {
			return err
		}
		w.Gone = !w.Gone
		if w.Gone || len(w.Also) == mostAlso {
			break
		}
		left = slices.DeleteFunc(slices.Clone(suspects), func(s suspect) bool {
			return slices.ContainsFunc(healed, func(i int) bool {
				return suspects[i].Way == s.Way && suspects[i].fate.Number == s.fate.Number
			})
		})
		more, err := c.smallest(ctx, left)
		if err != nil {
			return err
		}
		if more == nil {
			break
		}
		names, err := c.culprits(ctx, left, more)
		if err != nil {
			return err
		}
		var also []string
		for _, n := range names {
			also = append(also, n.String())
		}
		w.Also = append(w.Also, also)
		for _, i := range more {
			healed = append(healed, slices.IndexFunc(suspects, func(s suspect) bool { return s.Way == left[i].Way && s.fate.Number == left[i].fate.Number }))
		}
	}
	w.Proved = sentence(w)
	if !w.Gone {
		w.Unproved = append(w.Unproved, "with them delivered the finding is still there: something else makes it too")
	}
	return nil
}

func pick(suspects []suspect, numbers []int) (list []suspect) {
	for _, i := range numbers {
		list = append(list, suspects[i])
	}
	return list
}

// smallest is the smallest set of suspects that makes the finding, or nil if all
// together do not. Those nearest are tried first.
func (c *inquiry) smallest(ctx context.Context, suspects []suspect) ([]int, error) {
	for n := min(8, len(suspects)); ; n = min(8*n, len(suspects)) {
		near := make([]int, n)
		for i := range near {
			near[i] = i
		}
		there, err := c.lab.shows(ctx, c.world(suspects, near), c.target)
		switch {
		case err != nil:
			return nil, err
		case there:
			return minimise(n, func(sets [][]int) (int, error) {
				return c.lab.first(ctx, len(sets), func(i int) Variant { return c.world(suspects, sets[i]) }, c.target)
			})
		case n == len(suspects):
			return nil, nil
		}
	}
}

// culprits tells what is known of the packets that matter.
func (c *inquiry) culprits(ctx context.Context, suspects []suspect, set []int) ([]Culprit, error) {
	var list []Culprit
	for _, i := range set {
		s := suspects[i]
		list = append(list, Culprit{Packet: s.fate.Number, Link: s.Link, Direction: s.Direction.String(), Sent: s.fate.Sent.Seconds(), Bytes: s.fate.Size, Fate: fateText(s.fate, c.usual[s.Way])})
	}
	slices.SortFunc(list, func(a, b Culprit) int { return int(min(1, max(-1, (a.Sent-b.Sent)*1e6))) })
	if c.Plan.Clock == plan.Wall {
		return list, nil
	}
	_, err := c.lab.play(ctx, c.world(suspects, set), stage.Options{Silent: true, Packet: func(p stage.Packet) {
		for i := range list {
			if list[i].Link == p.Link && list[i].Direction == p.Direction.String() && list[i].Packet == p.Number && p.Describe != nil {
				list[i].Carries = p.Describe()
			}
		}
	}})
	return list, err
}

// fateText says what became of a packet.
func fateText(f link.Fate, usual time.Duration) string {
	ms := func(d time.Duration) string { return fmt.Sprintf("%.0f ms", d.Seconds()*1e3) }
	switch {
	case f.Copies == 0:
		return f.Dropped.String()
	case f.Flipped > 0:
		return "damaged"
	case f.Copies > 1:
		return "arrived twice"
	case f.Resent > 0:
		return "held up for " + ms(f.Arrives[0]-f.Sent)
	}
	return fmt.Sprintf("arrived after %s instead of %s", ms(f.Arrives[0]-f.Sent), ms(usual))
}

// sentence says in one sentence what was proved of packets.
func sentence(w *Why) string {
	names := make([]string, len(w.Packets))
	lost := true
	for i, p := range w.Packets {
		names[i] = p.String()
		_, drop := link.ParseReason(p.Fate)
		lost = lost && drop
	}
	them, only := "that packet", "only that packet"
	if len(names) > 1 {
		them, only = "those packets", "only those"
	}
	with, fared := "delivered", "lost"
	if !lost {
		with, fared = "delivered after the usual time", "faring as recorded"
	}
	subject := strings.Join(names, " and ")
	if len(names) > 3 {
		subject = fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	switch {
	case w.Gone && w.Also == nil:
		return fmt.Sprintf("With %s %s, the finding is gone; with %s %s, it is there.", subject, with, only, fared)
	case w.Gone:
		return fmt.Sprintf("With %s %s, and what else makes it likewise, the finding is gone; with %s %s, it is there.", subject, with, only, fared)
	}
	return fmt.Sprintf("With %s of %s %s, the finding is there.", only, subject, strings.Replace(them, them, fared, 1))
}
