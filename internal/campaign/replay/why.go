package replay

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// Why is what was proved of a finding by playing its match again. Its JSON is that of
// zwheel why --json.
type Why struct {
	Finding         string    `json:"finding"` // its id
	Signature       string    `json:"signature"`
	View            string    `json:"view"`
	Entity          string    `json:"entity"`
	Began           float64   `json:"began_s"`
	Packets         []Culprit `json:"packets"`               // the smallest set that makes the difference; empty if no packet does
	Appears         string    `json:"appears,omitempty"`     // what whoever was to get them says first that is not in the recording, when they are delivered
	Gone            bool      `json:"gone"`                  // with these delivered, and all others as they were, the finding is gone
	There           bool      `json:"there"`                 // with these as they were, and all others delivered, it is there
	Suspects        int       `json:"suspects"`              // packets that were lost, late, doubled or damaged until then
	Beside          string    `json:"beside,omitempty"`      // what was done with the others for that
	Enough          []string  `json:"enough,omitempty"`      // which of several packets make it alone
	Counterpart     []string  `json:"counterpart,omitempty"` // what does it in the match in which every other packet is delivered
	Without         int       `json:"without,omitempty"`     // matches of other seeds that show it with every packet delivered,
	WithoutOf       int       `json:"without_of,omitempty"`  // of so many
	Order           *Order    `json:"order,omitempty"`       // of threads, where that makes it
	Needs           []Need    `json:"needs"`                 // what else was tried, where no packet matters
	Each            []Single  `json:"each,omitempty"`        // of the packets near the finding: what each does by itself
	Replays         int       `json:"replays"`
	Inconclusive    int       `json:"inconclusive_matches,omitempty"` // of these: not played, or not judged where the finding would be
	InconclusiveWhy string    `json:"inconclusive_why,omitempty"`     // the first of them
	Repeats         *Repeats  `json:"repeats,omitempty"`              // on the wall clock: in how many repeats of the recorded match it showed
	Misses          int       `json:"misses,omitempty"`               // and after how many matches without it a variant counted as one without it
	Proved          string    `json:"proved"`                         // in one sentence
	Unproved        []string  `json:"not_proved"`
	SoFar           string    `json:"-"` // what is known before it ends
}

// Culprit is a packet that makes the difference.
type Culprit struct {
	Packet    uint64  `json:"packet"`
	Link      string  `json:"link"`
	Direction string  `json:"direction"`
	Sent      float64 `json:"sent_s"`
	Bytes     int     `json:"bytes"`
	Outcome   string  `json:"outcome"`           // what became of it
	Carries   string  `json:"carries,omitempty"` // where that is known
}

func (c Culprit) String() string {
	to := "to"
	if c.Direction == link.Up.String() {
		to = "from"
	}
	text := fmt.Sprintf("packet %d %s %s %s", c.Packet, c.Direction, to, c.Link)
	if first, _, _ := strings.Cut(c.Carries, "; "); first != "" {
		if runes := []rune(first); len(runes) > mostInSentence {
			first = string(runes[:mostInSentence]) + " ..."
		}
		return text + fmt.Sprintf(" (%s, %.3f s)", first, c.Sent)
	}
	return text + fmt.Sprintf(" (%d bytes, %.3f s)", c.Bytes, c.Sent)
}

// mostInSentence is how much of what a packet carried stands in a sentence about it, in characters; the table has
// the rest.
const mostInSentence = 60

// Need is something other than packets that was changed.
type Need struct {
	What   string `json:"what"`   // what was changed
	There  bool   `json:"there"`  // the finding is still there
	Answer Answer `json:"answer"` // what the match says of it
}

// Single is a packet near a finding, and what comes of it by itself.
type Single struct {
	Culprit
	Delivered Told `json:"delivered"` // with it delivered, and all others as they were
	Alone     Told `json:"alone"`     // with it as it was, and the others as Beside says
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
	c := &inquiry{Recording: r, lab: l, target: targetOf(f)}
	w := &Why{Finding: f.ID, Signature: f.Signature, View: f.View, Entity: f.Entity, Began: time.Duration(f.BeganAt).Seconds(), Packets: []Culprit{}, Needs: []Need{}, Unproved: []string{}}
	var err error
	if r.Plan.Clock == plan.Wall {
		c.target.Entity, c.target.Near = "", 0 // what is alike may happen to another, and later
		err = c.onWall(ctx, w, f)
	} else {
		err = c.run(ctx, w, f)
	}
	var inconclusive *InconclusiveError
	if errors.As(err, &inconclusive) {
		w.Packets, w.Gone, w.There, err = []Culprit{}, false, false, nil
		w.Proved = fmt.Sprintf("Nothing is proved: %s.", inconclusive)
	}
	w.Replays = l.Replays()
	w.Inconclusive, w.InconclusiveWhy = l.Inconclusive()
	return w, err
}

// InconclusiveError is the error of an inconclusive match on which all that follows rests.
type InconclusiveError struct {
	What string
	Why  string
}

func (e *InconclusiveError) Error() string {
	return fmt.Sprintf("%s is inconclusive: %s", e.What, e.Why)
}

// inquiry is the search for the packets.
type inquiry struct {
	*Recording
	lab      *Lab
	target   Target
	until    time.Duration
	usual    map[Way]time.Duration
	suspects []suspect        // in the order in which they were sent
	company  func(i int) bool // those that must be as they were beside the ones that matter; nil is none
}

// suspect is a packet that fared other than most.
type suspect struct {
	Way
	outcome link.Outcome
}

func (c *inquiry) run(ctx context.Context, w *Why, f *judge.Finding) error {
	if err := c.horizon(ctx, f); err != nil {
		return err
	}
	if some, err := c.order(ctx, w); err != nil || some {
		return err
	}
	if some, err := c.takesPackets(ctx, w); err != nil {
		return err
	} else if some {
		if err := c.packets(ctx, w, f); err != nil {
			return err
		}
		return c.singles(ctx, w)
	}
	network, needs, err := c.otherwise(ctx, w)
	w.Proved = strings.TrimSpace("No packet matters: with every packet delivered the finding is still there, and " + network + ". " + needs)
	return err
}

// takesPackets reports whether the finding is gone with all suspects delivered, and says who these are: first
// those that were lost, doubled or damaged, and if that is not enough those that were late too.
func (c *inquiry) takesPackets(ctx context.Context, w *Why) (bool, error) {
	c.usual = map[Way]time.Duration{}
	for way, outcomes := range c.Outcomes {
		c.usual[way] = usual(outcomes)
	}
	for _, late := range []bool{false, true} {
		c.suspects = c.fared(late)
		w.Suspects = len(c.suspects)
		if len(c.suspects) == 0 {
			continue
		}
		switch answer, err := c.lab.ask(ctx, c.world(func(int) bool { return false }), c.target); {
		case err != nil:
			return false, err
		case answer == Gone:
			return true, nil
		case answer == Inconclusive:
			_, why := c.lab.Inconclusive()
			return false, &InconclusiveError{"the match with every packet delivered", why}
		}
	}
	return false, nil
}

// horizon finds until when the match must be played for the finding to show.
func (c *inquiry) horizon(ctx context.Context, f *judge.Finding) error {
	var certain time.Duration
	whole := c.Same()
	result, err := c.lab.play(ctx, whole, match.Options{Alert: func(a judge.Alert) {
		if certain == 0 && a.View == f.View && a.Entity == f.Entity && a.Subject == f.Subject && a.Began >= c.target.Began-findingNear && a.Began <= c.target.Began+findingNear {
			certain = a.At
		}
	}})
	if err != nil {
		return err
	}
	there := c.target.In(result.Verdict) != nil
	if c.Plan.Clock == plan.Wall { // nobody alerts there, and once is not enough
		certain = time.Duration(f.BeganAt) + 2*time.Second
		repeats, err := c.lab.repeat(ctx, whole, c.target)
		if err != nil {
			return err
		}
		there = repeats.Shown > 0
	}
	if !there {
		return ErrNotThere
	}
	if certain == 0 || certain+aftermath >= c.Plan.Duration {
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
		until = c.Plan.Duration
	}
	for _, way := range ways(c.Plan) {
		for _, outcome := range c.Outcomes[way] {
			odd := outcome.Copies != 1 || outcome.Flipped > 0 || outcome.Resent > 0
			if !odd && late {
				odd = (outcome.Delay() - c.usual[way]).Abs() > lateBy
			}
			if odd && outcome.Sent < until {
				list = append(list, suspect{way, outcome})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b suspect) int { return cmp.Compare(a.outcome.Sent, b.outcome.Sent) })
	return list
}

// world is the recorded match in which of the suspects only those that are kept fare
// as they did; the others are delivered after the usual time. Packets beyond those
// that were recorded are too.
func (c *inquiry) world(keep func(i int) bool) played.Variant {
	type packet struct {
		Way
		number uint64
	}
	healed := map[packet]bool{}
	for i, s := range c.suspects {
		if !keep(i) {
			healed[packet{s.Way, s.outcome.Number}] = true
		}
	}
	outcomes := c.outcomes()
	for way, list := range outcomes {
		for i := range list {
			if healed[packet{way, list[i].Number}] {
				list[i] = link.Given{Number: list[i].Number, Copies: 1, Delay: [2]time.Duration{c.usual[way]}, Like: list[i].Like}
			}
		}
	}
	v := played.Variant{Plan: c.given(outcomes), Script: c.Script, Until: c.until}
	for _, way := range ways(c.Plan) {
		course := courseOf(v.Plan, way)
		course.Conditions, course.Changes, course.Outages = link.Conditions{Latency: c.usual[way]}, nil, nil
	}
	return v
}

func (c *inquiry) shows(ctx context.Context, keep func(i int) bool) (bool, error) {
	return c.lab.shows(ctx, c.world(keep), c.target)
}

func (c *inquiry) gone(ctx context.Context, keep func(i int) bool) (bool, error) {
	return c.lab.gone(ctx, c.world(keep), c.target)
}

// sentence says in one sentence what was proved of packets.
func sentence(w *Why) string {
	names := make([]string, len(w.Packets))
	lost := true
	for i, p := range w.Packets {
		names[i] = p.String()
		_, drop := link.ParseReason(p.Outcome)
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
		delivered, fared = "delivered after the usual time", "as recorded"
	}
	text := fmt.Sprintf("With %s %s, the finding is gone", subject, delivered)
	switch {
	case !w.Gone:
		return fmt.Sprintf("With %s of all packets %s, %s, the finding is there; with all as they were but those delivered it is there too.", only, fared, subject)
	case !w.There:
		return text + "."
	case w.Beside == besideNothing:
		return fmt.Sprintf("%s; with %s %s, it is there.", text, only, fared)
	}
	return fmt.Sprintf("%s; with %s %s and %s, it is there.", text, only, fared, w.Beside)
}
