// Package sweep finds out under which conditions a game holds: it varies values of a
// plan and plays matches at points of the grid that they span, each until it is certain
// enough whether the game holds there. It plays a coarse grid first and then only where
// neighbours differ, so that the border is found with far fewer matches than there are
// points.
//
// It knows plans and how to have a match played, and nothing of how results are shown.
package sweep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"zitherwheel/internal/campaign"
	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/campaign/stats"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// Options say what is swept.
type Options struct {
	Plan     *plan.Plan
	Axes     []Axis
	Tolerate float64     // share of matches that may go wrong where the game holds; 0 means 10%
	Most     int         // matches at one point, at most; 0 means 60
	Full     bool        // play every point of the grid
	Crew     played.Crew // who plays; nil is this process
	Progress func(points, matches int)
}

// Mark is what is known of a point.
type Mark string

// What can be known of a point.
const (
	Holds   Mark = "holds"
	Fails   Mark = "fails"
	Between Mark = "between" // not certain with the most matches that may be played
	Failed  Mark = "failed"  // the matches could not be played
	Unknown Mark = ""        // not played, and its neighbours differ
)

// Point is one point of the grid.
type Point struct {
	At       []int    `json:"at"`     // by axis, counted from 0
	Values   []string `json:"values"` // likewise
	Mark     Mark     `json:"mark"`
	Inferred bool     `json:"inferred,omitempty"` // not played: all around it are the same
	Matches  int      `json:"matches"`
	Failed   int      `json:"failed"`
	Low      float64  `json:"share_low"` // of the true share that goes wrong, with 95% confidence
	High     float64  `json:"share_high"`
	First    string   `json:"first,omitempty"` // what went wrong most often
	Why      string   `json:"why,omitempty"`   // it could not be played

	Measures map[string]Typical `json:"measures,omitempty"` // by the names that limits have
}

// Result is what came of a sweep. Its JSON is sweep.json.
type Result struct {
	Title    string  `json:"title"`
	Axes     []Axis  `json:"axes"`
	Tolerate float64 `json:"tolerate"`
	Played   int     `json:"points_played"`
	Matches  int     `json:"matches"`
	Stopped  bool    `json:"interrupted"`
	Points   []Point `json:"points"` // of the whole grid, the last axis running fastest
}

const (
	usualTolerance = 0.1
	usualMost      = 60
	mostPoints     = 200_000
	coarse         = 4 // steps between the points that are played first
)

// Run sweeps. When ctx is done it sums up what there is.
func Run(ctx context.Context, o Options) (*Result, error) {
	if o.Tolerate == 0 {
		o.Tolerate = usualTolerance
	}
	if o.Most == 0 {
		o.Most = usualMost
	}
	if o.Crew == nil {
		o.Crew = played.Here{}
	}
	if least := stats.NewSPRT(o.Tolerate, o.Most).Least(); o.Most < least {
		return nil, fmt.Errorf("%w: that no more than %.3g%% go wrong takes %d matches at a point that all go right, and at most %d are allowed; allow more (--max), or tolerate more (--tolerate)",
			ErrLimit, 100*o.Tolerate, least, o.Most)
	}
	s := &sweeper{o: o, known: map[int]*Point{}}
	if n := s.size(); n > mostPoints {
		return nil, fmt.Errorf("%w: the grid has %d points, and at most %d are swept; take larger steps", ErrValue, n, mostPoints)
	}
	for _, a := range o.Axes { // every value must be possible before any is played
		if name, ok := o.unused(a); ok {
			return nil, fmt.Errorf("%w: %s: no bot is on the link %s, so nothing would change", ErrValue, a.Path, name)
		}
		for _, v := range a.Values {
			if _, err := o.Plan.Vary([]plan.Change{{Path: a.Path, Value: v}}); err != nil {
				return nil, fmt.Errorf("%w: %s=%s: %w", ErrValue, a.Path, v, err)
			}
		}
	}
	err := s.sweep(ctx)
	if err != nil && ctx.Err() == nil {
		return nil, err
	}
	return s.result(ctx), nil
}

// unused names the link that an axis varies, if nobody is on it, and nobody comes to it
// by another axis or by what the plan draws.
func (o *Options) unused(a Axis) (name string, ok bool) {
	words := strings.Split(a.Path, ".")
	if words[0] != "links" || len(words) < 2 {
		return "", false
	}
	name = words[1]
	on := slices.ContainsFunc(o.Plan.Bots, func(b plan.Bot) bool { return o.Plan.LinkOf(b).Name == name }) ||
		slices.Contains(o.Plan.Draw.Links, name) ||
		slices.ContainsFunc(o.Plan.Draw.Values, func(v plan.DrawnValue) bool { return slices.Contains(v.From, name) }) ||
		slices.ContainsFunc(o.Axes, func(other Axis) bool { return slices.Contains(other.Values, name) })
	return name, !on
}

type sweeper struct {
	o     Options
	lock  sync.Mutex
	known map[int]*Point
	boxes []box // that need no looking into
	plays int
}

// box is a part of the grid, both ends included.
type box struct{ low, high []int }

func (s *sweeper) sweep(ctx context.Context) error {
	if s.o.Full {
		var all [][]int
		for n := range s.size() {
			all = append(all, s.at(n))
		}
		return s.play(ctx, all)
	}
	boxes := s.coarse()
	for len(boxes) > 0 {
		var corners [][]int
		for _, b := range boxes {
			corners = append(corners, b.corners()...)
		}
		if err := s.play(ctx, corners); err != nil {
			return err
		}
		var next []box
		for _, b := range boxes {
			if s.same(b) {
				s.boxes = append(s.boxes, b)
			} else {
				next = append(next, b.split()...)
			}
		}
		boxes = next
	}
	return nil
}

// coarse parts the grid into boxes of a few steps.
func (s *sweeper) coarse() []box {
	boxes := []box{{}}
	for _, a := range s.o.Axes {
		var edges []int
		step := coarse
		if a.Listed {
			step = 1
		}
		for i := 0; i < len(a.Values)-1; i += step {
			edges = append(edges, i)
		}
		edges = append(edges, len(a.Values)-1)
		var more []box
		for _, b := range boxes {
			for i := range len(edges) - 1 {
				more = append(more, box{append(slices.Clone(b.low), edges[i]), append(slices.Clone(b.high), edges[i+1])})
			}
		}
		boxes = more
	}
	return boxes
}

func (b box) corners() (list [][]int) {
	list = [][]int{{}}
	for i := range b.low {
		var more [][]int
		for _, c := range list {
			more = append(more, append(slices.Clone(c), b.low[i]))
			if b.high[i] != b.low[i] {
				more = append(more, append(slices.Clone(c), b.high[i]))
			}
		}
		list = more
	}
	return list
}

// split halves a box along every side that is longer than a step. One that has none is
// done with.
func (b box) split() (list []box) {
	list = []box{{}}
	long := false
	for i := range b.low {
		var more []box
		for _, p := range list {
			add := func(low, high int) {
				more = append(more, box{append(slices.Clone(p.low), low), append(slices.Clone(p.high), high)})
			}
			if b.high[i]-b.low[i] > 1 {
				long = true
				middle := (b.low[i] + b.high[i]) / 2
				add(b.low[i], middle)
				add(middle, b.high[i])
			} else {
				add(b.low[i], b.high[i])
			}
		}
		list = more
	}
	if !long {
		return nil
	}
	return list
}

// same reports whether the game does the same at all corners of a box.
func (s *sweeper) same(b box) bool {
	mark := Unknown
	for i, c := range b.corners() {
		m := s.known[s.number(c)].Mark
		if i > 0 && m != mark {
			return false
		}
		mark = m
	}
	return mark == Holds || mark == Fails
}

func (s *sweeper) size() int {
	n := 1
	for _, a := range s.o.Axes {
		n *= len(a.Values)
	}
	return n
}

func (s *sweeper) number(at []int) (n int) {
	for i, a := range s.o.Axes {
		n = n*len(a.Values) + at[i]
	}
	return n
}

func (s *sweeper) at(n int) []int {
	at := make([]int, len(s.o.Axes))
	for i := len(at) - 1; i >= 0; i-- {
		at[i] = n % len(s.o.Axes[i].Values)
		n /= len(s.o.Axes[i].Values)
	}
	return at
}

// play plays the points that are not known yet, several at once.
func (s *sweeper) play(ctx context.Context, points [][]int) error {
	var missing [][]int
	asked := map[int]bool{}
	for _, at := range points {
		if n := s.number(at); s.known[n] == nil && !asked[n] {
			asked[n] = true
			missing = append(missing, at)
		}
	}
	return campaign.EachWithin(ctx, func() int { return s.o.Crew.AtOnce(s.o.Plan.Clock == plan.Wall) }, slices.Values(missing), func(at []int) error {
		p, err := s.point(ctx, at)
		if err != nil {
			return err
		}
		s.lock.Lock()
		defer s.lock.Unlock()
		s.known[s.number(at)] = p
		return nil
	})
}

// point plays matches at a point until it is certain, one way or the other.
func (s *sweeper) point(ctx context.Context, at []int) (*Point, error) {
	p := &Point{At: at}
	var changes []plan.Change
	for i, a := range s.o.Axes {
		p.Values = append(p.Values, a.Values[at[i]])
		changes = append(changes, plan.Change{Path: a.Path, Value: a.Values[at[i]]})
	}
	varied, err := s.o.Plan.Vary(changes)
	if err != nil {
		return nil, err
	}
	test := stats.NewSPRT(s.o.Tolerate, s.o.Most)
	found, measured := map[string]int{}, map[string][]float64{}
	tried, failures := uint64(0), 0 // those in a row
	for p.Mark == Unknown {
		one := *varied
		one.Seed = s.o.Plan.Seed + tried // the same seeds at all points
		m, err := s.o.Crew.Play(ctx, &one)
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
		s.tell()
		tried++
		if m.Verdict == played.Failed || m.Verdict == string(judge.NothingCompared) {
			if failures++; failures == mostFailures {
				p.Mark, p.Why = Failed, m.Why
			}
			continue
		}
		failures = 0
		p.Matches++
		for name, v := range m.Measures {
			measured[name] = append(measured[name], v)
		}
		wrong := m.Verdict == string(judge.OutOfSync)
		if wrong {
			p.Failed++
			for _, f := range m.Found {
				if found[f.Signature]++; found[f.Signature] > found[p.First] || p.First == "" {
					p.First = f.Signature
				}
			}
		}
		switch decided, bad := test.Saw(wrong); {
		case decided && bad:
			p.Mark = Fails
		case decided:
			p.Mark = Holds
		case test.Over():
			p.Mark = Between
		}
	}
	p.Low, p.High = test.Interval()
	p.Measures = typical(measured)
	return p, nil
}

const mostFailures = 3 // matches in a row that could not be played, and a point is given up

func (s *sweeper) tell() {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.plays++
	if s.o.Progress != nil {
		s.o.Progress(len(s.known), s.plays)
	}
}

// result sums up, and infers what lies between points that are the same.
func (s *sweeper) result(ctx context.Context) *Result {
	r := &Result{Title: s.o.Plan.Title, Axes: s.o.Axes, Tolerate: s.o.Tolerate, Played: len(s.known), Matches: s.plays, Stopped: ctx.Err() != nil}
	for n := range s.size() {
		at := s.at(n)
		if p := s.known[n]; p != nil {
			r.Points = append(r.Points, *p)
			continue
		}
		p := Point{At: at, High: 1}
		for i, a := range s.o.Axes {
			p.Values = append(p.Values, a.Values[at[i]])
		}
		for _, b := range s.boxes {
			if b.has(at) {
				p.Mark, p.Inferred = s.known[s.number(b.low)].Mark, true
				break
			}
		}
		r.Points = append(r.Points, p)
	}
	return r
}

func (b box) has(at []int) bool {
	for i := range at {
		if at[i] < b.low[i] || at[i] > b.high[i] {
			return false
		}
	}
	return true
}

// Border is how far the game holds at one value of the first of two axes.
type Border struct {
	Holds     string // the largest value of the second up to which it does; "" if it does nowhere
	Undecided string // and from there on up to this value nobody knows; "" if somebody does
}

func (b Border) String() string {
	switch {
	case b.Undecided == "" && b.Holds == "":
		return "nowhere"
	case b.Undecided == "":
		return b.Holds
	case b.Holds == "":
		return "undecided up to " + b.Undecided
	}
	return b.Holds + ", undecided up to " + b.Undecided
}

// Border is the border for each value of the first of two axes.
func (r *Result) Border() []Border {
	if len(r.Axes) != 2 {
		return nil
	}
	second := len(r.Axes[1].Values)
	list := make([]Border, len(r.Axes[0].Values))
	for x := range list {
		for y := range second {
			mark, value := r.Points[x*second+y].Mark, r.Axes[1].Values[y]
			if mark == Fails {
				break
			}
			if b := &list[x]; mark == Holds && b.Undecided == "" {
				b.Holds = value
			} else {
				b.Undecided = value
			}
		}
	}
	return list
}

// Undecided counts the points that were played and of which it is still not certain
// whether the game holds there.
func (r *Result) Undecided() (n int) {
	for _, p := range r.Points {
		if p.Mark == Between {
			n++
		}
	}
	return n
}

// Errors of a sweep that cannot be made.
var (
	ErrValue = errors.New("this cannot be varied so") // a value that the plan cannot have, or too many of them
	ErrLimit = errors.New("this can never be decided")
)

var errNothing = errors.New("no match could be played at any point")

// Err is an error if nothing could be played.
func (r *Result) Err() error {
	for _, p := range r.Points {
		if p.Matches > 0 {
			return nil
		}
	}
	for _, p := range r.Points {
		if p.Why != "" {
			return fmt.Errorf("%w: %s", errNothing, p.Why)
		}
	}
	return errNothing
}
