package replay

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zitherwheel/bot"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/plan"
	"zitherwheel/stage"
)

// Why is what was proved of a finding by playing its match again. Its JSON is that of
// zwheel why --json.
type Why struct {
	Finding     string    `json:"finding"` // its id
	Signature   string    `json:"signature"`
	View        string    `json:"view"`
	Entity      string    `json:"entity"`
	Began       float64   `json:"began_s"`
	Packets     []Culprit `json:"packets"`               // the smallest set that makes the difference; empty if no packet does
	Gone        bool      `json:"gone"`                  // with these delivered, and all others as they were, the finding is gone
	There       bool      `json:"there"`                 // with these as they were, and all others delivered, it is there
	Suspects    int       `json:"suspects"`              // packets that were lost, late, doubled or damaged until then
	Beside      string    `json:"beside,omitempty"`      // what was done with the others for that
	Enough      []string  `json:"enough,omitempty"`      // which of several packets make it alone
	Counterpart []string  `json:"counterpart,omitempty"` // what does it in the match in which every other packet is delivered
	Without     int       `json:"without,omitempty"`     // matches of other seeds that show it with every packet delivered,
	WithoutOf   int       `json:"without_of,omitempty"`  // of so many
	Needs       []Need    `json:"needs"`                 // what else was tried, where no packet matters
	Replays     int       `json:"replays"`
	Of          int       `json:"runs_each,omitempty"` // on the wall clock: how often each variant was played
	Needed      int       `json:"needed,omitempty"`    // and in how many of them it had to show
	Proved      string    `json:"proved"`              // in one sentence
	Unproved    []string  `json:"not_proved"`
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
	if first, _, _ := strings.Cut(c.Carries, "; "); first != "" {
		return text + fmt.Sprintf(" (%s, %.3f s)", first, c.Sent)
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
	findingNear     = 2 * time.Second // a finding that begins so near counts as the same one
	counterpartNear = 3 * time.Second
	aftermath       = time.Second // played on after a finding has become certain
	lateBy          = 10 * time.Millisecond
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
	lab      *Lab
	target   Target
	until    time.Duration
	usual    map[Way]time.Duration
	suspects []suspect // in the order in which they were sent
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
		c.suspects = c.fared(late)
		w.Suspects = len(c.suspects)
		if len(c.suspects) == 0 {
			continue
		}
		there, err := c.shows(ctx, func(int) bool { return false })
		if err != nil {
			return err
		}
		if !there { // it takes some of them
			return c.packets(ctx, w)
		}
	}
	network, needs, err := c.otherwise(ctx, w)
	w.Proved = strings.TrimSpace("No packet matters: with every packet delivered the finding is there all the same, and " + network + ". " + needs)
	return err
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

// fared lists the packets that fared other than most: lost, doubled, damaged, sent
// again, and if asked for late or early ones.
func (c *inquiry) fared(late bool) (list []suspect) {
	until := c.until
	if until == 0 {
		until = c.Plan.Length
	}
	for _, way := range ways(c.Plan) {
		for _, fate := range c.Fates[way] {
			odd := fate.Copies != 1 || fate.Flipped > 0 || fate.Resent > 0
			if !odd && late {
				odd = (fate.Arrives[0] - fate.Sent - c.usual[way]).Abs() > lateBy
			}
			if odd && fate.Sent < until {
				list = append(list, suspect{way, fate})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b suspect) int { return cmp.Compare(a.fate.Sent, b.fate.Sent) })
	return list
}

// world is the recorded match in which of the suspects only those that are kept fare
// as they did; the others are delivered after the usual time. Packets beyond those
// that were recorded are too.
func (c *inquiry) world(keep func(i int) bool) Variant {
	type packet struct {
		Way
		number uint64
	}
	healed := map[packet]bool{}
	for i, s := range c.suspects {
		if !keep(i) {
			healed[packet{s.Way, s.fate.Number}] = true
		}
	}
	fates := c.fates()
	for way, list := range fates {
		for i := range list {
			if healed[packet{way, list[i].Number}] {
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

func (c *inquiry) shows(ctx context.Context, keep func(i int) bool) (bool, error) {
	return c.lab.shows(ctx, c.world(keep), c.target)
}

// packets finds which suspects the finding hangs on, when all of them delivered make it
// go away.
//
// A match goes another way as soon as something else happens in it, so it is asked from
// the end: up to the first packet that is delivered after all, the match is the very
// one that was recorded.
func (c *inquiry) packets(ctx context.Context, w *Why) error {
	c.lab.tell("with %d packets that fared badly delivered it is gone; looking for those that matter", len(c.suspects))
	// The latest one from which on all must be delivered for it to be gone.
	last, next := 0, len(c.suspects)
	for next-last > 1 {
		middle := (last + next) / 2
		there, err := c.shows(ctx, func(i int) bool { return i < middle })
		if err != nil {
			return err
		}
		if there {
			next = middle
		} else {
			last = middle
		}
	}
	gone := func(set []int) Variant { return c.world(func(i int) bool { return !slices.Contains(set, i) }) }
	set := []int{last}
	there, err := c.lab.shows(ctx, gone(set), c.target)
	if err != nil {
		return err
	}
	if there { // others after it would do its work
		rest := len(c.suspects) - last
		set, err = minimise(rest, func(sets [][]int) (int, error) {
			return c.lab.firstNot(ctx, len(sets), func(n int) Variant { return gone(shifted(sets[n], last)) }, c.target)
		})
		if err != nil {
			return err
		}
		set = shifted(set, last)
	}
	w.Gone = true
	if w.Packets, err = c.culprits(ctx, set); err != nil {
		return err
	}
	if err := c.alone(ctx, w, set); err != nil {
		return err
	}
	w.Proved = sentence(w)
	near := c.suspects[set[len(set)-1]]
	if near.Link == c.target.View && near.Direction == link.Down && c.target.Began-near.fate.Sent < findingNear+time.Second {
		return nil
	}
	return c.control(ctx, w)
}

// control asks whether such a finding needs such a packet at all, when the packet that
// was found came long before it, or went elsewhere: whatever happens in a match changes
// all that comes after it, so the packet may have done no more than that. Other matches
// are played, with other seeds, in which every packet is delivered.
func (c *inquiry) control(ctx context.Context, w *Why) error {
	if c.Plan.Clock == plan.Wall {
		w.Unproved = append(w.Unproved, "whether it takes such a packet at all: it came long before, or went to somebody else, and may only have let the match go this way")
		return nil
	}
	c.lab.tell("it came long before, or went elsewhere; looking for the finding in matches in which every packet is delivered")
	var lock sync.Mutex
	shown := map[uint64]*judge.Finding{}
	var group errgroup.Group
	group.SetLimit(max(1, c.lab.Workers, runtime.GOMAXPROCS(0)))
	for n := range uint64(controls) {
		group.Go(func() error {
			v := c.steady(1)
			p := *v.Plan
			p.Seed = c.Plan.Seed + n
			r, err := c.lab.play(ctx, Variant{Plan: &p}, stage.Options{})
			if err != nil {
				return err
			}
			if f := (Target{Signature: c.target.Signature}).In(r.Verdict); f != nil {
				lock.Lock()
				shown[p.Seed] = f
				lock.Unlock()
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if len(shown) == 0 {
		w.Unproved = append(w.Unproved, fmt.Sprintf("how it comes from there to the finding; none of %d matches with other seeds in which every packet was delivered showed such a one, so it seems to take a packet", controls))
		return nil
	}
	w.Without, w.WithoutOf = len(shown), controls
	w.Proved += fmt.Sprintf(" But it takes no such packet: of %d matches with other seeds in which every packet was delivered %d show such a finding. That packet only let this match go that way.", controls, len(shown))
	seed := slices.Min(slices.Collect(maps.Keys(shown)))
	return c.otherMatch(ctx, w, seed, shown[seed])
}

// otherMatch looks for what such a finding hangs on in another match that shows one.
func (c *inquiry) otherMatch(ctx context.Context, w *Why, seed uint64, f *judge.Finding) error {
	other := &inquiry{Recording: &Recording{Run: c.Run, Script: map[string][]bot.Moment{}, Fates: c.Fates}, lab: c.lab, usual: c.usual,
		target: Target{f.Signature, f.View, f.Entity, time.Duration(f.BeganAt), findingNear}}
	p := *c.Plan
	p.Seed = seed
	other.Plan = &p
	if _, err := c.lab.play(ctx, Variant{Plan: c.steadyOf(&p, 1)}, stage.Options{Silent: true, Acted: func(name string, m bot.Moment) {
		other.Script[name] = append(other.Script[name], m)
	}}); err != nil {
		return err
	}
	w.Needs = append(w.Needs, Need{fmt.Sprintf("the match of seed %d, every packet after the usual time", seed), true})
	network, needs, err := other.otherwise(ctx, w)
	w.Proved = strings.TrimSpace(fmt.Sprintf("%s In the one of seed %d, %s. %s", w.Proved, seed, network, needs))
	return err
}

const controls = 24

func shifted(set []int, by int) []int {
	moved := make([]int, len(set))
	for i, n := range set {
		moved[i] = n + by
	}
	return moved
}

// Beside shows what is left as it was beside the packets that matter.
const (
	besideNothing = "all others delivered"
	besideUp      = "all others to clients delivered"
)

// alone finds out in what company the packets make the finding: with all others
// delivered, with some of their neighbours lost too, or only in the match that the
// losses of what clients sent had made of it by then.
func (c *inquiry) alone(ctx context.Context, w *Why, set []int) error {
	in := func(i int) bool { return slices.Contains(set, i) }
	there, err := c.shows(ctx, in)
	if err != nil {
		return err
	}
	if there {
		w.There, w.Beside = true, besideNothing
		return c.single(ctx, w, set)
	}
	first := c.suspects[set[0]]
	var near []int // on the same way, shortly before
	for i, s := range c.suspects {
		if s.Way == first.Way && i < set[0] && first.fate.Sent-s.fate.Sent < findingNear {
			near = append(near, i)
		}
	}
	if len(near) > 0 {
		with := func(more []int) func(int) bool { return func(i int) bool { return in(i) || slices.Contains(more, i) } }
		if there, err = c.shows(ctx, with(near)); err != nil {
			return err
		}
		if there {
			more, err := minimise(len(near), func(sets [][]int) (int, error) {
				return c.lab.first(ctx, len(sets), func(n int) Variant { return c.world(with(chosen(near, sets[n]))) }, c.target)
			})
			if err != nil {
				return err
			}
			w.There, w.Beside = true, besideNothing
			w.Packets, err = c.culprits(ctx, append(chosen(near, more), set...))
			return err
		}
	}
	if there, err = c.shows(ctx, func(i int) bool { return in(i) || c.suspects[i].Direction == link.Up }); err != nil {
		return err
	}
	if there {
		w.There, w.Beside = true, besideUp
	} else if err := c.since(ctx, w, set, in); err != nil {
		return err
	}
	return c.counterpart(ctx, w, first)
}

func chosen(list, numbers []int) (some []int) {
	for _, n := range numbers {
		some = append(some, list[n])
	}
	return some
}

// since finds how far back all others can be delivered.
func (c *inquiry) since(ctx context.Context, w *Why, set []int, in func(int) bool) error {
	far, near := 0, set[0] // delivered from far on it is gone; from near on it is there
	for near-far > 1 {
		middle := (far + near) / 2
		there, err := c.shows(ctx, func(i int) bool { return in(i) || i < middle })
		if err != nil {
			return err
		}
		if there {
			near = middle
		} else {
			far = middle
		}
	}
	there, err := c.shows(ctx, func(i int) bool { return in(i) || i < near })
	if there {
		w.There, w.Beside = true, fmt.Sprintf("all others from %.3f s on delivered", c.suspects[near].fate.Sent.Seconds())
	}
	return err
}

// single finds out which of several packets does it alone.
func (c *inquiry) single(ctx context.Context, w *Why, set []int) error {
	if len(set) == 1 {
		return nil
	}
	few, err := minimise(len(set), func(sets [][]int) (int, error) {
		return c.lab.first(ctx, len(sets), func(n int) Variant {
			some := chosen(set, sets[n])
			return c.world(func(i int) bool { return slices.Contains(some, i) })
		}, c.target)
	})
	if err != nil || len(few) == len(set) {
		return err
	}
	names, err := c.culprits(ctx, chosen(set, few))
	for _, n := range names {
		w.Enough = append(w.Enough, n.String())
	}
	return err
}

// counterpart looks in the match in which every packet is delivered for a single one
// whose loss makes such a finding: what the packet carried may be carried by another
// there.
func (c *inquiry) counterpart(ctx context.Context, w *Why, like suspect) error {
	healthy := c.world(func(int) bool { return false })
	var sent []link.Fate
	if _, err := c.lab.play(ctx, healthy, stage.Options{Silent: true, Packet: func(p stage.Packet) {
		if p.Link == like.Link && p.Direction == like.Direction && (p.Sent-like.fate.Sent).Abs() < counterpartNear {
			sent = append(sent, p.Fate)
		}
	}}); err != nil {
		return err
	}
	target := c.target
	target.Entity = "" // another may be what it happens to
	losing := func(numbers []int) Variant {
		v := healthy
		v.Plan = ownLinks(healthy.Plan)
		course := courseOf(v.Plan, like.Way)
		lost := map[uint64]bool{}
		for _, n := range numbers {
			lost[sent[n].Number] = true
		}
		course.Given = slices.DeleteFunc(slices.Clone(course.Given), func(g link.Given) bool { return lost[g.Number] })
		for number := range lost {
			course.Given = append(course.Given, link.Given{Number: number, Dropped: link.Lost})
		}
		slices.SortFunc(course.Given, func(a, b link.Given) int { return cmp.Compare(a.Number, b.Number) })
		return v
	}
	all := make([]int, len(sent))
	for i := range all {
		all[i] = i
	}
	if len(all) == 0 {
		return nil
	}
	there, err := c.lab.shows(ctx, losing(all), target)
	if err != nil || !there {
		return err
	}
	set, err := minimise(len(all), func(sets [][]int) (int, error) {
		return c.lab.first(ctx, len(sets), func(n int) Variant { return losing(sets[n]) }, target)
	})
	if err != nil {
		return err
	}
	var culprits []Culprit
	for _, n := range set {
		culprits = append(culprits, c.culprit(like.Way, sent[n]))
		culprits[len(culprits)-1].Fate = link.Lost.String()
	}
	if err := c.describe(ctx, culprits, losing(set)); err != nil {
		return err
	}
	for _, culprit := range culprits {
		w.Counterpart = append(w.Counterpart, culprit.String())
	}
	return nil
}

// culprits tells what is known of suspects.
func (c *inquiry) culprits(ctx context.Context, set []int) ([]Culprit, error) {
	var list []Culprit
	for _, i := range set {
		list = append(list, c.culprit(c.suspects[i].Way, c.suspects[i].fate))
	}
	return list, c.describe(ctx, list, c.world(func(int) bool { return true }))
}

func (c *inquiry) culprit(way Way, f link.Fate) Culprit {
	return Culprit{Packet: f.Number, Link: way.Link, Direction: way.Direction.String(), Sent: f.Sent.Seconds(), Bytes: f.Size, Fate: fateText(f, c.usual[way])}
}

// describe finds out what packets carry in a match, where that can be known.
func (c *inquiry) describe(ctx context.Context, list []Culprit, in Variant) error {
	if c.Plan.Clock == plan.Wall {
		return nil
	}
	_, err := c.lab.play(ctx, in, stage.Options{Silent: true, Packet: func(p stage.Packet) {
		for i := range list {
			if list[i].Link == p.Link && list[i].Direction == p.Direction.String() && list[i].Packet == p.Number && p.Describe != nil {
				list[i].Carries = p.Describe()
			}
		}
	}})
	return err
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
	subject := strings.Join(names, " and ")
	if len(names) > 3 {
		subject = fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	delivered, only, fared := "delivered", "only that packet", "lost"
	if len(names) > 1 {
		only = "only those"
	}
	if !lost {
		delivered, fared = "delivered after the usual time", "faring as recorded"
	}
	text := fmt.Sprintf("With %s %s, the finding is gone", subject, delivered)
	switch {
	case !w.There:
		return text + "."
	case w.Beside == besideNothing:
		return fmt.Sprintf("%s; with %s %s, it is there.", text, only, fared)
	}
	return fmt.Sprintf("%s; with %s %s and %s, it is there.", text, only, fared, w.Beside)
}
